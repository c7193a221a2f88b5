# How often a schedule fires within a span of days of its own time zone. Every clock time that the zone's clocks show is
# counted: where an hour comes twice a rule that fires every hour fires in both, where it is missing in none; a rule for
# certain times of the day fires once a day.
"""Counting of cron texts, RFC 5545 rules, ISO 8601 repeating intervals and plain intervals."""

from __future__ import annotations

import math
import re
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Schedule

_MACROS = {
    "@hourly": "0 * * * *", "@daily": "0 0 * * *", "@midnight": "0 0 * * *", "@weekly": "0 0 * * 0", "@monthly": "0 0 1 * *",
    "@yearly": "0 0 1 1 *", "@annually": "0 0 1 1 *",
}  # fmt: skip
_OFTEN = frozenset({"HOURLY", "MINUTELY", "SECONDLY"})
_MOST = 3_000_000


@lru_cache(maxsize=256)
def zone_of(name: str) -> ZoneInfo:
    """A time zone by its IANA name. Raises ZeitbuchError when there is none."""
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise fail("zone", f"expected an IANA time zone, found '{name}'", "example: Europe/Oslo") from None


def count_firings(schedule: Schedule, first: date, after: date) -> float:
    """Times a schedule fires from the midnight of ``first`` to that of ``after``, in its zone (UTC when it has none).

    Raises ZeitbuchError when the schedule is none.
    """
    zone = schedule.zone or "UTC"
    if schedule.cron is not None:
        return float(cron_fires(schedule.cron, zone, first, after))
    if schedule.rule is not None:
        return float(rule_fires(schedule.rule, zone, first, after))
    if schedule.repeat is not None:
        return repeat_fires(schedule.repeat, zone, first, after)
    if schedule.every is not None:
        if schedule.every <= 0:
            raise fail("every", f"expected an interval over 0 seconds, found {schedule.every:g}")
        begin, end = _zone_span(zone_of(zone), first, after)
        return (end.timestamp() - begin.timestamp()) / schedule.every
    return 0.0


def _zone_span(zone: ZoneInfo, first: date, after: date) -> tuple[datetime, datetime]:
    return datetime(first.year, first.month, first.day, tzinfo=zone), datetime(
        after.year, after.month, after.day, tzinfo=zone
    )


@lru_cache(maxsize=8192)
def cron_fires(cron: str, zone_name: str, first: date, after: date) -> int:
    """Times a cron text of five fields, or six with seconds first, fires."""
    from cronsim import CronSim, CronSimError

    begin, end = _zone_span(zone_of(zone_name), first, after)
    text = _MACROS.get(cron.strip().lower(), cron.replace("?", "*"))
    fields = text.split()
    often = 1
    try:
        if len(fields) == 6:
            # Each minute that fits fires once for each second that fits.
            often = len(CronSim(text, begin).seconds)
            fields = fields[1:]
        if fields == ["*"] * 5:
            return often * round((end.timestamp() - begin.timestamp()) / 60)
        if len(fields) != 5:
            raise ValueError
        if begin.utcoffset() == end.utcoffset() and (after - first).days < 60:
            # No change of the clock within: so many times on each day that fits.
            sim = CronSim(" ".join(fields), begin)
            return often * len(sim.minutes) * len(sim.hours) * _cron_days(" ".join(fields[2:]), zone_name, first, after)
        return often * _count_by_walking(" ".join(fields), begin, end)
    except (CronSimError, ValueError):
        if _names_no_day(fields):
            return 0
        raise fail(
            "cron",
            f"expected a cron text of five fields, or six with seconds first, found '{cron}'",
            "example: 40 5 * * 1-6 (Mondays to Saturdays 05:40)",
        ) from None


def _names_no_day(fields: list[str]) -> bool:
    """Whether a cron text is one but for naming a day that its months never have (30 February)."""
    from cronsim import CronSim, CronSimError

    if len(fields) != 5 or not fields[2].replace(",", "").isdigit():
        return False
    days = [int(day) for day in fields[2].split(",") if day]
    try:
        CronSim(" ".join([*fields[:2], "1", *fields[3:]]), datetime(2000, 1, 1, tzinfo=UTC))
    except CronSimError:
        return False
    return bool(days) and all(1 <= day <= 31 for day in days)


def _count_by_walking(cron: str, begin: datetime, end: datetime) -> int:
    """Times a cron text fires, one after the other."""
    from cronsim import CronSim

    count = 0
    for moment in CronSim(cron, begin - timedelta(seconds=1)):
        if moment >= end:
            break
        count += 1
    return count


@lru_cache(maxsize=8192)
def _cron_days(days: str, zone_name: str, first: date, after: date) -> int:
    """Days that fit the last three fields of a cron text."""
    return _count_by_walking(f"0 0 {days}", *_zone_span(zone_of(zone_name), first, after))


def _clock_times(moment: datetime, zone: ZoneInfo, often: bool) -> int:
    """How often a clock of the zone shows a local time that a rule names: 1, or for rules that fire by the hour 2 when the
    hour comes twice and 0 when it is left out."""
    if not often:
        return 1
    early, late = moment.replace(tzinfo=zone), moment.replace(tzinfo=zone, fold=1)
    if early.utcoffset() == late.utcoffset():
        return 1
    exists = early.astimezone(UTC).astimezone(zone).replace(tzinfo=None) == moment
    return 2 if exists else 0


@lru_cache(maxsize=8192)
def rule_fires(rule: str, zone_name: str, first: date, after: date) -> int:
    """Times a recurrence of RFC 5545 section 3.3.10 fires. Without DTSTART it begins with the span."""
    from dateutil.rrule import rrulestr

    zone = zone_of(zone_name)
    text = "\n".join(line.strip() for line in rule.replace("\\n", "\n").splitlines() if line.strip())
    text, zone = _rule_on_clock(text, zone)
    begin = datetime(first.year, first.month, first.day)
    end = datetime(after.year, after.month, after.day)
    often = any(f"FREQ={name}" in text.upper() for name in _OFTEN) and "BYHOUR" not in text.upper()
    try:
        found: Any = rrulestr(text, dtstart=begin, forceset=True)
        count = 0
        for seen, moment in enumerate(found.xafter(begin, inc=True)):
            if moment >= end:
                break
            if seen > _MOST:
                raise fail("rule", f"expected a rule that fires less than {_MOST:,} times, found '{rule}'")
            count += _clock_times(moment, zone, often)
        return count
    except (ValueError, TypeError, AttributeError, KeyError, IndexError) as error:
        hint = "example: FREQ=WEEKLY;BYDAY=MO,WE;BYHOUR=8;BYMINUTE=0;BYSECOND=0"
        raise fail("rule", f"expected a recurrence rule (RFC 5545), found '{rule}': {error}", hint) from None


def _rule_on_clock(text: str, zone: ZoneInfo) -> tuple[str, ZoneInfo]:
    if "RRULE" not in text.upper() and "DTSTART" not in text.upper():
        text = f"RRULE:{text}"
    own = re.search(r"DTSTART;TZID=([^:;]+):", text)
    if own:
        zone = zone_of(own[1])
        text = text.replace(f";TZID={own[1]}", "")
    # Times in UTC are turned into the zone's clock, where days and hours of the rule are meant.
    text = re.sub(r"(\d{8}T\d{6})Z", lambda m: _local_time(m[1], zone), text)
    return text, zone


def _local_time(stamp: str, zone: ZoneInfo) -> str:
    moment = datetime.strptime(stamp, "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
    return moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")


@lru_cache(maxsize=8192)
def repeat_fires(text: str, zone_name: str, first: date, after: date) -> float:
    """Times an ISO 8601 repeating interval begins: R[n]/start/duration, R[n]/start/end, R[n]/duration[/end].

    R5 stands for five times in all. Durations in days, weeks, months or years keep the clock time, others the elapsed time.
    """
    zone = zone_of(zone_name)
    parts = text.strip().split("/")
    head = re.fullmatch(r"R(\d*)", parts[0])
    if head is None or len(parts) not in (2, 3):
        raise _no_interval(text)
    most = int(head[1]) if head[1] else None
    begin, end = _zone_span(zone, first, after)
    start, step, until = _parse_interval(text, parts[1:], zone)
    start = _first_start(start, most, until, step, begin)
    span = step.tdelta if not isinstance(step, timedelta) else step
    months = 0 if isinstance(step, timedelta) else int(step.years * 12 + step.months)
    if not months and span <= timedelta(0):
        raise _no_interval(text)
    said = next((part for part in parts[1:] if part.startswith("P")), "T")
    if "T" not in said:
        return float(_by_clock(start, step, most, begin, end, zone))
    return _by_elapsed_time(span, until, end, begin, start, most)


def _by_elapsed_time(
    span: Any | timedelta, until: datetime | None, end: datetime, begin: datetime, start: datetime, most: int | None
) -> float:
    gap = span.total_seconds()
    stop = min(end, until) if until is not None else end
    low = max(0, math.ceil((begin.timestamp() - start.timestamp()) / gap))
    high = math.ceil((stop.timestamp() - start.timestamp()) / gap)
    return float(max(0, (high if most is None else min(high, most)) - low))


def _first_start(
    start: datetime | None, most: int | None, until: datetime | None, step: Any, begin: datetime
) -> datetime:
    if start is None:
        if most is not None and until is not None:
            # Counted back from its end.
            start = until
            for _ in range(most):
                start = _step_back(start, step)
        else:
            start = begin
    return start


def _by_clock(start: datetime, step: Any, most: int | None, begin: datetime, end: datetime, zone: ZoneInfo) -> int:
    """Steps in days and months: the clock shows the same time each."""
    local, count, times = start.astimezone(zone).replace(tzinfo=None), 0, 0
    stop, origin = end.replace(tzinfo=None), local
    while local < stop and (most is None or times < most):
        count += local >= begin.replace(tzinfo=None)
        times += 1
        local = origin + step * times
        if times > _MOST:
            break
    return count


def _step_back(moment: datetime, step: Any) -> datetime:
    found: datetime = moment - step
    return found


def _parse_interval(text: str, parts: list[str], zone: ZoneInfo) -> tuple[datetime | None, Any, datetime | None]:
    """Start, step and end of the interval; a start and an end give the step."""
    import isodate

    moments: list[datetime] = []
    step: Any = None
    after_step = False
    try:
        for part in parts:
            if part.startswith("P"):
                step = isodate.parse_duration(part)
                after_step = not moments
            else:
                found = (
                    isodate.parse_datetime(part)
                    if "T" in part
                    else datetime.combine(isodate.parse_date(part), datetime.min.time())
                )
                moments.append(found if found.tzinfo is not None else found.replace(tzinfo=zone))
    except (ValueError, TypeError, OverflowError):
        raise _no_interval(text) from None
    if step is None:
        if len(moments) != 2:
            raise _no_interval(text)
        return moments[0], moments[1] - moments[0], None
    if after_step:
        return None, step, moments[0] if moments else None
    return moments[0], step, None


def _no_interval(text: str) -> Exception:
    hint = "example: R/2026-01-01T08:00:00+01:00/PT12H"
    return fail("interval", f"expected an ISO 8601 repeating interval, found '{text}'", hint)
