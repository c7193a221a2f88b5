# What models are asked, and how: settings that do not fit the task, and sizes that cannot be.
"""Checks of models, agents and loops."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import MODEL_KINDS

from .records import Check, Hit
from .views import FlowView

HOT = 0.5  # a temperature from which the same letter gets another label the next time


def _hot_labels(view: FlowView) -> Iterator[Hit]:
    readers: dict[str, str] = {}
    for part, ref in view.used_refs:
        if ref.step and getattr(part, "kind", "") == "decide":
            readers.setdefault(ref.step, part.title)
    for step in view.steps:
        if (
            step.kind == "model"
            and step.model is not None
            and step.id in readers
            and (step.model.temperature or 0) >= HOT
        ):
            yield Hit(
                step,
                f"{quote_name(step.title)} has the temperature {step.model.temperature:g}, and {quote_name(readers[step.id])} decides by its answer",
                False,
            )


def _unpriced(view: FlowView) -> Iterator[Hit]:
    card = view.estate.card
    if card is None:
        return
    known = {model.name.casefold() for model in card.model}
    for step in view.steps:
        name = step.model.name if step.model is not None else None
        if step.kind in MODEL_KINDS and name and name.casefold() not in known:
            yield Hit(
                step,
                f"{quote_name(step.title)} calls {quote_name(name)}, which the rate card has not: its cost is unknown",
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
          f"A model's answer decides a case, and its temperature is {HOT:g} or more.",
          "Answers that are checked between.",
          "Set the temperature to 0.", _hot_labels),
    Check("model-unpriced", "low", "a model without a price",
          "What it costs is unknown, in every estimate and budget.",
          "Names of models against the rate card, where there is one.",
          "Models that a step takes from its platform.",
          "Add it to the rate card, or correct the name.", _unpriced),
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
