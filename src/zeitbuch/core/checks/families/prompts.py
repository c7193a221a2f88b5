# What prompts ask for and are not given, or ask for and nobody takes.
"""Checks of prompts."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.records import ModelUse, Ref, Step, Trigger
from zeitbuch.core.model.words import join_words
from zeitbuch.core.pricing.asked_answers import asked_length
from zeitbuch.core.pricing.token_count import count_tokens

from ..near_prompts import ENOUGH_WORDS
from ..parts import prompt_text_of, refs_of_part
from ..records import Check, Hit
from ..views import FlowView
from .outside import words_in

# What only somebody who knows the day can write.
_DATE = re.compile(
    r"(?i)\btoday(?:['’]s)?\b|\btomorrow\b|\byesterday\b|\b(?:current|present)\s+(?:date|day|time|month|year|week)\b|"
    r"\b(?:this|next|last)\s+(?:week|month|year|monday|tuesday|wednesday|thursday|friday|saturday|sunday)\b|\bdate of (?:today|the day)\b|"
    r"\b(?:heute|heutig\w*|morgen früh|aujourd['’]hui|hoy|oggi|dzisiaj|dziś|i dag|idag|vandaag)\b"
)
# One of these stands in whatever the expression finds: a look for them is quick.
_DATE_WORDS = (
    "day", "tomorrow", " date", " time", " week", " month", " year", "heut", "morgen", "aujourd", "hoy", "oggi", "dzi", "dag", "vandaag",
)  # fmt: skip
_LENGTH_WORDS = (" words", " sentence", " paragraph", " line", " point", " bullet", " character", " letter")
_QUOTED = re.compile(r"\"[^\"]*\"|“[^”]*”|‘[^’]*’|„[^“”]*[“”]|`[^`]*`|(?<!\w)'[^']*'(?!\w)")
_EXAMPLE = re.compile(r"(?i)\b(?:e\.g\.|for example|such as|example:|examples:)[^.\n]*")
_TIME_WORDS = frozenset(
    "date time day now today timestamp datum uhrzeit zeit fecha hora data moment clock calendar created received sent fired scheduled at "
    "month week year started due".split()
)
_GIVES_TIME = re.compile(
    r"(?i)\b(?:today|date|now|day|time)\s*(?:is|:|=)\s*\{|\$?\bnow\b\s*\(|\{[^{}]*\b(?:now|today|date|time)\b[^{}]*\}"
)
_JSON = re.compile(r"\bJSON\b")
_NO_JSON = re.compile(r"(?i)\b(?:no|not|never|without|avoid|don't|do not)\b[^.\n]{0,30}$")
_WHOLE = frozenset(
    {"", "text", "content", "output", "answer", "response", "message", "reply", "result", "completion", "out"}
)
_PARSES = frozenset({"code", "shape", "parse"})
_WORDS_ASKED = re.compile(r"(\d{2,5})\s+words\b", re.IGNORECASE)
_LEADS = re.compile(r"(?i)\b(?:at least|about|around|exactly|some|roughly|up to|at most|of|in|write|no more than)\s+$")
_SHORT = 300  # tokens: an answer of more is not cut off by a length told in sentences
_PER_WORD = 1.2  # fewest tokens that a word takes


def _dates_not_given(view: FlowView) -> Iterator[Hit]:
    for step, _ in view.with_model if any(word in view.lower_text for word in _DATE_WORDS) else ():
        text = prompt_text_of(step) if step.kind in MODEL_KINDS else ""
        found = _DATE.search(text)
        found = _DATE.search(_EXAMPLE.sub(" ", _QUOTED.sub(" ", text))) if found is not None else None
        if found is not None and not _knows_time(view, step):
            yield Hit(
                step,
                f"the prompt of {quote_name(step.title)} speaks of {quote_name(found.group())}, and nothing tells the model the day",
                False,
            )


def _knows_time(view: FlowView, step: Step) -> bool:
    """Whether a model is given a time: by a value that it takes, a whole record that may hold one, or a tool."""
    if _GIVES_TIME.search(prompt_text_of(step)):
        return True
    refs = list(refs_of_part(step))
    sources = [view.graph.steps[ref.step] for ref in refs if ref.step in view.graph.steps]
    named = [f"{ref.path} {ref.variable or ''}" for ref in refs] + [one.name for one in step.inputs]
    named += [f"{one.name} {one.operation}" for one in (*sources, *view.graph.tools_of(step.id))]
    return any(set(words_in(name)) & _TIME_WORDS for name in named)


def _small_caps(view: FlowView) -> Iterator[Hit]:
    for step, use in view.with_model if any(word in view.lower_text for word in _LENGTH_WORDS) else ():
        if use.max_output is None:
            continue
        may = f"{quote_name(step.title)} may answer {use.max_output:,} tokens, and its prompt"
        text = prompt_text_of(step)
        asked = _words_asked(text) if "words" in text else []
        if len(asked) == 1 and asked[0] * _PER_WORD > use.max_output:
            yield Hit(step, f"{may} speaks of {asked[0]:,} words")
        elif not asked and (said := _longer_than(use, use.max_output)):
            yield Hit(step, f"{may} asks for {said}", False)


def _longer_than(use: ModelUse, most: int) -> str:
    """The length that a prompt asks for in other words than a number of words, where it is far more than a cap."""
    length = asked_length(use.prompts) if most < _SHORT else None
    return length[1] if length is not None and length[0] > max(40, 4 * most) else ""


def _words_asked(text: str) -> list[int]:
    """The numbers of words that a text asks for."""
    return [
        int(found.group(1))
        for found in _WORDS_ASKED.finditer(text)
        if _LEADS.search(text[max(0, found.start() - 16) : found.start()])
    ]


def _beyond_context(view: FlowView) -> Iterator[Hit]:
    for step, use in view.with_model if view.estate.card is not None else ():
        rate = view.estate.rate_of(step)
        if rate is None or rate.context is None:
            continue
        answer = use.max_output or 0
        text = prompt_text_of(step)
        if len(text) + 4 * answer < rate.context:  # a token is a letter at the least: no need to count
            continue
        tokens = count_tokens(text, rate.family) + answer
        if tokens > rate.context:
            told = f"{quote_name(step.title)} sends {tokens - answer:,.0f} tokens of its own and may answer {answer:,}; {use.name} takes {rate.context:,} together"
            yield Hit(step, told)


def _json_for_nobody(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("model") if "JSON" in view.all_text else ():
        users = view.users.get(step.id, ()) if _asks_for_json(prompt_text_of(step)) else ()
        if users and all(_takes_whole(part, ref) for part, ref in users):
            names = join_words(list(dict.fromkeys(quote_name(part.title) for part, _ in users)))
            yield Hit(
                step,
                f"{quote_name(step.title)} is asked for JSON, and {names} takes it as it is: nobody reads its fields",
                False,
            )


def _asks_for_json(text: str) -> bool:
    return any(_NO_JSON.search(text[: found.start()]) is None for found in _JSON.finditer(_QUOTED.sub(" ", text)))


def _takes_whole(part: Step | Trigger, ref: Ref) -> bool:
    """Whether a step that sends or writes takes an answer as a text."""
    return (
        isinstance(part, Step)
        and part.kind not in _PARSES
        and part.effect in ("send", "write")
        and ref.path.casefold() in _WHOLE
    )


def _nearly_equal_prompts(view: FlowView) -> Iterator[Hit]:
    for step, other, words in view.estate.near_prompts.get(view.flow.id, ()):
        yield Hit(step, f"the prompt of {quote_name(step.title)} is that of {other} but for {words}", False)


CHECKS: tuple[Check, ...] = (
    Check("date-not-given", "medium", "a prompt speaks of today, and nobody says when that is",
          "A model knows no day: it writes one that it makes up.",
          "Words such as today, tomorrow or current date in prompts, outside quotes and examples, of models that take no time, record or tool with one.",
          "Dates within whole records that the prompt takes: those count as given only where the name of the value says so.",
          "Put the date into the prompt.", _dates_not_given),
    Check("answer-cap-too-small", "medium", "answers are cut off",
          "The letter ends in the middle of a sentence.",
          "The most tokens of an answer against the words that the prompt asks for.",
          "Lengths that the prompt does not state.",
          "Raise the cap, or ask for less.", _small_caps),
    Check("prompt-beyond-context", "high", "a prompt that the model cannot take",
          "The call fails, or the vendor cuts the beginning off.",
          "The tokens of the prompt's own text and the most tokens of the answer against `context` of the model on the rate card.",
          "What values add to the prompt in a run.",
          "Shorten the prompt, lower the cap, or take a model with more room.", _beyond_context),
    Check("json-for-nobody", "low", "JSON that nobody reads",
          "The receiver gets braces and quotes.",
          "Prompts that ask for JSON, and whose answer only steps that send or write take, whole.",
          "Receivers that are machines.",
          "Take its fields, or ask for text.", _json_for_nobody),
    Check("prompts-nearly-equal", "low", "two prompts that differ by a word",
          "One was changed and the other forgotten, or both should be one.",
          f"Prompts of {ENOUGH_WORDS} words or more that share half their words in order and differ in one or two.",
          "Prompts that differ in more, or in length: `diff --clones` finds copies.",
          "Keep one, with the word as a variable.", _nearly_equal_prompts, of_estate=True),
)  # fmt: skip
