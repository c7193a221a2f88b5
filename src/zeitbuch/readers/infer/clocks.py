# When triggers fire, in the fields of unknown builders. The values decide: a cron text is a schedule whatever its key is called, a
# number beside a unit of time an interval, words for weekdays beside a time of the day a week. Keys only break ties.
"""Finding the clock of triggers."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.schedules import time_of_day, weekday_of
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.clock_words import CRON_DAYS, WEEKDAY_WORDS, schedule_of_words

from .fields import Column, key_in
from .survey import STAR, Path
from .vocabulary import plain_word, words_of

CRON = re.compile(r"^(?:[\d*/,\-LW#?]+|\*)(?:\s+(?:[\dA-Za-z*/,\-LW#?]+)){4,5}$")
ZONE = re.compile(r"^(?:[A-Z][A-Za-z]+(?:/[A-Z][A-Za-z_+\-]+){1,2}|UTC)$")
_MORE_UNITS = {"hours": " time timer", "days": " tag dag"}  # clear only as the name of a unit beside an interval
UNITS = {unit: words + _MORE_UNITS.get(unit, "") for unit, words in clock_texts.UNIT_WORDS.items()}
_NAMES = frozenset("name title label caption titel nom titre nombre navn naam nome".split())
_OFTEN = frozenset(
    "frequency cadence schedule when recurrence every interval period repeats haufigkeit zeitplan frequence frecuencia rytme".split()
)
_MOST = 0.6  # of the texts of a field in words: what else people say cannot all be known
_UNIT_OF = {word: name for name, listed in UNITS.items() for word in listed.split()}
_DAY_OF = {word: name for name, listed in WEEKDAY_WORDS.items() for word in listed.split()}
_INTERVAL_WORDS = frozenset("every interval period alle intervall cada chaque hver elke ogni".split())
_BATCH_WORDS = frozenset("batch most max limit items size maximum".split())
_DAY_WORDS = frozenset(
    "day days date dates monthday monthdays tag tage jour jours dia dias dag dager dagen giorno giorni".split()
)
_EVENT_WORDS = frozenset(
    "event topic path name subject queue form url ereignis evento chemin pfad formular formulaire formulario skjema betreff thema".split()
)


TIMED = frozenset({"cron", "time", "hour"})  # fields that say at what time of the day
_HOURS = frozenset("hour hh h stunde heure hora uur ora".split())
_MINUTES = frozenset("minute min mm minuto minuut".split())
_WEEKDAY_KEYS = frozenset(
    "weekday weekdays dow dayofweek daysofweek wochentag wochentage ukedag ukedager weekdag weekdagen".split()
)


def is_word_for_intervals(key: str) -> bool:
    """Whether a field is called what says how often: "every", "frequency"."""
    return key_in((key,), _INTERVAL_WORDS | _OFTEN)


def find_clock(found: dict[Path, Column]) -> dict[str, Any]:
    """The fields of a trigger's clock: paths by the keys of a dialect's kind, ``every_unit`` and tables of words as they are, and
    ``maybe_every`` for a number that may be an interval and says no unit, ``maybe_days`` for numbers of weekdays."""
    result: dict[str, Any] = {}
    units: dict[Path, tuple[Path, set[str]]] = {}
    for path, column in sorted(found.items()):
        texts = [value.strip() for value in column.values if type(value) is str]
        if texts and len(texts) == len(column.values):
            _judge_texts(path, texts, result, units)
    _judge_days(found, result)
    _judge_hours(found, result)
    _take_words(result)
    for path, column in sorted(found.items()):
        _judge_numbers(path, column, units, result)
    if "every" in result:
        result.pop("maybe_every", None)
    elif not result.keys() & {*TIMED, "maybe_every"}:
        _lone_number(found, result)
    if "event" not in result:
        _event_texts(found, result)
    return result


def _take_words(result: dict[str, Any]) -> None:
    """A schedule in words, where no field says it more plainly."""
    words = result.pop("words", None)
    if words and not result.keys() & TIMED:
        result["cron"] = words


def _judge_texts(
    path: Path, texts: list[str], result: dict[str, Any], units: dict[Path, tuple[Path, set[str]]]
) -> None:
    key = next((key for key, fits in _TEXT_FORMS if all(map(fits, texts))), "")
    if not key and not key_in(path, _NAMES) and _are_in_words(texts, key_in(path, _OFTEN)):
        key = "words"
    if key == "unit":
        units[path[:-1]] = (path, set(texts))
    elif key and not (key == "time" and STAR in path):
        result.setdefault(key, path)


def _is_address(text: str) -> bool:
    return text.startswith("/") or "://" in text


def _is_time(text: str) -> bool:
    return time_of_day(text) is not None and not text.isdecimal()


def _is_unit(text: str) -> bool:
    return plain_word(text) in _UNIT_OF and len(text) > 1


def _are_in_words(texts: list[str], worded: bool) -> bool:
    """Whether most texts say a schedule; of one word, such as *daily*, only under a key for it (``worded``): it may say what a step does."""
    several = [text for text in texts if worded or len(text.split()) > 1]
    return sum(schedule_of_words(text) is not None for text in several) >= _MOST * len(texts)


def _is_duration(text: str) -> bool:
    return any(map(str.isalpha, text)) and any(map(str.isdigit, text)) and bool(clock_texts.duration_of(text))


# What all texts of a field look like, and which field of a clock that makes it; the first that fits counts.
_TEXT_FORMS: tuple[tuple[str, Callable[[str], Any]], ...] = (
    ("cron", lambda text: CRON.match(text) or text.startswith("@")),
    ("zone", ZONE.match),
    ("event", _is_address),
    ("time", _is_time),
    ("unit", _is_unit),
    ("every", _is_duration),
)


def _judge_days(found: dict[Path, Column], result: dict[str, Any]) -> None:
    """Weekdays in words, and days of the month as numbers beside a time of the day."""
    for path, column in sorted(found.items()):
        bare = path[:-1] if path[-1:] == (STAR,) else path
        words = {as_text(value): plain_word(as_text(value)) for value in column.values}
        if words and all(word in _DAY_OF for word in words.values()):
            result.setdefault("days", bare)
            spelled = {text: _DAY_OF[word] for text, word in words.items()}
            if any(weekday_of(text, {}) != CRON_DAYS.index(day) for text, day in spelled.items()):
                result.setdefault("weekdays", spelled)
        elif "time" in result and key_in(path, _DAY_WORDS) and all(map(_is_month_day, column.values)):
            result.setdefault("month_days", bare)


def _judge_hours(found: dict[Path, Column], result: dict[str, Any]) -> None:
    """An hour of the day as a number, beside a minute or days. Numbers for weekdays may be counted in several ways: that is asked."""
    days = _numbers_called(found, _WEEKDAY_KEYS, 8)
    hours = list(filter(_is_of_no_interval, _numbers_called(found, _HOURS, 24)))
    if hours and not result.keys() & TIMED:
        minutes = [path for path in _numbers_called(found, _MINUTES, 60) if path[:-1] == hours[0][:-1]]
        if minutes or days or "days" in result:
            result |= {"hour": hours[0], **({"minute": minutes[0]} if minutes else {})}
    if days and "days" not in result and result.keys() & {"time", "hour"}:
        result["maybe_days"] = _bare(days[0])


def _is_of_no_interval(path: Path) -> bool:
    return not any(_is_called(key, _INTERVAL_WORDS) for key in path)  # so long, not at what time


def _numbers_called(found: dict[Path, Column], words: frozenset[str], end: int) -> list[Path]:
    """The fields under some words of which all values are whole numbers from 0 on, below an end."""
    called = [path for path in sorted(found) if _bare(path) and _is_called(_bare(path)[-1], words)]
    return [path for path in called if all(type(value) is int and 0 <= value < end for value in found[path].values)]


def _is_called(key: str, words: frozenset[str]) -> bool:
    return bool(words & {key.lower(), *words_of(key)})


def _bare(path: Path) -> Path:
    return path[:-1] if path[-1:] == (STAR,) else path


def _is_month_day(value: Any) -> bool:
    return type(value) is int and 1 <= value <= 31


def _judge_numbers(
    path: Path, column: Column, units: dict[Path, tuple[Path, set[str]]], result: dict[str, Any]
) -> None:
    """Intervals with their unit, and sizes of batches."""
    if path in [result.get(name) for name in ("month_days", "time", "hour", "minute")] or not all(
        map(_is_number, column.values)
    ):
        return
    words = words_of(path[-1])
    if "every" not in result and path[:-1] in units:
        unit, spelled = units[path[:-1]]
        result["every"], result["unit"] = path, unit
        if any(word.lower() not in clock_texts.UNIT_SECONDS for word in spelled):
            result["units"] = {word: _UNIT_OF[plain_word(word)] for word in sorted(spelled)}
        return
    named = next((_UNIT_OF[word] for word in words if word in _UNIT_OF and len(word) > 1), "")
    if "every" not in result and named:
        result["every"], result["every_unit"] = path, named
    elif "every" not in result and _INTERVAL_WORDS & set(words):
        result.setdefault("maybe_every", path)
    elif _BATCH_WORDS & set(words):
        result.setdefault("batch", path)


def _is_number(value: Any) -> bool:
    return type(value) in (int, float) or (type(value) is str and value.isdecimal())


def _lone_number(found: dict[Path, Column], result: dict[str, Any]) -> None:
    """A single small number of a trigger that runs by the clock can hardly be anything but its interval."""
    small = [
        pair
        for pair, column in sorted(found.items())
        if all(type(value) is int and 1 <= value <= 1440 for value in column.values) and pair != result.get("batch")
    ]
    if len(small) == 1:
        result["maybe_every"] = small[0]


def _event_texts(found: dict[Path, Column], result: dict[str, Any]) -> None:
    for path, column in sorted(found.items()):
        texts = [value for value in column.values if type(value) is str]
        if texts and key_in(path, _EVENT_WORDS) and all(0 < len(value) < 90 for value in texts):
            result["event"] = path
            break


def kind_by_clock(clock: dict[str, Any], columns: dict[Path, Column]) -> str:
    """The kind of trigger that the values alone tell; empty when they tell none. What looks at a place every few minutes polls."""
    if clock.keys() & {*TIMED, "maybe_days"}:
        return "schedule"
    told = {value for value in clock.values() if type(value) is tuple}
    if "every" in clock:
        places = [
            path
            for path, column in columns.items()
            if path not in told and any(type(value) is str for value in column.values)
        ]
        return "polling" if places else "schedule"
    column = columns.get(clock.get("event", ()))
    if column is not None and all(as_text(value).startswith("/") for value in column.values):
        return "webhook"
    return ""
