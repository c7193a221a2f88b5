"""Runs per month against calendars walked minute by minute."""

from __future__ import annotations

import math
import random
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import chain, step
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.recurrence import repeat_fires, rule_fires
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.assumptions.volume import (
    Volume,
    cron_runs,
    flow_volume,
    month_bounds,
    parse_month,
    runs_of_batches,
    schedule_runs,
)
from zeitbuch.core.assumptions.worlds import Worlds
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Schedule, Trigger


def walked(minute: int, hours: set[int], weekdays: set[int], zone: str, year: int, month: int) -> int:
    """Local minutes of a month at which the schedule fires, by walking every UTC minute."""
    at = datetime(year, month, 1, tzinfo=ZoneInfo(zone)).astimezone(UTC)
    seen = set()
    while True:
        local = at.astimezone(ZoneInfo(zone))
        if (local.year, local.month) != (year, month):
            return len(seen)
        if local.minute == minute and local.hour in hours and local.weekday() in weekdays:
            seen.add(local.replace(tzinfo=None))
        at += timedelta(minutes=1)


@settings(max_examples=15, deadline=None)
@given(
    st.integers(0, 59),
    st.sets(st.integers(4, 23), min_size=1, max_size=4),
    st.sets(st.integers(0, 6), min_size=1, max_size=6),
    st.sampled_from(["Europe/Oslo", "America/New_York", "Asia/Kolkata", "UTC"]),
    st.sampled_from([(2026, 3), (2026, 10), (2026, 11), (2024, 2), (2026, 2), (2026, 12)]),
)
def test_cron_agrees_with_a_walk(
    minute: int, hours: set[int], weekdays: set[int], zone: str, when: tuple[int, int]
) -> None:
    days = ",".join(str((d + 1) % 7) for d in sorted(weekdays))
    cron = f"{minute} {','.join(map(str, sorted(hours)))} * * {days}"
    assert cron_runs(cron, zone, when) == walked(minute, hours, weekdays, zone, *when)


def test_every_minute_counts_the_hours_of_daylight_saving() -> None:
    # October has 31 days and one hour more in Oslo, March one hour less.
    assert cron_runs("* * * * *", "Europe/Oslo", (2026, 10)) == (31 * 24 + 1) * 60
    assert cron_runs("* * * * *", "Europe/Oslo", (2026, 3)) == (31 * 24 - 1) * 60


def test_month_ends_and_leap_years() -> None:
    assert cron_runs("0 0 * * *", "Europe/Oslo", (2026, 11)) == 30, "midnight of the first is in the month"
    assert cron_runs("0 8 31 * *", "UTC", (2026, 11)) == 0
    assert cron_runs("0 8 29 2 *", "UTC", (2024, 2)) == 1
    assert cron_runs("0 8 29 2 *", "UTC", (2026, 2)) == 0
    assert schedule_runs(Schedule(every=86400), (2024, 2)) == 29


def test_polling_counts_empty_checks() -> None:
    t = Trigger(id="t", kind="polling", schedule=Schedule(every=600))
    f = chain(step("a"), triggers=(t,))
    volume, _ = flow_volume(
        f, AssumptionLookup(Assumptions(assume=(Rule(trigger="t", hit_rate=0.1),)), f), (2026, 11), None
    )
    assert volume.checks == 30 * 144
    assert volume.runs == pytest.approx(432)
    assert volume.evidence == "declared"


@pytest.mark.parametrize("cron", ["every day", "61 * * * *", "0 8 * *", "0 8 32 * *"])
def test_wrong_cron_is_said(cron: str) -> None:
    with pytest.raises(ZeitbuchError, match="cron text of five fields"):
        cron_runs(cron, "UTC", (2026, 1))


def test_wrong_zone_and_month_are_said() -> None:
    with pytest.raises(ZeitbuchError, match="IANA time zone"):
        cron_runs("0 8 * * *", "Mars/Base", (2026, 1))
    for text in ("2026-13", "26-1", "November", "0000", "2026-"):
        with pytest.raises(ZeitbuchError, match="YYYY-MM"):
            parse_month(text)


# -- recurrence rules and repeating intervals against walks ----------------------------------------------------------


def clock_walk(zone: str, year: int, month: int, fits: object) -> int:
    """Minutes of a month whose local time fits, walking every UTC minute: an hour that comes twice counts twice."""
    at = datetime(year, month, 1, tzinfo=ZoneInfo(zone)).astimezone(UTC)
    count = 0
    while (local := at.astimezone(ZoneInfo(zone))).month == month:
        count += fits(local)  # type: ignore[operator]
        at += timedelta(minutes=1)
    return count


MONTHS = st.sampled_from([(2026, 3), (2026, 10), (2026, 11), (2024, 2), (2026, 2), (2026, 12), (2026, 4)])
ZONES = st.sampled_from(["Europe/Oslo", "America/New_York", "Asia/Kolkata", "UTC", "Australia/Lord_Howe"])


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 59), ZONES, MONTHS)
def test_hourly_rules_follow_the_clock(minute: int, zone: str, when: tuple[int, int]) -> None:
    wanted = clock_walk(zone, *when, lambda t: t.minute == minute)
    assert rule_fires(f"FREQ=HOURLY;BYMINUTE={minute};BYSECOND=0", zone, *month_bounds(when)) == wanted


@settings(max_examples=15, deadline=None)
@given(st.sets(st.integers(0, 6), min_size=1), st.sets(st.integers(4, 23), min_size=1, max_size=3), ZONES, MONTHS)
def test_weekly_rules_agree_with_a_walk(days: set[int], hours: set[int], zone: str, when: tuple[int, int]) -> None:
    wanted = clock_walk(zone, *when, lambda t: t.minute == 30 and t.hour in hours and t.weekday() in days)
    names = ",".join(["MO", "TU", "WE", "TH", "FR", "SA", "SU"][d] for d in sorted(days))
    rule = f"FREQ=WEEKLY;BYDAY={names};BYHOUR={','.join(map(str, sorted(hours)))};BYMINUTE=30;BYSECOND=0"
    assert rule_fires(rule, zone, *month_bounds(when)) == wanted


@pytest.mark.parametrize(
    ("rule", "when", "times"),
    [
        ("DTSTART:20260131T080000\nRRULE:FREQ=MONTHLY", (2026, 2), 0),  # no 31st in February
        ("DTSTART:20260131T080000\nRRULE:FREQ=MONTHLY", (2026, 3), 1),
        ("RRULE:FREQ=MONTHLY;BYMONTHDAY=-1", (2026, 2), 1),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", (2024, 2), 1),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", (2026, 2), 0),
        ("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", (2026, 11), 1),
        ("DTSTART:20261101T080000\nRRULE:FREQ=DAILY;COUNT=5", (2026, 11), 5),
        ("DTSTART:20261101T080000\nRRULE:FREQ=DAILY;COUNT=5", (2026, 12), 0),
        ("DTSTART:20261101T080000Z\nRRULE:FREQ=DAILY;UNTIL=20261110T080000Z\nEXDATE:20261103T080000Z", (2026, 11), 9),
        ("DTSTART;TZID=Europe/Oslo:20261020T023000\nRRULE:FREQ=DAILY", (2026, 10), 12),  # 02:30 of the 25th counts once
    ],
)
def test_rules_of_months_and_ends(rule: str, when: tuple[int, int], times: int) -> None:
    assert rule_fires(rule, "Europe/Oslo" if "TZID" in rule else "UTC", *month_bounds(when)) == times


@settings(max_examples=25, deadline=None)
@given(st.integers(1, 3000), st.integers(0, 90 * 24 * 60), st.none() | st.integers(1, 200), ZONES, MONTHS)
def test_repeating_intervals_agree_with_a_walk(
    gap: int, start: int, most: int | None, zone: str, when: tuple[int, int]
) -> None:
    first, after = (datetime(d.year, d.month, d.day, tzinfo=ZoneInfo(zone)) for d in month_bounds(when))
    begin = first.astimezone(UTC) - timedelta(days=45) + timedelta(minutes=start)
    wanted, at, times = 0, begin, 0
    while at < after and (most is None or times < most):
        wanted += at >= first
        at += timedelta(minutes=gap)
        times += 1
    text = f"R{'' if most is None else most}/{begin:%Y-%m-%dT%H:%M:%SZ}/PT{gap}M"
    assert repeat_fires(text, zone, *month_bounds(when)) == wanted


@pytest.mark.parametrize(
    ("text", "when", "times"),
    [
        ("R/2026-01-31T08:00:00/P1M", (2026, 2), 1),  # the last day there is
        ("R/PT6H", (2026, 3), 124),
        ("R/2026-03-01T08:00:00/P1D", (2026, 3), 31),
        ("R3/2026-11-29/P1D", (2026, 11), 2),
        ("R3/2026-11-29/P1D", (2026, 12), 1),
        ("R/2026-11-01T00:00:00Z/2026-11-01T12:00:00Z", (2026, 11), 60),
        ("R4/P1D/2026-12-02T00:00:00", (2026, 11), 3),
    ],
)
def test_repeating_intervals_of_days_and_months(text: str, when: tuple[int, int], times: float) -> None:
    zone = "Europe/Oslo" if "PT6H" in text or "P1D" in text else "UTC"
    assert repeat_fires(text, zone, *month_bounds(when)) == times


def test_six_fields_and_last_days() -> None:
    assert cron_runs("*/15 0 8 * * *", "UTC", (2026, 11)) == 30 * 4
    assert cron_runs("0 8 L * *", "UTC", (2026, 2)) == 1
    assert cron_runs("0 8 * * 5L", "UTC", (2026, 11)) == 1
    assert cron_runs("0 8 ? JAN MON-FRI", "UTC", (2026, 1)) == 22
    assert cron_runs("@daily", "UTC", (2024, 2)) == 29
    assert cron_runs("0 8 * * *", "UTC", (2024, 0)) == pytest.approx(366 / 12)


@given(st.integers(0, 12), st.sampled_from([0.0, 0.25, 0.5, 1.0]), st.none() | st.integers(1, 5))
def test_batches_against_every_outcome(items: int, admitted: float, batch: int | None) -> None:
    from itertools import product
    from math import ceil

    runs = taken = 0.0
    for outcome in product((0, 1), repeat=items):
        n = sum(outcome)
        weight = admitted**n * (1 - admitted) ** (items - n)
        runs += weight * (ceil(n / batch) if batch else min(n, 1))
        taken += weight * n
    found, each = runs_of_batches(items, admitted, batch)
    assert found == pytest.approx(runs)
    assert found * each == pytest.approx(taken) or not found


def test_events_conditions_and_seasons() -> None:
    from zeitbuch.core.assumptions.rules import Season

    t = Trigger(id="t", kind="event", condition="amount > 100", batch=10)
    f = chain(step("a"), triggers=(t,))
    rules = (Rule(trigger="t", events=600.0, items=20.0, accept_rate=1.0),)
    book = AssumptionLookup(Assumptions(assume=rules, season=(Season(factors=(2.0, *[1.0] * 10, 0.0)),)), f)
    january, _ = flow_volume(f, book, (2026, 1), None)
    december, _ = flow_volume(f, book, (2026, 12), None)
    year, _ = flow_volume(f, book, (2026, 0), None)
    assert january.runs == pytest.approx(600 * 2 * 2) and january.items == 10
    assert december.runs == 0
    assert year.runs == pytest.approx(600 * 2)
    halved, _ = flow_volume(
        f, AssumptionLookup(Assumptions(assume=(Rule(trigger="t", events=600.0),)), f), (2026, 1), None
    )
    assert halved.runs == pytest.approx(300) and "default" in halved.evidence


@pytest.mark.parametrize("rule", ["FREQ=NEVER", "RRULE:BYDAY=MO", "DTSTART:nonsense\nRRULE:FREQ=DAILY"])
def test_wrong_rules_are_said(rule: str) -> None:
    with pytest.raises(ZeitbuchError, match="RFC 5545"):
        rule_fires(rule, "UTC", *month_bounds((2026, 1)))


@pytest.mark.parametrize("text", ["R/2026-02-30/P1D", "R/soon", "R/PT0S", "PT5M", "R/2026-01-01/2026-01-01"])
def test_wrong_intervals_are_said(text: str) -> None:
    with pytest.raises(ZeitbuchError, match="ISO 8601"):
        repeat_fires(text, "UTC", *month_bounds((2026, 1)))


# -- events that a poll finds ------------------------------------------------------------------------------------------


def _polled(events: float | Range, batch: int | None, worlds: Worlds | None = None, **more: Any) -> Volume:
    t = Trigger(id="t", kind="polling", batch=batch, schedule=Schedule(every=3600))
    f = chain(step("a"), triggers=(t,))
    rules = (Rule(trigger="t", events=events, **more),)
    return flow_volume(f, AssumptionLookup(Assumptions(assume=rules), f, worlds), (2026, 11), None)[0]


@pytest.mark.parametrize(
    ("events", "batch", "accepted"), [(300.0, None, 1.0), (300.0, 1, 1.0), (5000.0, 3, 0.5), (2000.0, None, 0.2)]
)
def test_declared_events_of_a_poll_against_drawn_ones(events: float, batch: int | None, accepted: float) -> None:
    draw = random.Random(11)
    checks, months, runs, items = 720, 60, 0, 0
    for _ in range(months):
        found = [0] * checks
        for _ in range(int(events)):
            if draw.random() < accepted:
                found[draw.randrange(checks)] += 1
        runs += sum(math.ceil(number / batch) if batch else bool(number) for number in found)
        items += sum(found)
    volume = _polled(events, batch, **({"accept_rate": accepted} if accepted < 1 else {}))
    assert (volume.checks, volume.evidence) == (checks, "declared")
    assert volume.runs == pytest.approx(runs / months, rel=0.02)
    assert volume.items == pytest.approx(items / runs, rel=0.02)


def test_a_range_of_polled_events_is_a_range_of_runs() -> None:
    volume = _polled(Range(0, 100, 500), 1, Worlds())
    drawn = draws_of(volume.runs or 0.0)
    assert 0 <= drawn.min() < 5 and 430 < drawn.max() <= 500
    assert volume.runs == pytest.approx((0 + 4 * 100 + 500) / 6) == pytest.approx(drawn.mean(), rel=1e-3)
    assert _polled(0.0, None).runs == 0
    assert _polled(1e9, 10).runs == pytest.approx(1e8, rel=1e-3)


def test_runs_of_all_triggers_are_counted_once() -> None:
    """Declared for all triggers of a flow they are shared out, and hold the calls by other flows; for one trigger these come on top."""
    inner = structs.replace(
        chain(step("a"), id="inner", name="Inner"),
        triggers=(Trigger(id="x", kind="webhook"), Trigger(id="y", kind="form")),
    )
    outer = chain(step("c", "subflow", calls="inner"), id="outer", name="Outer")

    def runs_of_inner(*rules: Rule) -> float | None:
        assumed = Assumptions(month="2026-02", assume=(Rule(flow="outer", trigger="start", runs=100.0), *rules))
        return estimate_exactly(Estate((inner, outer)), None, assumed).flows[0].runs

    assert runs_of_inner(Rule(flow="inner", trigger="*", runs=100.0)) == 100
    assert runs_of_inner(Rule(flow="inner", trigger="*", runs=100.0), Rule(flow="inner", trigger="x", runs=30.0)) == 130
    assert runs_of_inner(Rule(flow="inner", trigger="x", runs=30.0), Rule(flow="inner", trigger="y", runs=20.0)) == 150
