# A regime that changed within the log must not be averaged with the one before. Series of days are cut where the days before and after are
# so unlike that chance does not explain it; what counts is the stretch after the last cut.
"""Change points in series of days."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[Any]
FEWEST_DAYS = 7  # of a stretch
# Twice the gain in log-likelihood at which a cut is believed: chance reaches it in three of a thousand series of sixty days.
_BELIEVED = 20.0
_FEWEST_CASES = 30.0  # of a mean, on either side of a cut
_WEEK = 7
_LEAST_PART = 0.2  # of the untrimmed mean of squares
_KEPT, _OF_KEPT = (
    0.85,
    0.52,
)  # of squared differences the smaller ones, and the mean of these for a variance of 1 (chi-square, 1 degree)
Gain = Callable[[int, int, int], float]


def last_change_of_counts(counts: Sequence[float] | Floats, exposures: Sequence[float] | Floats) -> int:
    """The place of the first day after the last change of a rate (``counts`` for so many ``exposures``, both by day); 0 without any."""
    seen, exposed = np.asarray(counts, float), np.asarray(exposures, float)
    scale = dispersion_of_counts(seen, exposed)
    sums, exposure = _cumulated(seen), _cumulated(exposed)

    def likelihood(first: int, after: int) -> float:
        total, over = sums[after] - sums[first], exposure[after] - exposure[first]
        return float(total * np.log(total / over)) if total > 0 and over > 0 else 0.0

    return _last_cut(
        len(seen),
        lambda first, cut, after: (
            2 * (likelihood(first, cut) + likelihood(cut, after) - likelihood(first, after)) / scale
        ),
    )


def last_change_of_means(means: Sequence[float] | Floats, weights: Sequence[float] | Floats) -> int:
    """The same for means by day, each of so many cases (``weights``). Days without a case say nothing."""
    there = [place for place, weight in enumerate(weights) if weight > 0]
    mean, weight = np.asarray(means, float)[there], np.asarray(weights, float)[there]
    variance = variance_of_means(mean, weight)
    if variance <= 0:
        return 0
    cases, first_power, squares = _cumulated(weight), _cumulated(weight * mean), _cumulated(weight * mean * mean)

    def scatter(first: int, after: int) -> float:
        total = first_power[after] - first_power[first]
        return float(squares[after] - squares[first] - total * total / (cases[after] - cases[first]))

    def gain(first: int, cut: int, after: int) -> float:
        if min(cases[cut] - cases[first], cases[after] - cases[cut]) < _FEWEST_CASES:
            return 0.0
        return (scatter(first, after) - scatter(first, cut) - scatter(cut, after)) / variance

    cut = _last_cut(len(there), gain)
    return there[cut] if cut else 0


def dispersion_of_counts(counts: Floats, exposures: Floats) -> float:
    """How many times as much as by chance alone (Poisson) counts vary from day to day, from days a week apart, so that neither a rhythm of
    weeks nor a change is taken for it."""
    lag = _WEEK if len(counts) >= 3 * _WEEK else 1
    one, other = (counts[lag:], exposures[lag:]), (counts[:-lag], exposures[:-lag])
    over = one[1] * other[1] > 0
    if len(counts) <= lag or over.sum() < 3:
        return 1.0
    rate = (one[0] + other[0])[over] / (one[1] + other[1])[over]
    spread = rate * (1 / one[1][over] + 1 / other[1][over])
    apart = (one[0][over] / one[1][over] - other[0][over] / other[1][over]) ** 2
    known = spread > 0
    return max(0.1, _trimmed(apart[known] / spread[known])) if known.any() else 1.0


def variance_of_means(means: Floats, weights: Floats) -> float:
    """The variance of one case, from the differences of neighbouring days."""
    if len(means) < 4:
        return 0.0
    apart = (means[1:] - means[:-1]) ** 2 / (1 / weights[1:] + 1 / weights[:-1])
    # What is nearly always the same has rare exceptions: without them anything would be a change.
    floor = max(1e-12 * float(np.average(means, weights=weights)) ** 2, _LEAST_PART * float(apart.mean()))
    return max(_trimmed(apart), floor)


def _trimmed(squares: Floats) -> float:
    """The mean of squared differences; the largest are left out, as a change or a wrong day stands among them."""
    kept = np.sort(squares)[: max(1, int(len(squares) * _KEPT))]
    return float(kept.mean() / _OF_KEPT) if len(squares) >= 8 else float(squares.mean())


def _cumulated(values: Floats) -> Floats:
    return np.concatenate([[0.0], np.cumsum(values)])


def _last_cut(days: int, gain: Gain) -> int:
    """Cuts a series in two where that gains most, then what is behind the cut, as long as it gains enough."""
    first = 0
    while days - first >= 2 * FEWEST_DAYS:
        places = range(first + FEWEST_DAYS, days - FEWEST_DAYS + 1)
        best = max(places, key=lambda cut: gain(first, cut, days))
        if gain(first, best, days) < _BELIEVED:
            break
        first = best
    return first
