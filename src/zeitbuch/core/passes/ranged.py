# Where a number enters a sum, the mean of its range says all. Where it enters a power (tries after a failure, rounds up to a cap) or
# meets a limit, the mean over the range is another than that of its mean: there the range itself is gone through.
"""Means over ranges."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from zeitbuch.core.assumptions.rules import Value

_SLICES = 256


@lru_cache(maxsize=4096)
def _points_between(low: float, mean: float, high: float) -> tuple[float, ...]:
    from .random_draws import beta_slices  # NumPy, which most estimates of means do without

    alpha = round(6 * (mean - low) / (high - low), 9)
    return tuple((low + (high - low) * beta_slices(alpha, _SLICES)).tolist())


def points_of(value: Value) -> tuple[float, ...]:
    """Values that stand for equal slices of a range (PERT, see ``docs/arithmetic.md``); a point stands for itself."""
    return _points_between(value.low, value.amount, value.high) if value.ranged else (value.amount,)


def mean_over(value: Value, result_of: Callable[[float], float]) -> float:
    """The mean of what follows from a value over its range."""
    points = points_of(value)
    return sum(map(result_of, points)) / len(points)


def capped(value: Value, cap: float, words: str) -> Value:
    """The value where nothing may be above a cap: that of a point, and of a range the mean of what the cap leaves."""
    highest = value.high if value.ranged else value.amount
    if highest <= cap:
        return value
    if not value.ranged or value.low >= cap:
        return Value(cap, value.evidence, f"{value.why}, {words}")
    mean = mean_over(value, lambda amount: min(amount, cap))
    return Value(mean, value.evidence, f"{value.why}, {words}", value.low, cap)


def tries_of(failure: Value, timeout: Value, tries: int) -> tuple[float, float, float]:
    """For one pass of a step that is tried ``tries`` times again: executions, the chance that all of them fail or run out of time,
    and the chance that the last runs out of time; each the mean over both ranges."""
    key = (failure.low, failure.amount, failure.high) if failure.ranged else (failure.amount,) * 3
    other = (timeout.low, timeout.amount, timeout.high) if timeout.ranged else (timeout.amount,) * 3
    return _tries_between(key, other, tries)


@lru_cache(maxsize=4096)
def _tries_between(
    failure: tuple[float, float, float], timeout: tuple[float, float, float], tries: int
) -> tuple[float, float, float]:
    fails = _points_between(*failure) if failure[2] > failure[0] else failure[1:2]
    lates = _points_between(*timeout) if timeout[2] > timeout[0] else timeout[1:2]
    done = gone = late = 0.0
    for fail in fails:
        for slow in lates:
            wrong = min(1.0, fail + slow)
            over = wrong ** (tries + 1)
            done += (1 - over) / (1 - wrong) if wrong < 1 else tries + 1
            gone += over
            late += over * slow / (fail + slow) if slow else 0.0
    count = len(fails) * len(lates)
    return done / count, gone / count, late / count
