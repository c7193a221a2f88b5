# When a trigger fires, in the many ways builders write it: one cron text, a number with its unit beside it, weekdays or days of the
# month with a time of the day. All become one schedule.
"""Schedules of triggers."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from zeitbuch.core.model.records import Schedule
from zeitbuch.readers.input import clock_texts, clock_words

from .field_checks import Form
from .paths import Getter, as_text, as_whole_number

_CRON = re.compile(r"\s*(@\w+|(\S+\s+){4,5}\S+)\s*$")
_TIME = re.compile(r"\s*(\d{1,2})[:.h](\d{2})?(?:[:.]00)?\s*(am|pm)?\s*", re.IGNORECASE)
_WEEKDAYS = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")


DAY_FIELDS = ("time", "hour", "minute", "days", "month_days")
_NUMBERS = {
    "month_days": (range(1, 32), "days of the month, 1 to 31"), "hour": (range(24), "hours of the day, 0 to 23"),
    "minute": (range(60), "a minute, 0 to 59"),
}  # fmt: skip


class ScheduleWords(NamedTuple):
    """What the builder's words for units and weekdays mean; ``unit``: seconds of an interval that names none."""

    unit: float
    units: dict[str, Any]
    weekdays: dict[str, Any]


class Clock(NamedTuple):
    """A schedule, or None where there is none or it cannot be told what it means; and the fields that it was made of."""

    schedule: Schedule | None
    fields: frozenset[str] = frozenset()


def schedule_of_clock(text: str, zone: str | None) -> Schedule | None:
    """The schedule of one text: words, cron, a recurrence rule or a repeating interval; None where it is none of them. Words may have as
    many parts as a cron text."""
    said = clock_words.schedule_of_words(text, zone) if any(map(str.isalpha, text)) else None
    if said is not None:
        return said
    if _CRON.match(text):
        return Schedule(cron=text, zone=zone)
    return clock_texts.schedule_of_text(text, zone)


def read_clock(get: dict[str, Getter], words: ScheduleWords, raw: dict[str, Any]) -> Clock:
    """The clock part of a trigger. A cron text counts before an interval, and both before days and times."""
    zone = (as_text(get["zone"](raw)) or None) if "zone" in get else None
    cron = as_text(get["cron"](raw)) if "cron" in get else ""
    every = _interval_of(get, words, raw)
    interval = {"every", "unit"} if every is not None else set()
    if cron:
        other = schedule_of_clock(cron, zone)
        if other is not None and other.cron != cron:
            return Clock(other, frozenset({"cron", "zone"}))
        return Clock(Schedule(cron=cron, every=every, zone=zone), frozenset({"cron", "zone", *interval}))
    if every is not None:
        return Clock(Schedule(every=every, zone=zone), frozenset({"zone", *interval}))
    made = _cron_of_days(get, words, raw)
    return Clock(Schedule(cron=made, zone=zone), frozenset({*DAY_FIELDS, "zone"})) if made else Clock(None)


def _interval_of(get: dict[str, Getter], words: ScheduleWords, raw: dict[str, Any]) -> float | None:
    if "every" not in get:
        return None
    unit = words.unit
    named = as_text(get["unit"](raw)) if "unit" in get else ""
    if named:
        spelled = clock_texts.UNITS.get(words.units.get(named, ""))
        known = spelled if words.units else clock_texts.UNIT_SECONDS.get(named.lower())
        if known is None:
            return None
        unit = known
    return clock_texts.duration_of(get["every"](raw), unit)


def time_of_day(value: Any) -> tuple[int, int] | None:
    """Hour and minute of "08:30", "8.30", "8:30 pm"; None when it is no time of the day."""
    hit = _TIME.fullmatch(as_text(value))
    if hit is None:
        return None
    hour, minute = int(hit[1]), int(hit[2] or 0)
    if hit[3]:
        if not 1 <= hour <= 12:
            return None
        hour = hour % 12 + (12 if hit[3].lower() == "pm" else 0)
    return (hour, minute) if hour < 24 and minute < 60 else None


def weekday_of(value: Any, words: dict[str, Any]) -> int | None:
    """The day of the week as in a cron text (0 is Sunday) of a word or, where no words are named, of its first three letters."""
    text = as_text(value).strip()
    if words:
        return _WEEKDAYS.index(words[text]) if text in words else None
    return _WEEKDAYS.index(text[:3].lower()) if text[:3].lower() in _WEEKDAYS else None


def form_of_unit(words: dict[str, Any]) -> Form:
    """What the unit of an interval must be."""
    known = words or clock_texts.UNIT_SECONDS
    expected = f"one of {', '.join(sorted(words))}" if words else "a unit of time such as minutes or hours"
    return Form(lambda value: (as_text(value) if words else as_text(value).lower()) in known, expected)


def form_of_days(name: str, words: dict[str, Any]) -> Form:
    """What weekdays, days of the month and times of the day must be."""
    if name == "time":
        return Form(lambda value: None not in map(time_of_day, _listed_times(value)), "times of the day such as 08:30")
    if name in _NUMBERS:
        allowed, expected = _NUMBERS[name]
        return Form(lambda value: all(as_whole_number(one) in allowed for one in _listed(value)), expected)
    known = f"weekdays: {', '.join(words)}" if words else "weekdays such as mon or Monday"
    return Form(lambda value: all(weekday_of(one, words) is not None for one in _listed(value)), known)


def _listed(value: Any) -> list[Any]:
    if type(value) is str:
        return [part for part in re.split(r"[,;\s]+", value) if part]
    return value if type(value) is list else [] if value is None else [value]


def _cron_of_days(get: dict[str, Getter], words: ScheduleWords, raw: dict[str, Any]) -> str:
    times = _times_in(get, raw)
    days = [weekday_of(one, words.weekdays) for one in _listed(get["days"](raw))] if "days" in get else []
    month_days = [as_whole_number(one) for one in _listed(get["month_days"](raw))] if "month_days" in get else []
    if not times or None in times or None in days or None in month_days:
        return ""
    return clock_words.cron_text(
        [time for time in times if time],
        [day for day in days if day is not None],
        [day for day in month_days if day is not None],
    )


def _times_in(get: dict[str, Getter], raw: dict[str, Any]) -> list[tuple[int, int] | None]:
    """The times of the day, as texts or as hours with a minute; None for each that is none."""
    if "time" in get and (listed := _listed_times(get["time"](raw))):
        return [time_of_day(one) for one in listed]
    hours = [as_whole_number(one) for one in _listed(get["hour"](raw))] if "hour" in get else []
    said = get["minute"](raw) if "minute" in get else None
    minute = 0 if said is None else as_whole_number(said)
    return [_time_at(hour, minute) for hour in hours]


def _time_at(hour: int | None, minute: int | None) -> tuple[int, int] | None:
    if hour is None or minute is None:
        return None
    return (hour, minute) if hour in range(24) and minute in range(60) else None


def _listed_times(value: Any) -> list[Any]:
    return (
        value
        if type(value) is list
        else []
        if value is None
        else [part for part in as_text(value).split(",") if part.strip()]
    )
