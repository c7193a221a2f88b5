# What one model call takes in and gives out, as the log has it. A quantity of the assumptions is set so that the estimate comes to the log's
# mean; where it does not move with the quantity, nothing is written.
"""Measured sizes of calls."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from .changes import last_change_of_means, variance_of_means
from .observed import Floats, GroupSeen

# Column of the log -> the quantity that makes it, and the unit of the rate card by which the estimate counts it.
SIZES: tuple[tuple[str, str, str], ...] = (
    ("tokens_in", "input", "input"),
    ("tokens_out", "output", "output"),
    ("images", "images", "image"),
    ("pages", "pages", "page"),
    ("sound", "sound", "second"),
)
_OF_TOKENS = ("tokens_in", "tokens_out")
_NEAR = 0.02  # how near the estimate has to come
_FEWEST_CALLS = 5


class MeanSeen(NamedTuple):
    """A mean per call since a day (its place): its relative standard deviation as a mean of a month, and the calls that it is of."""

    first: int
    mean: float
    deviation: float
    calls: float


def mean_per_call(group: GroupSeen, column: str, days_of_month: float) -> MeanSeen | None:
    """What a call of a group uses of a column; None where the log does not tell."""
    if column not in group.by_day:
        return None
    # Of calls that say no tokens nobody knows how many they had.
    calls = np.maximum(group.by_day["calls"] - (group.silent if column in _OF_TOKENS else 0.0), 0.0)
    return mean_of(group.by_day[column], calls, days_of_month)


def mean_of(used: Floats, calls: Floats, days_of_month: float) -> MeanSeen | None:
    """The mean of what so many calls (or other cases) use, both by day; None where there are too few."""
    means = np.divide(used, calls, out=np.zeros(len(calls)), where=calls > 0)
    first = last_change_of_means(means, calls)
    many, total = float(calls[first:].sum()), float(used[first:].sum())
    if many < _FEWEST_CALLS:
        return None
    mean = total / many
    there = calls[first:] > 0
    variance = variance_of_means(means[first:][there], calls[first:][there])
    coming = max(many / (len(calls) - first) * days_of_month, 1.0)
    return MeanSeen(first, mean, _relative(variance * (1 / many + 1 / coming), mean), many)


def _relative(variance: float, mean: float) -> float:
    return math.sqrt(max(variance, 0.0)) / mean if mean else 0.0


def share_per_call(group: GroupSeen, part: str, whole: str) -> float | None:
    """Which part of a column another is; None where the log does not tell."""
    total = group.total(whole)
    return min(group.total(part) / total, 1.0) if part in group.by_day and total else None


def solve_size(wanted: float, estimated: Callable[[float], float]) -> float | None:
    """The value of a quantity at which the estimate comes to what is wanted: it grows with the quantity in a straight line, or nearly. None where
    it does not come near."""
    value = wanted
    for _ in range(6):
        reached = estimated(value)
        if abs(reached - wanted) <= _NEAR * max(wanted, 1e-9) / 10:
            return value
        other = value * 1.05 + 1.0
        slope = (estimated(other) - reached) / (other - value)
        if slope <= 1e-9:
            break
        value = max(0.0, value + (wanted - reached) / slope)
    return value if abs(estimated(value) - wanted) <= _NEAR * max(wanted, 1e-9) else None
