# A model is told to answer one word, a case waits for another: nothing fails, and the letter goes nowhere.
"""Checks of labels that models answer and cases wait for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import join_words

from ..answers import answers_of_field, listed_answers
from ..parts import prompt_text_of
from ..records import Check, Hit
from ..views import FlowView

_LITERAL = re.compile(r"""(?:==?=?|\bequals\b|\bis\b)\s*["']([^"']{1,40})["']""")
_BARE = re.compile(r"""(?:==?=?|\bequals\b)\s*([^\W\d][\w -]{0,39}?)\s*(?=$|&&|\|\||\band\b|\bor\b|[)\]}])""")
_WORD = re.compile(r"\w+")
_QUOTES = " \t\"'“”‘’„`"
_REST = frozenset(
    "else,default,other,others,otherwise,rest,fallback,any,none,true,false,yes,no,unknown,unclear,unsure,misc,everything else,anything else,"
    "no match,all other,all others,catch-all,not sure".split(",")
)


def _awaited(link: Link) -> list[str]:
    """The words that a case waits for: those of its condition, or its label where it has none."""
    if link.otherwise:
        return []
    words = [link.label]
    if link.condition:
        words = _LITERAL.findall(link.condition) or _BARE.findall(link.condition)
    plain = [word.strip(_QUOTES) for word in words]
    return [word for word in plain if word and word.casefold() not in _REST]


def _plain(text: str) -> str:
    return "".join(_WORD.findall(text.casefold())).replace("_", "")


def _phrases(text: str) -> dict[str, str]:
    """Runs of one to three words of a text without what stands between them -> as they are written."""
    words = list(_WORD.finditer(text))
    found: dict[str, str] = {}
    for length in (3, 2, 1):
        for start in range(len(words) - length + 1):
            run = text[words[start].start() : words[start + length - 1].end()]
            if len(run) <= 60:
                found[_plain(run)] = run
    return found


def _says(text: str, word: str) -> bool:
    """Whether a text has a word or phrase, up to case and runs of blanks."""
    wanted = r"\s+".join(map(re.escape, word.split()))
    return re.search(rf"(?<!\w){wanted}(?!\w)", text, re.IGNORECASE) is not None


@lru_cache(maxsize=1)  # all checks of this file ask for it, one after the other
def _labels(view: FlowView) -> list[tuple[Step, Step, str, list[str]]]:
    """Decisions by a model's answer: the decision, the model, its prompt, the words that are waited for."""
    found = []
    for decision in view.steps if "decide" in view.kinds else ():
        model = view.asked_model(decision) if decision.kind == "decide" else None
        if model is not None:
            words = dict.fromkeys(word for link in view.cases_of(decision) for word in _awaited(link))
            found.append((decision, model, prompt_text_of(model), list(words)))
    return found


def _answers(view: FlowView, decision: Step, prompt: str) -> tuple[str, ...]:
    """The answers that the prompt lists; of the field that the decision goes by, where it goes by one."""
    paths = {ref.path for link in view.cases_of(decision) for ref in view.refs_of_link(link)}
    paths |= {ref.path for ref in decision.refs}
    field = paths.pop().rpartition(".")[2] if len(paths) == 1 else ""
    return answers_of_field(prompt, field) or listed_answers(prompt)


def _near_labels(view: FlowView) -> Iterator[Hit]:
    for decision, model, prompt, words in _labels(view):
        phrases = _phrases(prompt)
        for word in words:
            if not _says(prompt, word) and _plain(word) in phrases:
                said = phrases[_plain(word)]
                yield Hit(
                    decision,
                    f"{quote_name(model.title)} is told to answer {quote_name(said)}, {quote_name(decision.title)} waits for {quote_name(word)}",
                )


def _unasked_labels(view: FlowView) -> Iterator[Hit]:
    for decision, model, prompt, words in _labels(view):
        phrases = _phrases(prompt)
        missing = [word for word in words if not _says(prompt, word) and _plain(word) not in phrases]
        # Where the prompt names none of them, it says them in some other way.
        if missing and len(missing) < len(words):
            names = join_words([quote_name(word) for word in missing])
            yield Hit(
                decision,
                f"{quote_name(decision.title)} waits for {names}: not named in the prompt of {quote_name(model.title)}",
                False,
            )


def _has_rest(view: FlowView, decision: Step) -> bool:
    """Whether a decision has a way for everything else."""
    links = [link for link in view.graph.leaving.get(decision.id, ()) if link.role in ("case", "next")]
    return any(link.otherwise or link.role == "next" or link.label.casefold() in _REST for link in links)


def _compared(view: FlowView, decision: Step) -> list[str]:
    """The words that a decision by data compares one value with; none where it has a way for the rest, or compares otherwise."""
    cases = view.cases_of(decision)
    words = [_LITERAL.findall(link.condition) for link in cases]
    refs = {(ref.step, ref.variable, ref.path) for link in cases for ref in view.refs_of_link(link)}
    same = len(refs) == 1 and all(len(found) == 1 for found in words)
    return [found[0] for found in words] if same and not _has_rest(view, decision) else []


def _answers_without_case(view: FlowView) -> Iterator[Hit]:
    for decision, model, prompt, words in _labels(view):
        if _has_rest(view, decision) or len(words) != len(view.cases_of(decision)):
            continue
        plain = {_plain(word) for word in words}
        answers = _answers(view, decision, prompt)
        lost = [answer for answer in answers if _plain(answer) not in plain]
        if lost and len(lost) < len(answers):
            names = join_words([quote_name(word) for word in lost])
            told = f"{quote_name(model.title)} may answer {names}, and {quote_name(decision.title)} has no case for it"
            yield Hit(decision, told, False)


def _other_language(view: FlowView) -> Iterator[Hit]:
    for decision, model, prompt, words in _labels(view):
        answers = _answers(view, decision, prompt) if len(words) > 1 else ()
        said = any(_says(prompt, word) or _plain(word) in map(_plain, answers) for word in words)
        if len(answers) > 1 and not said:
            asked, waits = (join_words([quote_name(word) for word in row]) for row in (answers, words))
            told = f"{quote_name(model.title)} is told to answer {asked}, {quote_name(decision.title)} waits for {waits}: none is the same"
            yield Hit(decision, told, False)


def _differing_words(view: FlowView) -> Iterator[Hit]:
    for one in view.estate.differing_words.get(view.flow.title, ()):
        writers = join_words([quote_name(name) for name in one.writers])
        told = (
            f"waits for {quote_name(one.awaited)} in {one.field}, which {writers} writes as {quote_name(one.written)}"
        )
        yield Hit(None, told, False)


def _no_rest(view: FlowView) -> Iterator[Hit]:
    for decision in view.steps if "decide" in view.kinds else ():
        if (
            decision.kind == "decide"
            and view.asked_model(decision) is None
            and len(words := _compared(view, decision)) > 1
        ):
            known = join_words([quote_name(word) for word in words])
            yield Hit(decision, f"{quote_name(decision.title)} knows {known}: whatever else comes goes nowhere", False)
    for decision, model, _, words in _labels(view):
        if len(words) > 1 and not _has_rest(view, decision):
            known = join_words([quote_name(word) for word in words])
            told = f"{quote_name(decision.title)} knows {known}: whatever else {quote_name(model.title)} answers goes nowhere"
            yield Hit(decision, told, False)


CHECKS: tuple[Check, ...] = (
    Check("label-spelled-otherwise", "high", "a case waits for a word that is never answered",
          "What should go that way goes nowhere, and nothing fails.",
          "The words that the cases of a decision wait for against the prompt of the model it goes by: equal but for blanks and signs.",
          "Answers in other words altogether; decisions by several values. Case alone is no difference.",
          "Write both alike.", _near_labels),
    Check("label-not-asked", "medium", "a case waits for a word that the prompt does not name",
          "The model cannot know that word.",
          "Some words of the cases stand in the prompt, and others do not.",
          "Words that examples or schemas give.",
          "Name every answer in the prompt.", _unasked_labels),
    Check("case-rest-missing", "low", "no way for any other answer",
          "Something else comes sooner or later, and the run ends there.",
          "Decisions by a model's answer, or that compare one value with fixed words, with no way for everything else.",
          "Answers that the platform holds to a list.",
          "Add a way for all else, to a person.", _no_rest),
    Check("answer-without-case", "medium", "an answer that no case waits for",
          "A model does as it is told, and the run ends there.",
          "The answers that the prompt lists against the cases of a decision that has no way for everything else.",
          "Answers that the prompt lists in other ways than 'answer with A, B or C', or in brackets behind the name of a field.",
          "Add a case, or a way for everything else.", _answers_without_case),
    Check("labels-in-other-words", "high", "cases in other words than the answers",
          "No case ever fits: often the prompt speaks one language and the cases another.",
          "The prompt lists its answers, and no case of the decision waits for any of them.",
          "Answers that a step between translates.",
          "Write both in one language.", _other_language),
    Check("status-words-differ", "medium", "two flows write a status word in two ways",
          "One flow writes a word, and the flow that waits for it waits for another.",
          "Fixed words that flows write to a field, and words that others compare the field of that name with: equal but for case, plural or a letter.",
          "Words that steps compute; fields of two systems that only have the same name.",
          "Write the word alike in both.", _differing_words, of_estate=True),
)  # fmt: skip
