# ISO 8601 durations and repeating intervals, and schedule texts of other kinds, as schedules of the model.
"""Clock texts of open standards."""

from __future__ import annotations

import re

from zeitbuch.core.model.records import Schedule

_CRON = re.compile(r"^\s*(?:\S+\s+){4,5}\S+\s*$")
_CLOCK = re.compile(r"^[\d*/,\-LW#?A-Za-z\s]+$")


def duration_seconds(text: str) -> float | None:
    """An ISO 8601 duration in seconds (a month counts 30.44 days, a year 365.25), or None when it is none."""
    import isodate

    text = text.strip()
    if not text.startswith("P"):
        return None
    try:
        found = isodate.parse_duration(text)
    except (ValueError, OverflowError):
        return None
    if isinstance(found, isodate.Duration):
        days = float(found.years) * 365.25 + float(found.months) * 30.4375
        return days * 86400 + float(found.tdelta.total_seconds())
    return float(found.total_seconds())


def schedule_of_text(text: str, zone: str | None = None) -> Schedule | None:
    """A schedule from a repeating interval (R/PT15M, R5/2026-01-01T00:00:00Z/P1D), a duration, a recurrence rule
    (FREQ=DAILY;BYHOUR=8) or a cron text."""
    text = text.strip()
    if "FREQ=" in text.upper():
        return Schedule(rule=text, zone=zone)
    if re.match(r"R\d*/", text):
        return _schedule_of_interval(text, zone)
    span = duration_seconds(text)
    if span is not None:
        return Schedule(every=span, zone=zone)
    if _CRON.match(text) and _CLOCK.match(text):
        return Schedule(cron=" ".join(text.split()), zone=zone)
    return None


def _schedule_of_interval(text: str, zone: str | None) -> Schedule | None:
    if re.match(r"R\d+/", text) or text.count("/") > 1:
        return Schedule(repeat=text, zone=zone)
    spans = [share for part in text.split("/")[1:] if (share := duration_seconds(part)) is not None]
    return Schedule(every=spans[-1], zone=zone) if spans else None
