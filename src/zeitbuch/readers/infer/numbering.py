# Steps that stand in no order may be numbered. Under a word for it any numbers say so; whatever the field is called, such that go up by the
# same from 0, 1 or 10 on in each flow.
"""Finding the numbers by which steps run."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .join_index import Joins
from .steps import Found
from .survey import Path
from .vocabulary import words_of

_WORDS = frozenset(
    "order seq sequence index idx rank ordinal step nr no number turn reihenfolge nummer ordre orden rekkefolge volgorde ordine ordem".split()
)
_FIRST = frozenset({0, 1, 10, 100})
_NEARLY_ALL = 0.8  # of the flows have a number of its own for each step
_FEWEST = 2  # flows, and steps of one, that tell


def find_numbering(found: Found, joins: Joins) -> Path:
    """The field of all steps that numbers those of each flow; empty where there is none, or where steps are linked or stand in each other."""
    if joins.way != "order" or any(sight.hold for sample in found.samples for sight in sample.steps):
        return ()
    flows = [[sight.raw for sight in sample.steps] for sample in found.samples if len(sample.steps) >= _FEWEST]
    if len(flows) < _FEWEST or not flows[0]:
        return ()
    return next(((key,) for key in flows[0][0] if _numbers_all(flows, key)), ())


def _numbers_all(flows: list[list[dict[str, Any]]], key: str) -> bool:
    """Whether a field numbers the steps of each flow."""
    numbers = [[_number_at(raw, key) for raw in flow] for flow in flows]
    fits = _are_numbers if _WORDS & set(words_of(key)) else _go_up
    alone = sum(len(set(listed)) == len(listed) for listed in numbers)
    return all(map(fits, numbers)) and alone >= _NEARLY_ALL * len(flows)


def _number_at(raw: dict[str, Any], key: str) -> int:
    text = as_text(raw.get(key)) if type(raw.get(key)) in (int, str) else ""
    return int(text) if text.isdecimal() else -1


def _are_numbers(numbers: list[int]) -> bool:
    return min(numbers) >= 0


def _go_up(numbers: list[int]) -> bool:
    """Whether numbers go up from a usual first one by the same, whatever their order."""
    told = sorted(set(numbers))
    steps = {b - a for a, b in pairwise(told)}
    return told[0] in _FIRST and len(steps) == 1 and steps <= {1, 10, 100}
