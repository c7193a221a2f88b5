# How often a flow runs, as the log has it: after the last change, by weekdays where these differ, with what its mean of a month may be. A
# schedule says itself how often it fires: there the log is held against it, and nothing is written.
"""Measured volumes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import date, timedelta
from typing import NamedTuple

import numpy as np

from zeitbuch.core.assumptions.days import Days, Span
from zeitbuch.core.assumptions.rules import WEEKDAYS, Weekday
from zeitbuch.core.assumptions.volume import schedule_runs
from zeitbuch.core.estimate.flow_figures import FlowFigures
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Trigger

from .changes import dispersion_of_counts, last_change_of_counts
from .observed import Floats

FEW = 30  # cases below which nothing is said by the log alone
DAYS_OF_MONTH = 365.25 / 12
ENDS = math.sqrt(7.0)  # a PERT distribution with its mean in the middle reaches so many standard deviations either way
_PRIOR_CASES = 10.0  # what a declared or default volume counts for beside few cases
_DIFFERENT = 12.0  # twice the gain in log-likelihood at which weekdays differ


class Rate(NamedTuple):
    """Runs a day on some weekdays (all without any): the mean, its relative standard deviation as a mean of ``horizon`` days, and the runs that
    were counted."""

    mean: float
    deviation: float
    runs: float
    weekdays: tuple[Weekday, ...] = ()


class VolumeFit(NamedTuple):
    """The rates since ``first`` (a place among the days)."""

    first: int
    rates: tuple[Rate, ...]


def fit_volume(
    days: Sequence[date], runs: Floats, horizon: float = DAYS_OF_MONTH, season: Floats | None = None
) -> VolumeFit:
    """The rates of a series of runs by day, for means of ``horizon`` days. ``season``: what an average day is multiplied by on each day; the
    rates are those of an average day."""
    weekday = np.array([day.weekday() for day in days])
    level = np.ones(len(runs)) if season is None else np.maximum(season, 1e-6)
    exposures = _weekday_factors(runs, weekday, level)
    first = last_change_of_counts(runs, exposures)
    if first:  # the rhythm of the stretch that counts
        exposures = _weekday_factors(runs[first:], weekday[first:], level[first:])
        first += last_change_of_counts(runs[first:], exposures)
    left, of_day, over = runs[first:], weekday[first:], level[first:]
    scale = max(dispersion_of_counts(left, over), _weekly_dispersion(left))
    return VolumeFit(
        first,
        tuple(_rate_of(left, of_day, over, group, scale, horizon) for group in _groups(left, of_day, over, scale)),
    )


def _weekday_factors(runs: Floats, weekday: Floats, level: Floats) -> Floats:
    """By what the rate of each day differs from the mean of all, drawn towards it where there are few runs."""
    mean = max(float(runs.sum() / level.sum()), 1e-9)
    factors = np.ones(7)
    for number in range(7):
        of_it = weekday == number
        factors[number] = (runs[of_it].sum() + 5.0) / (mean * level[of_it].sum() + 5.0)
    return np.maximum(factors[weekday] * level, 1e-6)


def _weekly_dispersion(runs: Floats) -> float:
    """How much sums of whole weeks vary, in parts of what chance alone gives; 0 with fewer than five."""
    weeks = len(runs) // 7
    if weeks < 5:
        return 0.0
    sums = runs[len(runs) - 7 * weeks :].reshape(weeks, 7).sum(axis=1)
    return float(sums.var(ddof=1) / sums.mean()) if sums.mean() > 0 else 0.0


def _groups(runs: Floats, weekday: Floats, level: Floats, scale: float) -> list[tuple[int, ...]]:
    """Weekdays that have one rate: all seven, workdays and weekend, or each by itself."""
    whole: list[tuple[int, ...]] = [tuple(range(7))]
    two: list[tuple[int, ...]] = [(0, 1, 2, 3, 4), (5, 6)]
    each: list[tuple[int, ...]] = [(number,) for number in range(7)]
    if len(runs) < 14 or runs.sum() < FEW:
        return whole
    gains = [_likelihood(runs, weekday, level, groups) for groups in (whole, two, each)]
    if 2 * (gains[2] - gains[1]) / scale > 2 * _DIFFERENT and len(runs) >= 28:
        return each
    return two if 2 * (gains[1] - gains[0]) / scale > _DIFFERENT else whole


def _likelihood(runs: Floats, weekday: Floats, level: Floats, groups: Sequence[tuple[int, ...]]) -> float:
    total = 0.0
    for group in groups:
        of_it = np.isin(weekday, group)
        counted = runs[of_it].sum()
        if counted > 0:
            total += float(counted * np.log(counted / level[of_it].sum()))
    return total


def _rate_of(
    runs: Floats, weekday: Floats, level: Floats, group: tuple[int, ...], scale: float, horizon: float
) -> Rate:
    of_it = np.isin(weekday, group)
    counted, over = float(runs[of_it].sum()), float(level[of_it].sum())
    mean = counted / over if over else 0.0
    coming = mean * horizon * len(group) / 7
    # Half a run more than counted: of none at all nobody knows that there never is one.
    deviation = math.sqrt(max(scale, 0.1) * (1 / (counted + 0.5) + 1 / (coming + 0.5)))
    return Rate(mean, deviation, counted, () if len(group) == 7 else tuple(WEEKDAYS[number] for number in group))


def drawn_to(rate: Rate, days: float, awaited: float | None) -> tuple[Rate, bool]:
    """A rate with few cases drawn towards what was assumed (``awaited`` runs on those days), and whether it was."""
    if rate.runs >= FEW or awaited is None:
        return rate, False
    before = awaited / days if days else rate.mean
    weight = rate.runs / (rate.runs + _PRIOR_CASES)
    mean = weight * rate.mean + (1 - weight) * before
    return rate._replace(mean=mean, deviation=max(rate.deviation, 1 / math.sqrt(rate.runs + _PRIOR_CASES))), True


def ends_of(mean: float, deviation: float, least: float = 0.0, most: float = math.inf) -> tuple[float, float]:
    """The ends between which a mean lies, from its relative standard deviation: those of a PERT distribution with it in the middle, as far
    as its bounds allow."""
    reach = ENDS * deviation * mean
    low, high = max(mean - reach, least + 0.02 * (mean - least)), min(mean + reach, most - 0.02 * (most - mean))
    return (low, high) if low < mean < high else (mean, mean)


class Place(NamedTuple):
    """Which assumption a volume is: its quantity and trigger, and by what runs a day become it, once the runs that other triggers and flows cause
    are taken off (``others``, a day); ``part`` of the rest is this trigger's, and
    ``own`` of all runs that no other flow causes, as estimated."""

    quantity: str
    trigger: str
    words: str
    times: float
    others: float = 0.0
    part: float = 1.0
    own: float = 1.0


def places_of_volume(run: FlowFigures, checks_a_day: float, called_a_day: float) -> list[Place] | str:
    """Where the volume of a flow is declared; in words why nowhere. ``called_a_day``: runs that other flows cause."""
    triggers = [one for one in run.flow.triggers if one.enabled]
    if not triggers:
        return "it has no trigger that is on: how often it runs is told by the flows that call it"
    if all(one.kind == "call" for one in triggers):
        return "other flows call it: how often it runs follows from them"
    if len(triggers) == 1 and not called_a_day:
        found = _place_of_one(triggers[0], run, checks_a_day)
        return found if isinstance(found, str) else [found]
    return _places_of_several(triggers, run, called_a_day)


def _places_of_several(triggers: Sequence[Trigger], run: FlowFigures, called_a_day: float) -> list[Place] | str:
    free = [one for one in triggers if one.kind != "call" and one.schedule is None]
    if not free:
        return "its schedules and the flows that call it say how often it runs"
    shares = {key: float(share.amount) for key, (share, _) in (run.entry or {}).items()}
    total = float(run.volume.runs or 0.0)
    if not {one.id for one in triggers if one.kind != "call"} <= set(shares):
        ruled = [
            one
            for one in triggers
            if (rule := run.lookup.find_rule("runs", trigger=(one.id, one.name))) is not None
            and rule.rule.trigger != "*"
        ]
        if ruled:
            return "how its runs are shared among its triggers nobody has said"
        return [Place("runs", "*", "runs of all triggers", DAYS_OF_MONTH)]
    others = called_a_day + total * sum(shares[one.id] for one in triggers if one not in free and one.id in shares)
    whole = sum(shares[one.id] for one in free)
    return [
        Place(
            "runs",
            literal_pattern(one.id),
            f"runs of ‘{one.title}’",
            DAYS_OF_MONTH,
            others,
            shares[one.id] / whole if whole else 1 / len(free),
            shares[one.id],
        )
        for one in free
    ]


def _place_of_one(trigger: Trigger, run: FlowFigures, checks_a_day: float) -> Place | str:
    pattern, names = literal_pattern(trigger.id), (trigger.id, trigger.name)
    if trigger.schedule is not None and run.lookup.find("runs", trigger=names) is None:
        if trigger.kind == "polling" and checks_a_day and run.lookup.find("events", trigger=names) is None:
            return Place("hit_rate", pattern, f"hit rate of ‘{trigger.title}’", 1 / checks_a_day)
        if trigger.kind == "schedule":
            return "its schedule says how often it runs"
    return Place("runs", pattern, f"runs of ‘{trigger.title}’", DAYS_OF_MONTH)


def is_declared(run: FlowFigures, place: Place) -> bool:
    """Whether somebody declared a volume."""
    found = [
        run.lookup.find(quantity, trigger=(trigger.id, trigger.name))
        for trigger in run.flow.triggers
        for quantity in ("runs", "events", "hit_rate")
        if place.trigger in ("*", literal_pattern(trigger.id))
    ]
    return any(value is not None and value.evidence == "declared" for value in found)


def checks_by_day(run: FlowFigures, days: Sequence[date]) -> Floats:
    """How often the flow's polls check on each day."""
    polls = [
        one.schedule for one in run.flow.triggers if one.enabled and one.kind == "polling" and one.schedule is not None
    ]
    single = [Days((Span(day, day + timedelta(1)),), 1.0) for day in days]
    return np.array(
        [
            sum(schedule_runs(poll, (day.year, day.month), one) for poll in polls)
            for day, one in zip(days, single, strict=True)
        ]
    )
