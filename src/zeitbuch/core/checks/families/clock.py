# Clocks: in which zone, at an hour that there is not, on a day that there is not, and nobody looked at for years.
"""Checks of schedules and of age."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache

from zeitbuch.core.assumptions.recurrence import count_firings, zone_of
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Schedule, Trigger

from ..records import Check, Hit
from ..views import FlowView

_ANY_DAY = "2026-01-01"  # where no day is known
_YEARS = 5  # ahead: a leap day is among them


def _clocks(view: FlowView) -> Iterator[tuple[Trigger, Schedule]]:
    for trigger in view.flow.triggers:
        if trigger.kind in ("schedule", "polling") and trigger.enabled and trigger.schedule is not None:
            yield trigger, trigger.schedule


def _no_zone(view: FlowView) -> Iterator[Hit]:
    for trigger, schedule in _clocks(view):
        if not schedule.zone and schedule.cron and trigger.kind == "schedule" and _is_at_an_hour(schedule.cron):
            told = f"{quote_name(trigger.title)} fires at {quote_name(schedule.cron)}, and the export does not say in which time zone"
            yield Hit(trigger, told)


def _is_at_an_hour(cron: str) -> bool:
    """Whether a cron text names hours: by the minute alone every zone is the same, but for half hours."""
    fields = cron.split()
    hour = fields[-4] if len(fields) in (5, 6) else "*"
    return hour not in ("*", "*/1") and not any(map(str.isalpha, hour))


def _clock_changes(view: FlowView) -> Iterator[Hit]:
    for trigger, schedule in _clocks(view):
        times = daily_times(schedule.cron) if schedule.cron and schedule.zone else ()
        for hour, minute in times:
            said = _changed_at(schedule.zone or "", hour, minute, view.estate.facts.today)
            if said:
                told = f"{quote_name(trigger.title)} fires at {hour:02}:{minute:02} in {schedule.zone}, {said}"
                yield Hit(trigger, told)
                break


def daily_times(cron: str) -> list[tuple[int, int]]:
    """The times of the day that a cron text names by numbers; none where it fires in most hours."""
    fields = cron.split()[-5:]
    hours = fields[1].split(",") if len(fields) == 5 else []
    minute = int(fields[0]) if hours and fields[0].isdigit() else 30
    return [(int(hour), minute) for hour in hours] if all(hour.isdigit() for hour in hours) else []


@lru_cache(maxsize=1024)
def _changed_at(zone_name: str, hour: int, minute: int, today: str) -> str:
    """What the next clock change that meets a time of the day does to it: skips it, or doubles it; empty for none within two years."""
    try:
        zone = zone_of(zone_name)
    except ZeitbuchError:
        return ""
    first = date.fromisoformat(today or _ANY_DAY)
    day = datetime(first.year, first.month, first.day, hour, minute, tzinfo=zone)
    for _ in range(730):
        day += timedelta(days=1)
        if day.utcoffset() != day.replace(fold=1).utcoffset():
            back = day.astimezone(UTC).astimezone(zone)
            there = (back.hour, back.minute) == (hour, minute)
            return f"which {'comes twice' if there else 'there is not'} on {day.date()}"
    return ""


def _never_fires(view: FlowView) -> Iterator[Hit]:
    today = view.estate.facts.today
    for trigger, schedule in _clocks(view):
        rare = schedule.rule or schedule.repeat or (schedule.cron and _is_by_date(schedule.cron))
        if not today or not rare:
            continue
        often = _firings(schedule, date.fromisoformat(today))
        if often == 0:
            text = schedule.cron or schedule.rule or schedule.repeat or ""
            yield Hit(
                trigger, f"{quote_name(trigger.title)} fires at {quote_name(text)}: not once in the next {_YEARS} years"
            )


def _firings(schedule: Schedule, first: date) -> float | None:
    """Times that a schedule fires in the years to come; None where it is none."""
    try:
        return count_firings(schedule, first, date(first.year + _YEARS, first.month, min(first.day, 28)))
    except ZeitbuchError:
        return None  # told while reading


def _is_by_date(cron: str) -> bool:
    """Whether a cron text names a day and a month: all others fire within a month."""
    fields = cron.split()[-5:]
    return len(fields) == 5 and fields[2] not in ("*", "?") and fields[3] != "*"


def _stale(view: FlowView) -> Iterator[Hit]:
    flow, today = view.flow, view.estate.facts.today
    if (
        flow.state in ("off", "draft")
        or not today
        or not view.kinds & AI_KINDS
        or not any(one.enabled for one in flow.triggers)
    ):
        return
    try:
        changed = date.fromisoformat(flow.changed[:10])
    except ValueError:
        return
    days = (date.fromisoformat(today) - changed).days
    if days > view.estate.limits.stale_days:
        yield Hit(None, f"last changed on {changed}, {days:,} days ago, and its model calls are still paid for", False)


CHECKS: tuple[Check, ...] = (
    Check("zone-missing", "low", "a time without a time zone",
          "It fires an hour or more off, or twice a year at another time.",
          "Schedules at certain hours whose export says no zone.",
          "Zones that the platform sets for all.",
          "State the zone.", _no_zone),
    Check("clock-change", "low", "a time that a clock change skips or doubles",
          "It runs twice in one night of the year, or not at all.",
          "The clock changes of this year and the next in the zone of the schedule, against the times of the day that its cron text names.",
          "Schedules written as rules or intervals, and hours written as ranges.",
          "Move it by an hour.", _clock_changes),
    Check("schedule-never-fires", "high", "a schedule that never fires",
          "What it was to do is not done, and nothing fails.",
          f"The schedule is followed for {_YEARS} years from today: days that there are not, and rules that have ended.",
          "Schedules that the export does not state.",
          "Correct the date, or switch the flow off.", _never_fires),
    Check("flow-stale", "low", "a flow that nobody has touched for years",
          "It is paid for, and perhaps nobody knows what for.",
          "The day of the last change against today (`stale_days`), for flows with model calls that are not off.",
          "Exports that state no day.",
          "Have its owner look at it.", _stale),
)  # fmt: skip
