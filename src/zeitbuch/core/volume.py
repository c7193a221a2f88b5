# How often a flow runs in a calendar month: counted from the schedule itself in its time zone (daylight saving
# included), from polling with its empty checks, or from declared volumes. Unknown stays unknown.
"""Runs per month of triggers."""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

from msgspec import Struct

from .assume import Book, Evidence, Value, weaker
from .model import Flow, Schedule, Trigger
from .problems import fail


class Volume(Struct, frozen=True):
    """Runs per month, None when unknown; ``checks`` counts the checks of polling triggers, empty ones too."""

    runs: float | None
    checks: float
    evidence: Evidence
    why: str = ""


def parse_month(text: str) -> tuple[int, int]:
    """'2026-11' -> (2026, 11). Raises ZeitbuchError for anything else."""
    year, _, month = text.partition("-")
    if len(year) == 4 and year.isdecimal() and month.isdecimal() and len(month) == 2 and 1 <= int(month) <= 12:
        return int(year), int(month)
    raise fail("month", f"expected a month as YYYY-MM, found '{text}'", "example: 2026-11")


def _bounds(month: tuple[int, int], zone: ZoneInfo) -> tuple[datetime, datetime]:
    year, m = month
    first = datetime(year, m, 1, tzinfo=zone)
    after = datetime(year + (m == 12), m % 12 + 1, 1, tzinfo=zone)
    return first, after


@lru_cache(maxsize=4096)
def cron_runs(cron: str, zone_name: str, month: tuple[int, int]) -> int:
    """Times a cron text of five fields fires within a month of its zone. Raises ZeitbuchError when it is none."""
    from cronsim import CronSim, CronSimError

    try:
        zone = ZoneInfo(zone_name)
    except (KeyError, ValueError, OSError):
        raise fail("zone", f"expected an IANA time zone, found '{zone_name}'", "example: Europe/Oslo") from None
    first, after = _bounds(month, zone)
    if cron.split()[:2] == ["*", "*"] and cron.split()[2:] == ["*", "*", "*"]:
        return round((after.timestamp() - first.timestamp()) / 60)
    try:
        times = CronSim(cron, first - timedelta(seconds=1))
        count = 0
        for moment in times:
            if moment >= after:
                return count
            count += 1
    except (CronSimError, ValueError):
        raise fail(
            "cron",
            f"expected a cron text of five fields, found '{cron}'",
            "example: 40 5 * * 1-6 (Mondays to Saturdays 05:40)",
        ) from None
    except StopIteration:
        pass
    return count


def schedule_runs(schedule: Schedule, month: tuple[int, int]) -> float:
    """Times a schedule fires in a month."""
    zone = schedule.zone or "UTC"
    if schedule.cron is not None:
        return float(cron_runs(schedule.cron, zone, month))
    if schedule.every:
        first, after = _bounds(month, ZoneInfo("UTC"))
        return (after.timestamp() - first.timestamp()) / schedule.every
    return 0.0


def trigger_volume(trigger: Trigger, book: Book, month: tuple[int, int], called: Value | None) -> Volume:
    """Runs that one trigger causes in a month. ``called`` is what the estate's other flows cause by calling."""
    if not trigger.enabled:
        return Volume(0.0, 0.0, "read", "the trigger is switched off")
    names = (trigger.id, trigger.name)
    declared = book.find("runs", trigger=names)
    checks = 0.0
    if trigger.schedule is not None and trigger.kind in ("schedule", "polling"):
        checks = schedule_runs(trigger.schedule, month)
    polling = trigger.kind == "polling"
    if declared is not None:
        return Volume(declared.amount, checks if polling else 0.0, declared.evidence, declared.why)
    if trigger.kind == "schedule" and trigger.schedule is not None:
        return Volume(checks, 0.0, "read", "counted from the schedule")
    if polling and trigger.schedule is not None:
        hits = book.find("hits", trigger=names) or Value(0.25, "default", "default share of checks that find something")
        return Volume(
            checks * hits.amount, checks, hits.evidence, f"{checks:,.0f} checks x {hits.amount:g} ({hits.why})"
        )
    if trigger.kind == "call" and called is not None:
        return Volume(called.amount, 0.0, called.evidence, called.why)
    return Volume(None, 0.0, "default", f"no volume declared for the {trigger.kind} trigger '{trigger.title}'")


def flow_volume(flow: Flow, book: Book, month: tuple[int, int], called: Value | None) -> Volume:
    """Runs of a flow in a month, over all its triggers."""
    if flow.state == "off":
        return Volume(0.0, 0.0, "read", "the flow is switched off")
    parts = [trigger_volume(t, book, month, called) for t in flow.triggers]
    if not parts and called is not None:
        return Volume(called.amount, 0.0, called.evidence, called.why)
    if not parts:
        return Volume(None, 0.0, "default", "nothing sets the flow off")
    unknown = [p.why for p in parts if p.runs is None]
    checks = sum(p.checks for p in parts)
    if unknown:
        return Volume(None, checks, "default", "; ".join(unknown))
    runs = sum(p.runs or 0.0 for p in parts)
    return Volume(runs, checks, weaker(*(p.evidence for p in parts if p.runs)), "; ".join(p.why for p in parts))
