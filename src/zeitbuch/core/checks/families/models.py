# What models are asked, and how: settings that do not fit the task, and sizes that cannot be.
"""Checks of models, agents and loops."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.records import Step

from ..parts import prompt_text_of, store_of
from ..records import Check, Hit
from ..views import FlowView

_EXACT_TASKS = frozenset({"label", "extract", "code", "classify", "route", "score"})
_EXACT_PROMPT = re.compile(
    r"(?im)^\W*(?:extract|classify|categori[sz]e|take out|label)\b|\bwrite (?:the |an? )?(?:SQL|code|script|regex)\b"
)
_NUMBER_WORD = re.compile(r"(?i)\d|\b(?:one|two|three|four|five|six|eight|ten|twelve|twenty|thirty|fifty|hundred)\b")
_BOUNDS = (
    "window",
    "limit",
    "last",
    "size",
    "most",
    "max",
    "keep",
    "length",
    "count",
    "tokens",
    "turns",
    "messages",
    "summar",
)


def _hot_labels(view: FlowView) -> Iterator[Hit]:
    hot = [step for step in view.steps if step.kind == "model" and step.model is not None
           and (step.model.temperature or 0) >= view.estate.limits.temperature]  # fmt: skip
    for step in hot:
        model = step.model
        assert model is not None
        readers = [
            part.title for part, _ in view.users.get(step.id, ()) if isinstance(part, Step) and part.kind == "decide"
        ]
        warm = f"{quote_name(step.title)} has the temperature {model.temperature:g}"
        if readers:
            yield Hit(step, f"{warm}, and {quote_name(readers[0])} decides by its answer", False)
        elif model.task in _EXACT_TASKS:
            yield Hit(step, f"{warm}, and its task is to {model.task}", False)
        elif model.task is None and (found := _EXACT_PROMPT.search(prompt_text_of(step))) is not None:
            yield Hit(step, f"{warm}, and is told to {quote_name(found.group().lower())}", False)


def _unpriced(view: FlowView) -> Iterator[Hit]:
    card = view.estate.card
    for step in view.steps if card is not None else ():
        name = step.model.name if step.model is not None else None
        if card is not None and step.kind in MODEL_KINDS and name and card.rate_of(name) is None:
            yield Hit(
                step,
                f"{quote_name(step.title)} calls {quote_name(name)}, which the rate card has not: its cost is unknown",
            )


def _retired(view: FlowView) -> Iterator[Hit]:
    card, today = view.estate.card, view.estate.facts.today
    for step in view.steps if card is not None and today else ():
        name = step.model.name if step.model is not None else None
        rate = card.rate_of(name) if card is not None and name and step.kind in MODEL_KINDS else None
        if rate is None or rate.retires is None:
            continue
        days = (rate.retires - date.fromisoformat(today)).days
        if days <= view.estate.limits.retired_days:
            instead = f": {quote_name(rate.replaced_by)} takes its place" if rate.replaced_by else ""
            said = "is no more since" if days <= 0 else f"ends in {days} days, on"
            yield Hit(
                step, f"{quote_name(step.title)} calls {quote_name(name or '')}, which {said} {rate.retires}{instead}"
            )


def _embeddings_differ(view: FlowView) -> Iterator[Hit]:
    for step in view.steps if view.kinds & {"retrieve", "memory"} else ():
        store, name = store_of(step), step.model.name if step.model is not None else None
        if step.kind != "retrieve" or not store or not name:
            continue
        filled = view.estate.embedded_by.get(store.casefold(), {})
        if filled and name not in filled:
            model, where = next(iter(filled.items()))
            yield Hit(
                step,
                f"{quote_name(step.title)} searches {quote_name(store)} with {quote_name(name)}, and {quote_name(where)} filled it with {quote_name(model)}",
            )


def _endless_memory(view: FlowView) -> Iterator[Hit]:
    for step in view.steps if "memory" in view.kinds else ():
        bounded = any(
            word in one.name.casefold() for one in step.inputs for word in _BOUNDS if one.value not in (None, "")
        )
        if step.kind == "memory" and not bounded and not _NUMBER_WORD.search(step.name):
            yield Hit(
                step,
                f"{quote_name(step.title)} keeps the conversation without a stated limit: every turn costs more than the last",
                False,
            )


def _overlap(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        pieces = step.pieces
        if (
            pieces is not None
            and pieces.size is not None
            and pieces.overlap is not None
            and pieces.overlap >= pieces.size > 0
        ):
            yield Hit(
                step,
                f"{quote_name(step.title)} cuts pieces of {pieces.size} that overlap by {pieces.overlap}: it never gets on",
            )


def _endless_loops(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        repeat = step.repeat
        if (
            step.kind == "loop"
            and repeat is not None
            and repeat.until
            and repeat.cap is None
            and repeat.items is None
            and repeat.count is None
        ):
            yield Hit(
                step,
                f"{quote_name(step.title)} runs until {quote_name(repeat.until)}, with no most rounds: it may never end",
                False,
            )


CHECKS: tuple[Check, ...] = (
    Check("label-temperature", "medium", "a label drawn by chance",
          "The same letter goes another way the next time.",
          "A model's answer decides a case, or its task is to label, extract or write code, and its temperature is 0.5 (`temperature`) or more.",
          "Answers that are checked between.",
          "Set the temperature to 0.", _hot_labels),
    Check("model-unpriced", "low", "a model without a price",
          "What it costs is unknown, in every estimate and budget.",
          "Names of models against the rate card, where there is one.",
          "Models that a step takes from its platform.",
          "Add it to the rate card, or correct the name.", _unpriced),
    Check("model-retired", "high", "a model that is no more, or soon",
          "Its calls fail from that day on.",
          "`retires` of the model on the rate card against today (`retired_days` ahead).",
          "Models whose day the rate card does not state.",
          "Take the model that replaces it, and try its answers first.", _retired),
    Check("embedding-differs", "high", "a store searched with another model than it was filled with",
          "What is found has nothing to do with what was asked.",
          "The models of steps that embed into a store against those that search the store of that name.",
          "Stores that are filled outside of the exports, and steps that do not name their model.",
          "Use one model for both, or fill the store anew.", _embeddings_differ),
    Check("memory-endless", "low", "a memory without a limit",
          "Every turn sends all turns before it.",
          "Memories whose inputs name no window, limit or number.",
          "Limits that the platform sets for all.",
          "Keep the last ten messages or so.", _endless_memory),
    Check("pieces-overlap", "high", "pieces that overlap by all they are",
          "Cutting never gets on, or every piece is stored many times.",
          "The sizes that the step states.",
          "Sizes that the platform sets.",
          "Make the overlap a tenth to a fifth of the piece.", _overlap),
    Check("loop-endless", "medium", "a loop without a most",
          "When the condition never holds it runs, calls and costs until somebody stops it.",
          "Loops with a condition to end and no most rounds.",
          "Caps that the platform sets for all.",
          "Set a most of rounds.", _endless_loops),
)  # fmt: skip
