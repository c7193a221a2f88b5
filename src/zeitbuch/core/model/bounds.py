# Numbers of an export that nobody means: no number at all, below nothing, or beyond what any system does. They are not computed with:
# the field is left empty, and the value counts as unread and is told.
"""Bounds of the numbers in flows."""

from __future__ import annotations

from operator import attrgetter
from typing import Any, NamedTuple, TypeVar

from msgspec import structs

from .problems import Problem
from .records import Flow, Step, Trigger

R = TypeVar("R", Step, Trigger, Flow)
_CENTURY = 3_155_760_000.0  # seconds


class NumberBounds(NamedTuple):
    """A number of a record: the part of it that holds the number (empty: the record), its field, and what it may be."""

    part: str
    field: str
    least: float
    most: float


OF_STEPS = (
    NumberBounds("", "timeout", 0, _CENTURY), NumberBounds("", "concurrency", 1, 1e9),
    NumberBounds("retry", "attempts", 0, 10_000), NumberBounds("retry", "wait", 0, _CENTURY),
    NumberBounds("repeat", "count", 0, 1e9), NumberBounds("repeat", "cap", 0, 1e9),
    NumberBounds("model", "temperature", -100, 100), NumberBounds("model", "max_output", 0, 1e9), NumberBounds("model", "max_turns", 1, 1e6),
    NumberBounds("approval", "needed", 0, 1e6), NumberBounds("pause", "seconds", 0, _CENTURY),
    NumberBounds("pieces", "size", 0, 1e9), NumberBounds("pieces", "overlap", 0, 1e9), NumberBounds("pieces", "batch", 0, 1e9),
    NumberBounds("pieces", "count", 0, 1e9),
)  # fmt: skip
OF_TRIGGERS = (NumberBounds("", "batch", 1, 1e9), NumberBounds("schedule", "every", 0.001, _CENTURY))
OF_FLOWS = (NumberBounds("", "concurrency", 1, 1e9),)
# What of a step holds numbers, beside its model.
_HELD = tuple(dict.fromkeys(row.part or row.field for row in OF_STEPS if row.part != "model"))
_held_by = attrgetter(*_HELD)
_held_by_model = attrgetter(*[row.field for row in OF_STEPS if row.part == "model"])
_NOTHING = (None,) * len(_HELD)
_NO_NUMBERS = (None,) * sum(row.part == "model" for row in OF_STEPS)
# Without these a part says nothing: it goes as a whole.
_NEEDED = {("retry", "attempts")}


def numbers_in_bounds(flow: Flow) -> bool:
    """Whether every number of a flow is one that somebody may mean."""
    holding = [step for step in flow.steps if _holds_numbers(step)]  # most steps hold none
    told = [
        *[(step, OF_STEPS) for step in holding],
        *[(trigger, OF_TRIGGERS) for trigger in flow.triggers],
        (flow, OF_FLOWS),
    ]
    return not any([_beyond(record, table) for record, table in told])


def _holds_numbers(step: Step) -> bool:
    return _held_by(step) != _NOTHING or (step.model is not None and _held_by_model(step.model) != _NO_NUMBERS)


def _is_within(held: Any, row: NumberBounds) -> bool:
    value = getattr(held, row.field)
    return value is None or row.least <= value <= row.most


def _beyond(record: Any, table: tuple[NumberBounds, ...]) -> list[tuple[NumberBounds, Any]]:
    """The rows of a table whose numbers nobody means, with these numbers."""
    found: list[tuple[NumberBounds, Any]] = []
    for row in table:
        held = getattr(record, row.part) if row.part else record
        if held is not None and not _is_within(held, row):
            found.append((row, getattr(held, row.field)))
    return found


def mend_numbers(flow: Flow) -> tuple[Flow, list[Problem]]:
    """The flow without numbers that nobody means, and a problem for each of them."""
    problems: list[Problem] = []
    steps = tuple([_mended(step, OF_STEPS, f"of '{step.title}'", problems) for step in flow.steps])
    triggers = tuple([_mended(one, OF_TRIGGERS, f"of trigger '{one.id}'", problems) for one in flow.triggers])
    flow = _mended(flow, OF_FLOWS, "of the flow", problems)
    content = structs.replace(flow.content, unread=flow.content.unread + len(problems))
    return structs.replace(flow, steps=steps, triggers=triggers, content=content), problems


def _mended(record: R, table: tuple[NumberBounds, ...], words: str, problems: list[Problem]) -> R:
    for row, value in _beyond(record, table):
        name = f"{row.part}.{row.field}" if row.part else row.field
        message = (
            f"expected {name} {words} from {row.least:,g} to {row.most:,g}, found {_short(value)}, which is not used"
        )
        hint = "it counts as unread; mend it in the builder, or the path in the dialect"
        problems.append(Problem("value-unusable", "finding", message, record.origin, hint))
        changes: dict[str, Any] = {row.field: None}
        if row.part:
            whole = (row.part, row.field) in _NEEDED
            held = getattr(record, row.part)
            changes = {row.part: None if whole or held is None else structs.replace(held, **changes)}
        record = structs.replace(record, **changes, unread={**record.unread, name: _short(value)})
    return record


def _short(value: Any) -> str:
    text = str(value)
    return text if len(text) <= 24 else f"{text[:20]}… ({len(text)} digits)"
