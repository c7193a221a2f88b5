# Durations as people and builders write them, repeating intervals and schedule texts, in the words of the model. What can be
# read in two ways ("1:30") is not read at all.
"""Durations and schedule texts."""

from __future__ import annotations

import math
import re
from typing import Any

from zeitbuch.core.model.records import Schedule

_CRON = re.compile(r"^\s*(?:\S+\s+){4,5}\S+\s*$")
_CLOCK = re.compile(r"^[\d*/,\-LW#?A-Za-z\s]+$")
_HOURS = re.compile(r"(?:(\d{1,5})[.:])?(\d{1,5}):([0-5]?\d):([0-5]?\d(?:[.,]\d{1,9})?)")
_AMOUNTS = re.compile(
    r"(?:\d{1,15}(?:[.,]\d{1,9})?\s*[^\W\d_]{1,15}\.?(?:\s*,\s*|\s+(?:and|und|et|y|e|en|och|og)\s+|\s*))+"
)
_AMOUNT = re.compile(r"(\d{1,15}(?:[.,]\d{1,9})?)\s*([^\W\d_]{1,15})")
UNITS = {"milliseconds": 0.001, "seconds": 1.0, "minutes": 60.0, "hours": 3600.0, "days": 86400.0, "weeks": 604800.0}
# Words for them in English, German, French, Spanish, Portuguese, Italian, Dutch, Swedish, Norwegian and Danish, but for those that mean
# something else beside a number or as a key ("3 times", a "timer", a "tag", a "dag" of tasks).
UNIT_WORDS = {
    "milliseconds": "ms msec msecs millis millisecond milliseconds millisekunden millisekunder millisecondes milisegundos millisecondi milliseconden",
    "seconds": "s sec secs second seconds sekunde sekunden seconde secondes segundo segundos secondo secondi seconden sekund sekunder",
    "minutes": "m min mins minute minutes minuten minuto minutos minuti minuut minut minuter minutt minutter",
    "hours": "h hr hrs hour hours stunde stunden heure heures hora horas ora ore uur uren timme timmar",
    "days": "d day days tage tagen jour jours día días dia dias giorno giorni dagen dagar dager dage døgn",
    "weeks": "w wk wks week weeks woche wochen semaine semaines semana semanas settimana settimane weken vecka veckor uke uker uge uger",
}
UNIT_SECONDS = {word: UNITS[unit] for unit, words in UNIT_WORDS.items() for word in words.split()}
EXPECTED = 'a duration such as 90, "90 s", "1 h 30 min", "01:30:00" or "PT1H30M"'


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


def duration_of(value: Any, unit: float = 1.0) -> float | None:
    """Seconds of a duration, or None when it is none: a number (of ``unit`` seconds, also written as text), ISO 8601, hours with
    minutes and seconds (36:00:00, days before them: 1.12:00:00), amounts with units ("15 min", "1 h 30 m"), or an object of
    these: {"minutes": 15}, {"value": 15, "unit": "minutes"}."""
    kind = type(value)
    if kind is int or kind is float:
        return _usable(value * unit)
    if kind is dict:
        return _duration_of_object(value)
    return _duration_of_text(value.strip(), unit) if kind is str else None


def _usable(seconds: float) -> float | None:
    return float(seconds) if math.isfinite(seconds) and seconds >= 0 else None


def _number(text: str) -> float:
    return float(text.replace(",", "."))


def _duration_of_text(text: str, unit: float) -> float | None:
    if len(text) > 100:
        return None
    try:
        return _usable(float(text) * unit)
    except ValueError:
        pass
    if text.startswith("P"):
        found = duration_seconds(text)
        return None if found is None else _usable(found)
    clock = _HOURS.fullmatch(text)
    if clock is not None:
        days, hours, minutes, seconds = clock.groups()
        return _number(days or "0") * 86400 + _number(hours) * 3600 + _number(minutes) * 60 + _number(seconds)
    low = text.lower()
    if not _AMOUNTS.fullmatch(low):
        return None
    parts = [(_number(amount), UNIT_SECONDS.get(word)) for amount, word in _AMOUNT.findall(low)]
    known = [amount * seconds for amount, seconds in parts if seconds is not None]
    return sum(known) if len(known) == len(parts) else None


def _duration_of_object(value: dict[Any, Any]) -> float | None:
    """{"minutes": 15, "seconds": 30}, or a number beside the name of its unit."""
    numbers = [item for item in value.values() if type(item) in (int, float)]
    words = [UNIT_SECONDS.get(item.strip().lower()) for item in value.values() if type(item) is str]
    if len(value) == 2 and len(numbers) == len(words) == 1 and words[0] is not None:
        return _usable(numbers[0] * words[0])
    units = [UNIT_SECONDS.get(str(key).lower()) for key in value]
    if value and len(numbers) == len(value) and None not in units:
        return _usable(sum(amount * seconds for amount, seconds in zip(numbers, units, strict=True) if seconds))
    return None


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
