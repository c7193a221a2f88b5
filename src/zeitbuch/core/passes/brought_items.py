# A pass goes on while any of its items does. How often it does not hangs on how many it brought, not only on how many are left of all:
# so what moves remembers where its items were last known one by one.
"""Passes and the items that they brought."""

from __future__ import annotations

import math
from typing import Any

from msgspec import Struct

from zeitbuch.core.assumptions.uncertain import Uncertain, draws_of, least, most
from zeitbuch.core.assumptions.values import Value

from .ranged import mean_over

_NEGLIGIBLE = 1e-9  # chance that a pass has no item left, below which it is none
_SAME = 1e-9  # relative difference of numbers that are the same but for rounding


class Reasons(list[str]):
    """Why an expectation is not exact, each reason once."""

    def add_once(self, why: str) -> None:
        if why not in self:
            self.append(why)


class Brought(Struct, frozen=True, gc=False):
    """How many passes there would be had none lost its last item, and the items that each of them brought: ``each`` of them on average, at
    least ``fewest``, or as ``varied`` says. ``even``: nothing else makes one pass bring more than another."""

    passes: float
    each: float
    fewest: float
    varied: Value | None = None
    even: bool = True


class Moving(Struct, gc=False):
    """What moves along an edge: expected passes, expected items with them, the most passes that a run can bring, the weakest evidence (index
    into EVIDENCE), and what the passes brought, where their items are not just as many for each."""

    passes: float
    items: float
    most: float
    evidence: int
    brought: Brought | None = None


def items_each(moving: Moving) -> float:
    """The items of a pass."""
    return moving.items / moving.passes if moving.passes and moving.items is not moving.passes else 1.0


def brought_by(moving: Moving) -> Brought:
    """What passes brought; where they have lost nothing that is what they have."""
    if moving.brought is not None:
        return moving.brought
    each = items_each(moving)
    return Brought(moving.passes, each, _floor(each))


def part_of(brought: Brought | None, passes: float, whole: float) -> Brought | None:
    """What ``passes`` brought that are left of a ``whole``, whatever their items."""
    if brought is None:
        return None
    share = passes / whole if whole else 0.0
    return Brought(brought.passes * share, brought.each, brought.fewest, brought.varied, brought.even)


def left_with_items(brought: Brought, items: float, bound: float, thinned: bool, inexact: Reasons) -> float:
    """Expected passes that have any of so many items left. ``bound``: the most passes of a run; ``thinned``: they had lost some before."""
    if not brought.passes or not items:
        return 0.0
    whole = brought.passes * brought.each
    if brought.even and brought.varied is None and are_same(brought.each, 1.0):
        return items
    gone = most(0.0, 1 - items / whole)
    if _greatest(gone) ** brought.fewest < _NEGLIGIBLE if brought.fewest >= 1 else False:
        return brought.passes
    if not brought.even or (bound > 1 and (thinned or brought.varied is not None)):
        inexact.add_once("items that get lost of passes that brought different numbers of them")
    if brought.varied is not None:
        none = mean_over(brought.varied, lambda each: none_left(gone, each))
    else:
        none = none_left(gone, brought.each)
    return least(items, brought.passes * (1 - none))


def none_left(gone: float, each: float) -> float:
    """The chance that so many items are all gone, each with the same chance; of 2.5 there are two as often as three."""
    if type(each) is not Uncertain:
        low = math.floor(each)
        rest = float(each) - low
        kept = gone**low if low else 1.0
        return kept * (1 - rest + rest * gone) if rest else kept
    import numpy as np

    low_draws = np.floor(each.draws)
    chances: Any = draws_of(gone)
    rest_draws = each.draws - low_draws
    drawn = chances**low_draws * (1 - rest_draws + rest_draws * chances)
    return Uncertain(none_left(float(gone), float(each)), drawn)


def several_of_each(moving: Moving, value: Value) -> Moving:
    """Passes each of whose items has become several."""
    amount = value.amount
    fewest = _floor(value.low if value.ranged else amount)
    items = moving.items * amount
    if moving.brought is None and not value.ranged and fewest >= 1:
        return Moving(moving.passes, items, moving.most, moving.evidence)  # as many of each
    had = brought_by(moving)
    single = moving.brought is None and are_same(had.each, 1.0)
    if moving.brought is None and not value.ranged:
        made = Brought(had.passes, had.each * amount, fewest, None, single)
    else:
        made = Brought(had.passes, had.each * amount, had.fewest * fewest, value if single else None, single)
    return Moving(moving.passes, items, moving.most, moving.evidence, made)


def side_by_side(first: Moving, second: Moving) -> Brought | None:
    """What passes brought that come one beside the other."""
    if not second.passes or not first.passes:
        return first.brought if first.passes else second.brought
    each = items_each(first), items_each(second)
    if first.brought is None and second.brought is None and are_same(*each):
        return None
    one, other = brought_by(first), brought_by(second)
    passes = one.passes + other.passes
    if is_alike(one, other) and are_same(first.items / one.passes, second.items / other.passes):
        return Brought(passes, one.each, one.fewest, one.varied, one.even)
    return unevenly_brought(first.passes + second.passes, first.items + second.items)


def unevenly_brought(passes: float, items: float) -> Brought | None:
    """Passes of which nobody knows how many items each has, but that it has one."""
    return Brought(passes, items / passes if passes else 1.0, 1.0, None, False)


def is_alike(one: Brought, other: Brought) -> bool:
    """Whether each of the passes brought as many items as each of the others, or as many as they did."""
    return one.even and other.even and one.varied is other.varied and are_same(one.each, other.each)


def are_same(one: float, other: float) -> bool:
    """Whether two numbers are one, in every world."""
    difference = _greatest(most(one - other, other - one))
    return difference <= _SAME * max(1.0, float(one))


def least_of(number: float) -> float:
    """The least that a number is in any world."""
    return float(number.draws.min()) if type(number) is Uncertain else float(number)


def _floor(number: float) -> float:
    return float(math.floor(least_of(number)))


def _greatest(number: float) -> float:
    return max(float(number), float(number.draws.max())) if type(number) is Uncertain else float(number)
