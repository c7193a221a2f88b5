# A rule may hold on some days only. The days of a month on which the same rules hold are estimated together, and the month is their sum.
"""Days of a month, and the rules that hold on them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta
from functools import lru_cache
from typing import NamedTuple

from .rules import Assumptions, Rule, rules_of

Month = tuple[int, int]  # year and month; month 0 stands for the average of the year
_KEPT = 8  # assumptions of which it is kept


class Span(NamedTuple):
    """Consecutive days: the first, and the day after the last."""

    first: date
    after: date

    @property
    def days(self) -> int:
        return (self.after - self.first).days


class Days(NamedTuple):
    """Some days of a month on which the same rules hold, and their share of all its days."""

    spans: tuple[Span, ...]
    share: float

    def holds(self, day: date) -> bool:
        return any(span.first <= day < span.after for span in self.spans)

    @property
    def words(self) -> str:
        """'on 10 days from 2026-11-01': how many, from the first on; nothing for all days."""
        if self.share == 1:
            return ""
        count = sum(span.days for span in self.spans)
        return f"on {count} day{'s' if count != 1 else ''} from {self.spans[0].first}"


def month_bounds(month: Month) -> tuple[date, date]:
    """First day, and the day after the last."""
    year, number = month
    if not number:
        return date(year, 1, 1), date(year + 1, 1, 1)
    return date(year, number, 1), date(year + (number == 12), number % 12 + 1, 1)


@lru_cache(maxsize=64)
def whole_month(month: Month) -> Days:
    """All days of a month, or of a year."""
    return Days((Span(*month_bounds(month)),), 1.0)


def days_of(days: Days) -> list[date]:
    """Each single day."""
    return [span.first + timedelta(place) for span in days.spans for place in range(span.days)]


_dated: list[tuple[Assumptions, list[Rule]]] = []  # of the assumptions used last


def dated_rules(assumptions: Assumptions) -> list[Rule]:
    """The rules that hold on some days only."""
    for kept, rules in _dated:
        if kept is assumptions:
            return rules
    found = [rule for rule in rules_of(assumptions) if rule.dated]
    _dated[:] = [*_dated[1 - _KEPT :], (assumptions, found)]
    return found


def split_days(rules: Iterable[Rule], month: Month) -> tuple[Days, ...]:
    """The days of a month (of all months of a year) by which of some rules hold on them; nothing where that is the same on all."""
    first, after = month_bounds(month)
    rules, count = list(rules), (after - first).days
    groups: dict[tuple[bool, ...], list[date]] = {}
    for day in (first + timedelta(place) for place in range(count)):
        groups.setdefault(tuple([rule.holds_on(day) for rule in rules]), []).append(day)
    return tuple(Days(_spans_of(days), len(days) / count) for days in groups.values()) if len(groups) > 1 else ()


def _spans_of(days: list[date]) -> tuple[Span, ...]:
    spans: list[Span] = []
    for day in days:
        if spans and spans[-1].after == day:
            spans[-1] = Span(spans[-1].first, day + timedelta(1))
        else:
            spans.append(Span(day, day + timedelta(1)))
    return tuple(spans)


def holds_throughout(rule: Rule, days: Days) -> bool:
    """Whether a rule holds on all of some days."""
    return all(rule.holds_on(span.first + timedelta(place)) for span in days.spans for place in range(span.days))


def days_told_apart(rules: Iterable[Rule]) -> list[Days]:
    """One day of each kind, by which of some rules hold on it, whatever the month."""
    rules = list(rules)
    edges = {day for rule in rules for day in (rule.since, rule.until) if day is not None} or {date(2000, 1, 1)}
    kinds: dict[tuple[bool, ...], Days] = {}
    # In the week before a change and in the week after it stands every weekday.
    for day in sorted(edge + timedelta(place) for edge in edges for place in range(-7, 7)):
        one = Days((Span(day, day + timedelta(1)),), 1.0)
        kinds.setdefault(tuple([rule.holds_on(day) for rule in rules]), one)
    return list(kinds.values())
