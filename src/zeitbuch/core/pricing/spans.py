# Prices, rates of exchange, hosts and meters hold from a day on, so that a month is a sum of spans on which all of them stay the same.
# Where a flow runs on some days only, its spans weigh what it runs on them; where nothing says on which, each day weighs the same.
"""Months as sums of their days."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from itertools import pairwise
from typing import NamedTuple

from zeitbuch.core.assumptions.days import Days, Month, Span, month_bounds
from zeitbuch.core.assumptions.recurrence import count_firings
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.model.records import Flow, Trigger

Weights = tuple[float, ...]  # of the spans of a month: they sum to 1


class Calendar(NamedTuple):
    """The spans of a month, or of all months of a year (``months``: for each the places of its spans)."""

    spans: tuple[Span, ...]
    months: tuple[tuple[int, ...], ...]

    @property
    def by_days(self) -> Weights:
        """Each day weighs the same."""
        return self.weights_of_days(None)

    def weights_of_days(self, days: Days | None) -> Weights:
        """Each of some days weighs the same, all others nothing."""
        held = [span.days if days is None or days.holds(span.first) else 0 for span in self.spans]
        return tuple(number / sum(held) for number in held)


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


def weights_of_triggers(
    flow: Flow, volumes: Mapping[str, Volume], calendar: Calendar, days: Days | None = None
) -> Weights | None:
    """How the runs that a flow's own triggers start lie over the spans of one month, or over some ``days`` of it: as their schedules
    say, else by days. None where that is by all days, where a volume is not known, and for an average month."""
    if days is None and (len(calendar.spans) < 2 or len(calendar.months) > 1):
        return None
    even = calendar.weights_of_days(days)
    parts: list[tuple[float, Weights | None]] = []
    for trigger in flow.triggers:
        volume = volumes.get(trigger.id)
        if volume is None or volume.runs is None:
            return None if days is None else even
        parts.append((float(volume.runs), _weights_of_trigger(trigger, calendar, days)))
    found = mean_weights(parts, even)
    return even if found is None and days is not None else found


def mean_weights(parts: Iterable[tuple[float, Weights | None]], even: Weights) -> Weights | None:
    """The weights of runs of several origins together (None: ``even``, by days); None for no runs, and where all are by days."""
    held = [(runs, weights) for runs, weights in parts if runs]
    total = sum(runs for runs, _ in held)
    if not total or all(weights is None or weights == even for _, weights in held):
        return None
    rows = [(runs, weights or even) for runs, weights in held]
    return tuple(sum(runs * weights[place] for runs, weights in rows) / total for place in range(len(even)))


def _weights_of_trigger(trigger: Trigger, calendar: Calendar, days: Days | None) -> Weights | None:
    if trigger.schedule is None or trigger.kind not in ("schedule", "polling"):
        return None
    fired = [
        count_firings(trigger.schedule, span.first, span.after) if days is None or days.holds(span.first) else 0
        for span in calendar.spans
    ]
    total = sum(fired)
    return tuple(one / total for one in fired) if total else None
