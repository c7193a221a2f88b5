# Where a number enters a sum, the mean of its range says all. Where it enters a power (tries after a failure, rounds up to a cap) or
# meets a limit, the mean over the range is another than that of its mean: there the range itself is gone through.
"""Means over ranges."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

from zeitbuch.core.assumptions.uncertain import Uncertain, draws_of, exceeds, least
from zeitbuch.core.assumptions.values import Value

_SLICES, _SLICES_IN_WORLDS = 256, 48


@lru_cache(maxsize=4096)
def _points_between(low: float, mean: float, high: float, count: int = _SLICES) -> tuple[float, ...]:
    # NumPy, which most estimates of means do without.
    from zeitbuch.core.assumptions.worlds import beta_slices, pert_shape

    return tuple((low + (high - low) * beta_slices(pert_shape(low, mean, high), count)).tolist())


def points_of(value: Value) -> tuple[float, ...]:
    """Values that stand for equal slices of a range (PERT, see ``docs/arithmetic.md``); a point stands for itself."""
    low, mean, high = float(value.low), float(value.amount), float(value.high)
    return _points_between(low, mean, high) if high > low else (mean,)


def mean_over(value: Value, result_of: Callable[[float], float]) -> float:
    """The mean of what follows from a value over its range, in every world where the value is in doubt."""
    points = points_of(value)
    mean = sum(map(result_of, points)) / len(points)
    if type(value.amount) is not Uncertain:
        return mean
    if not value.ranged:
        return result_of(value.amount)
    low, span = value.low, value.high - value.low
    shape = _points_between(0.0, (float(value.amount) - float(low)) / float(span), 1.0, _SLICES_IN_WORLDS)
    varied = sum([result_of(low + span * part) for part in shape]) / len(shape)
    return Uncertain(mean, draws_of(varied)) if type(varied) is Uncertain else mean


def capped(value: Value, cap: float, words: str) -> Value:
    """The value where nothing may be above a cap: that of a point, and of a range the mean of what the cap leaves."""
    highest = value.high if value.ranged else value.amount
    if not exceeds(highest, cap):
        return value
    why = f"{value.why}, {words}" if highest > cap else value.why
    if not value.ranged or value.low >= cap:
        return Value(least(value.amount, cap), value.evidence, why)
    mean = mean_over(value, lambda amount: least(amount, cap))
    if highest <= cap:
        mean = Uncertain(value.amount, draws_of(mean))
    return Value(mean, value.evidence, why, least(value.low, cap), least(value.high, cap))


def tries_of(failure: Value, timeout: Value, tries: int) -> tuple[float, float, float]:
    """For one pass of a step that is tried ``tries`` times again: executions, the chance that all of them fail or run out of time,
    and the chance that the last runs out of time; each the mean over both ranges, and in every world what it is there."""
    sure = type(failure.amount) is not Uncertain and type(timeout.amount) is not Uncertain
    if sure and not (failure.high > failure.low or timeout.high > timeout.low):
        return _tries_at(failure.amount, timeout.amount, tries)
    means = _tries_between(_ends_of(failure), _ends_of(timeout), tries)
    if sure:
        return means
    done, gone, late = _tries_in_worlds(failure.amount, timeout.amount, tries)
    return Uncertain(means[0], done), Uncertain(means[1], gone), Uncertain(means[2], late)


def _ends_of(value: Value) -> tuple[float, float, float]:
    low, mean, high = float(value.low), float(value.amount), float(value.high)
    return (low, mean, high) if high > low else (mean, mean, mean)


def _tries_in_worlds(failure: float, timeout: float, tries: int) -> tuple[Any, Any, Any]:
    import numpy as np

    fail, slow = np.broadcast_arrays(draws_of(failure), draws_of(timeout))
    wrong = np.minimum(fail + slow, 1.0)
    over = wrong ** (tries + 1)
    done = np.divide(1 - over, 1 - wrong, out=np.full(wrong.shape, tries + 1.0), where=wrong < 1)
    late = np.divide(over * slow, fail + slow, out=np.zeros(wrong.shape), where=fail + slow > 0)
    return done, over, late


def _tries_at(fail: float, slow: float, tries: int) -> tuple[float, float, float]:
    """Executions, the chance that all fail or run out of time, and that the last runs out of time, for chances of one try."""
    wrong = min(1.0, fail + slow)
    over = wrong ** (tries + 1)
    done = (1 - over) / (1 - wrong) if wrong < 1 else tries + 1.0
    return done, over, over * slow / (fail + slow) if slow else 0.0


@lru_cache(maxsize=4096)
def _tries_between(
    failure: tuple[float, float, float], timeout: tuple[float, float, float], tries: int
) -> tuple[float, float, float]:
    fails = _points_between(*failure) if failure[2] > failure[0] else failure[1:2]
    lates = _points_between(*timeout) if timeout[2] > timeout[0] else timeout[1:2]
    done = gone = late = 0.0
    for fail in fails:
        for slow in lates:
            one = _tries_at(fail, slow, tries)
            done, gone, late = done + one[0], gone + one[1], late + one[2]
    count = len(fails) * len(lates)
    return done / count, gone / count, late / count
