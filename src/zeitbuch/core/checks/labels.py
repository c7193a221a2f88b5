# A model is told to answer one word, a case waits for another: nothing fails, and the letter goes nowhere.
"""Checks of labels that models answer and cases wait for."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import join_words

from .records import Check, Hit
from .views import FlowView

_LITERAL = re.compile(r"""(?:==?=?|\bequals\b|\bis\b)\s*["']([^"']{1,40})["']""")
_BARE = re.compile(r"""(?:==?=?|\bequals\b)\s*([^\W\d][\w -]{0,39}?)\s*(?=$|&&|\|\||\band\b|\bor\b|[)\]}])""")
_WORD = re.compile(r"\w+")
_REST = frozenset(
    {"else", "default", "other", "otherwise", "rest", "fallback", "any", "none", "true", "false", "yes", "no"}
)


def _awaited(link: Link) -> list[str]:
    """The words that a case waits for: those of its condition, or its label where it has none."""
    if link.otherwise:
        return []
    words = [link.label]
    if link.condition:
        words = _LITERAL.findall(link.condition) or _BARE.findall(link.condition)
    return [word.strip() for word in words if word.strip() and word.strip().casefold() not in _REST]


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


def _asked(view: FlowView, decision: Step) -> Step | None:
    """The model whose answer a decision goes by; None where it is not one alone."""
    links = [link for link in view.graph.leaving.get(decision.id, ()) if link.role == "case"]
    sources = {ref.step for ref in decision.refs} | {ref.step for link in links for ref in link.refs}
    if len(sources) != 1:
        return None
    model = view.graph.steps.get(next(iter(sources)) or "")
    return (
        model
        if model is not None and model.kind == "model" and model.model is not None and model.model.prompts
        else None
    )


def _labels(view: FlowView) -> Iterator[tuple[Step, Step, str, list[str]]]:
    """Decisions by a model's answer: the decision, the model, its prompt, the words that are waited for."""
    for decision in view.steps:
        model = _asked(view, decision) if decision.kind == "decide" else None
        if model is None or model.model is None:
            continue
        links = [link for link in view.graph.leaving.get(decision.id, ()) if link.role == "case"]
        words = list(dict.fromkeys(word for link in links for word in _awaited(link)))
        yield decision, model, "\n".join(prompt.text for prompt in model.model.prompts), words


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


def _no_rest(view: FlowView) -> Iterator[Hit]:
    for decision, model, _, words in _labels(view):
        links = [link for link in view.graph.leaving.get(decision.id, ()) if link.role in ("case", "next")]
        rest = any(link.otherwise or link.role == "next" or link.label.casefold() in _REST for link in links)
        if len(words) > 1 and not rest:
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
          "A model answers something else sooner or later, and the run ends there.",
          "Decisions by a model's answer with no way for everything else.",
          "Answers that the platform holds to a list.",
          "Add a way for all else, to a person.", _no_rest),
)  # fmt: skip
