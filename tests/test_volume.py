"""Runs per month against calendars walked minute by minute."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import chain, step
from zeitbuch.core.assume import Assumptions, Book, Rule
from zeitbuch.core.model import Schedule, Trigger
from zeitbuch.core.problems import ZeitbuchError
from zeitbuch.core.volume import cron_runs, flow_volume, parse_month, schedule_runs


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


@settings(max_examples=25, deadline=None)
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
    volume = flow_volume(f, Book(Assumptions(assume=(Rule(trigger="t", hits=0.1),)), f), (2026, 11), None)
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
    for text in ("2026-13", "26-1", "November"):
        with pytest.raises(ZeitbuchError, match="YYYY-MM"):
            parse_month(text)
