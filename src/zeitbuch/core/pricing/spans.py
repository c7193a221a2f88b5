# Prices, rates of exchange, hosts and meters hold from a day on, so that a month is a sum of spans on which all of them stay the same.
# Where a flow runs on some days only, its spans weigh what it runs on them; where nothing says on which, each day weighs the same.
"""Months as sums of their days."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from itertools import pairwise
from typing import NamedTuple

from zeitbuch.core.assumptions.recurrence import count_firings
from zeitbuch.core.assumptions.volume import Month, Volume, month_bounds
from zeitbuch.core.model.records import Flow, Trigger

Weights = tuple[float, ...]  # of the spans of a month: they sum to 1


class Span(NamedTuple):
    """Days on which nothing changes: the first, and the day after the last."""

    first: date
    after: date

    @property
    def days(self) -> int:
        return (self.after - self.first).days


class Calendar(NamedTuple):
    """The spans of a month, or of all months of a year (``months``: for each the places of its spans)."""

    spans: tuple[Span, ...]
    months: tuple[tuple[int, ...], ...]

    @property
    def by_days(self) -> Weights:
        """Each day weighs the same."""
        total = sum(span.days for span in self.spans)
        return tuple(span.days / total for span in self.spans)


def calendar_of(month: Month, changes: Iterable[date]) -> Calendar:
    """The spans between the days on which something changes. The average month of a year has those of twelve months."""
    year, number = month
    days = sorted(set(changes))
    spans: list[Span] = []
    months: list[tuple[int, ...]] = []
    for one in [number] if number else range(1, 13):
        first, after = month_bounds((year, one))
        cuts = [first, *(day for day in days if first < day < after), after]
        months.append(tuple(range(len(spans), len(spans) + len(cuts) - 1)))
        spans += [Span(begin, end) for begin, end in pairwise(cuts)]
    return Calendar(tuple(spans), tuple(months))


def weights_of_triggers(flow: Flow, volumes: Mapping[str, Volume], calendar: Calendar) -> Weights | None:
    """How the runs that a flow's own triggers start lie over the spans of one month: as their schedules say, else by days. None
    where that is by days, where a volume is not known, and for an average month."""
    if len(calendar.spans) < 2 or len(calendar.months) > 1:
        return None
    parts: list[tuple[float, Weights]] = []
    for trigger in flow.triggers:
        volume = volumes.get(trigger.id)
        if volume is None or volume.runs is None:
            return None
        parts.append((volume.runs, _weights_of_trigger(trigger, calendar)))
    return mean_weights(parts, calendar)


def mean_weights(parts: Iterable[tuple[float, Weights | None]], calendar: Calendar) -> Weights | None:
    """The weights of runs of several origins together (None: by days); None for no runs, and where all are by days."""
    held = [(runs, weights) for runs, weights in parts if runs]
    total = sum(runs for runs, _ in held)
    if not total or all(weights is None or weights == calendar.by_days for _, weights in held):
        return None
    rows = [(runs, weights or calendar.by_days) for runs, weights in held]
    return tuple(sum(runs * weights[place] for runs, weights in rows) / total for place in range(len(calendar.spans)))


def _weights_of_trigger(trigger: Trigger, calendar: Calendar) -> Weights:
    if trigger.schedule is None or trigger.kind not in ("schedule", "polling"):
        return calendar.by_days
    fired = [count_firings(trigger.schedule, span.first, span.after) for span in calendar.spans]
    total = sum(fired)
    return tuple(one / total for one in fired) if total else calendar.by_days
