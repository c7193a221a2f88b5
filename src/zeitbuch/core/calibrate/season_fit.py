# How a volume goes over the year. One year cannot tell a season from something that happened once, or stayed: it is believed where each month came
# again as it was, and differs many times as much from the others as chance, growth and other changes make of it.
"""Measured seasons."""

from __future__ import annotations

from calendar import month_name
from collections.abc import Sequence
from datetime import date
from typing import NamedTuple

import numpy as np

from zeitbuch.core.assumptions.quantities import MONTHS

from .changes import dispersion_of_counts
from .observed import Floats

_FEWEST_DAYS = 15  # of a month that is counted
_BELIEVED = 31.26  # chi-square of eleven degrees of freedom: chance reaches it in one of a thousand years
_TIMES_THE_REST = 4.0  # as much as months differ from what they were before, their differences have to be
_AGREE = 0.1  # how far factors (their logarithms) may be apart by either growth
_YEARS = 2  # from which on a growth can be told from the season


class SeasonFit(NamedTuple):
    """Twelve factors, January first, around 1, and the runs that they rest on. ``certain``: each month was seen twice, and as it was,
    whatever growth lies below; else it may as well be something that happened once."""

    factors: tuple[float, ...]
    runs: float
    certain: bool


class _Months(NamedTuple):
    """The months that are counted, in order: the month of the year (0..11), the year as a number since the first, runs, and the days that they
    are of, each weighed as its weekday."""

    month: Floats
    year: Floats
    runs: Floats
    days: Floats


def fit_season(days: Sequence[date], runs: Floats) -> SeasonFit | None:
    """The season of a series of runs by day; None where not all months of a year are there, or do not differ.

    Rates of months are level x month x growth, least squares of logarithms weighed by runs; growth may go on by months, or step by
    years, and the months have to differ under both. Factors are drawn towards 1 as far as chance may have made them (empirical Bayes:
    variance between months / that variance and the one of chance).
    """
    months = _months_of(days, runs)
    seen = np.bincount(months.month.astype(int), minlength=MONTHS)
    if not seen.all() or not months.runs.all():
        return None
    scale = max(1.0, _dispersion_of_weeks(runs), dispersion_of_counts(runs, _exposures(days, runs)))
    chance = scale / np.bincount(months.month.astype(int), months.runs, MONTHS)
    twice = bool((seen >= _YEARS).all())
    growths = [months.year, np.floor(months.year + 1e-9)] if twice else [np.zeros(len(months.year))]
    fits = [_fit(months, growth) for growth in growths]
    if min(float((effects**2 / chance).sum()) for effects, _ in fits) < _BELIEVED:
        return None
    effects, rest = min(fits, key=lambda fit: fit[1])
    between = float(np.average(effects**2, weights=1 / chance))
    if twice and between < _TIMES_THE_REST * rest:
        return None
    agree = max(float(np.abs(one - effects).max()) for one, _ in fits) <= _AGREE
    spread = max(between - float(np.average(chance, weights=1 / chance)), 0.0)
    factors = np.exp(effects * spread / (spread + chance))
    return SeasonFit(tuple((factors * MONTHS / factors.sum()).tolist()), float(months.runs.sum()), twice and agree)


def factors_words(factors: Sequence[float]) -> str:
    """'0.62 in July to 1.4 in December'."""
    least, most = (choose(range(MONTHS), key=lambda month: factors[month]) for choose in (min, max))
    return f"{factors[least]:.2g} in {month_name[least + 1]} to {factors[most]:.2g} in {month_name[most + 1]}"


def _exposures(days: Sequence[date], runs: Floats) -> Floats:
    """How a day weighs, as its weekday in the mean of all days."""
    weekday = np.array([day.weekday() for day in days])
    mean = max(float(runs.mean()), 1e-9)
    factors = np.array([(runs[weekday == n].sum() + 5.0) / (mean * (weekday == n).sum() + 5.0) for n in range(7)])
    weighed: Floats = np.maximum(factors[weekday], 1e-6)
    return weighed


def _dispersion_of_weeks(runs: Floats) -> float:
    """How many times as much as by chance alone (Poisson) sums of neighbouring weeks differ: what varies by more than days do shows in these."""
    number = len(runs) // 7
    sums = runs[: 7 * number].reshape(number, 7).sum(axis=1)
    both = sums[1:] + sums[:-1]
    return float((np.diff(sums)[both > 0] ** 2 / both[both > 0]).mean()) if (both > 0).any() else 1.0


def _months_of(days: Sequence[date], runs: Floats) -> _Months:
    weighed = _exposures(days, runs)
    cells: dict[tuple[int, int], list[float]] = {}
    for day, counted, weight in zip(days, runs.tolist(), weighed.tolist(), strict=True):
        cell = cells.setdefault((day.year, day.month), [0.0, 0.0, 0.0])
        for place, more in enumerate((1.0, counted, weight)):
            cell[place] += more
    kept = [(key, cell) for key, cell in sorted(cells.items()) if cell[0] >= _FEWEST_DAYS]
    first = kept[0][0] if kept else (0, 1)
    return _Months(
        np.array([month - 1 for (_, month), _ in kept], float),
        np.array([(year - first[0]) + (month - first[1]) / MONTHS for (year, month), _ in kept]),
        np.array([cell[1] for _, cell in kept]),
        np.array([cell[2] for _, cell in kept]),
    )


def _fit(months: _Months, growth: Floats) -> tuple[Floats, float]:
    """The logarithm of each month's factor (their mean is 0), and how much the same months differ from each other (variance)."""
    rate = np.log(months.runs / months.days)
    columns = [(months.month == month).astype(float) for month in range(MONTHS)]
    if growth.any():
        columns.append(growth - growth.mean())
    design = np.stack(columns, axis=1)
    weight = np.sqrt(months.runs)
    found = np.linalg.lstsq(design * weight[:, None], rate * weight, rcond=None)[0]
    left = rate - design @ found
    rest = float((months.runs * left**2).sum() / months.runs.mean()) / max(len(rate) - len(found), 1)
    effects = found[:MONTHS]
    return effects - effects.mean(), rest
