# A rule may hold on some days only. The days of a month on which the same rules hold are estimated together, and the month is their sum.
"""Days of a month, and the rules that hold on them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import date, timedelta
from functools import partial
from typing import NamedTuple

from msgspec import structs

from .rules import Assumptions, Overlaid, Rule, rules_of

Month = tuple[int, int]  # year and month; month 0 stands for the average of the year
_KEPT = 64  # selections of rules that are kept


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
        """'on 10 days from 2026-11-01': how many, from the first on."""
        count = sum(span.days for span in self.spans)
        return f"on {count} day{'s' if count != 1 else ''} from {self.spans[0].first}"


def month_bounds(month: Month) -> tuple[date, date]:
    """First day, and the day after the last."""
    year, number = month
    if not number:
        return date(year, 1, 1), date(year + 1, 1, 1)
    return date(year, number, 1), date(year + (number == 12), number % 12 + 1, 1)


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


_selected: list[tuple[Assumptions, Month, Days | None, Assumptions]] = []  # those used last


def rules_on(assumptions: Assumptions, month: Month, days: Days | None) -> Assumptions:
    """The assumptions with the rules that hold on some days of a month; without ``days`` those that hold on all of them."""
    if not dated_rules(assumptions):
        return assumptions
    for kept, when, on, found in _selected:
        if kept is assumptions and when == month and on == days:
            return found
    held = days.spans if days is not None else (Span(*month_bounds(month)),)
    made = _selection(assumptions, lambda rule: not rule.dated or _holds_throughout(rule, held))
    _selected[:] = [*_selected[1 - _KEPT :], (assumptions, month, days, made)]
    return made


def sets_of_rules(assumptions: Assumptions) -> list[Assumptions]:
    """The assumptions as they hold at one time or another, each once."""
    dated = dated_rules(assumptions)
    if not dated:
        return [assumptions]
    edges = {day for rule in dated for day in (rule.since, rule.until) if day is not None} or {date(2000, 1, 1)}
    weeks = {day + timedelta(place) for day in edges for place in range(-7, 7)}
    sets: dict[tuple[bool, ...], Assumptions] = {}
    for day in sorted(weeks):
        held = tuple([rule.holds_on(day) for rule in dated])
        if held not in sets:
            sets[held] = _selection(assumptions, partial(_holds, day))
    return list(sets.values())


def rules_by_days(assumptions: Assumptions) -> list[tuple[Rule | None, Assumptions]]:
    """The rules of all days alone (None), and with each rule of some days beside them."""
    found: list[tuple[Rule | None, Assumptions]] = [(None, _selection(assumptions, lambda rule: not rule.dated))]
    for one in dated_rules(assumptions):
        found.append((one, _selection(assumptions, partial(_is_held_beside, one))))
    return found


def _is_held_beside(one: Rule, rule: Rule) -> bool:
    return rule is one or not rule.dated


def _holds(day: date, rule: Rule) -> bool:
    return rule.holds_on(day)


def _selection(assumptions: Assumptions, wants: Callable[[Rule], bool]) -> Assumptions:
    """The assumptions with some of their rules."""
    if isinstance(assumptions, Overlaid):
        overlay = tuple(rule for rule in assumptions.overlay if wants(rule))
        return structs.replace(assumptions, assume=tuple(filter(wants, assumptions.assume)), overlay=overlay)
    return structs.replace(assumptions, assume=tuple(filter(wants, assumptions.assume)))


def _holds_throughout(rule: Rule, spans: Iterable[Span]) -> bool:
    return all(rule.holds_on(span.first + timedelta(place)) for span in spans for place in range(span.days))
