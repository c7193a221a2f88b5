# What models are asked, and how: settings that do not fit the task, and sizes that cannot be.
"""Checks of models, agents and loops."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.records import ModelUse, Step

from ..parts import prompt_text_of, shelf_key, store_of
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
    for step, use in view.with_model:
        if step.kind == "model" and (use.temperature or 0) >= view.estate.limits.temperature:
            wants = _exactness(view, step, use)
            if wants:
                yield Hit(step, f"{quote_name(step.title)} has the temperature {use.temperature:g}, and {wants}", False)


def _exactness(view: FlowView, step: Step, use: ModelUse) -> str:
    """Why an answer is to be the same each time; empty where nothing says so."""
    readers = [part.title for part, _ in view.users.get(step.id, ()) if part.kind == "decide"]
    if readers:
        return f"{quote_name(readers[0])} decides by its answer"
    if use.task in _EXACT_TASKS:
        return f"its task is to {use.task}"
    found = _EXACT_PROMPT.search(prompt_text_of(step)) if use.task is None else None
    return f"is told to {quote_name(found.group().lower())}" if found is not None else ""


def _unpriced(view: FlowView) -> Iterator[Hit]:
    for step, use in view.with_model if view.estate.card is not None else ():
        if step.kind in MODEL_KINDS and use.name and view.estate.rate_of(step) is None:
            told = f"{quote_name(step.title)} calls {quote_name(use.name)}, which the rate card has not: its cost is unknown"
            yield Hit(step, told)


def _retired(view: FlowView) -> Iterator[Hit]:
    today = view.estate.facts.today
    for step, use in view.with_model if today else ():
        rate = view.estate.rate_of(step) if step.kind in MODEL_KINDS else None
        if rate is None or rate.retires is None:
            continue
        days = (rate.retires - date.fromisoformat(today)).days
        if days <= view.estate.limits.retired_days:
            instead = f": {quote_name(rate.replaced_by)} takes its place" if rate.replaced_by else ""
            said = "is no more since" if days <= 0 else f"ends in {days} days, on"
            yield Hit(
                step,
                f"{quote_name(step.title)} calls {quote_name(use.name or '')}, which {said} {rate.retires}{instead}",
            )


def _embeddings_differ(view: FlowView) -> Iterator[Hit]:
    for step, use in view.with_model if "retrieve" in view.kinds else ():
        store, name = store_of(step), use.name or ""
        filled = view.estate.embedded_by.get(shelf_key(view.flow, step), {}) if step.kind == "retrieve" and name else {}
        if filled and name not in filled:
            model, where = next(iter(filled.items()))
            yield Hit(
                step,
                f"{quote_name(step.title)} searches {quote_name(store)} with {quote_name(name)}, and {quote_name(where)} filled it with {quote_name(model)}",
            )


def _endless_memory(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("memory"):
        given = " ".join([one.name.casefold() for one in step.inputs if one.value not in (None, "")])
        if not any(word in given for word in _BOUNDS) and not _NUMBER_WORD.search(step.name):
            yield Hit(
                step,
                f"{quote_name(step.title)} keeps the conversation without a stated limit: every turn costs more than the last",
                False,
            )


def _overlap(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        pieces = step.pieces
        if pieces is not None and pieces.size and (pieces.overlap or 0) >= pieces.size:
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
