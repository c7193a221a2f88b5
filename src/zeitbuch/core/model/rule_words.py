# Recurrence rules in words, as far as these say the same: 'on the first Monday of the month at 08:00'. A rule with anything that has no plain wording,
# or that begins at a date of its own, stays as it is written: half a sentence about when something runs is worse than none.
"""Words of recurrence rules (RFC 5545, section 3.3.10)."""

from __future__ import annotations

from collections.abc import Mapping

_DAYS = {"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}  # fmt: skip
_WEEKDAYS = frozenset(list(_DAYS)[:5])
_MONTHS = "January February March April May June July August September October November December".split()
_UNITS = {"MINUTELY": "minute", "HOURLY": "hour", "DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}  # fmt: skip
_COUNTED = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last", -2: "second last", -3: "third last"}  # fmt: skip
_KNOWN = frozenset("FREQ INTERVAL BYDAY BYMONTHDAY BYMONTH BYHOUR BYMINUTE BYSECOND BYSETPOS COUNT UNTIL WKST".split())
_MOST_TIMES = 6


class _NoWordsError(Exception):
    """The rule has something that is not said here."""


def rule_words(text: str) -> str | None:
    """A rule in words, or None for one that has no plain wording."""
    try:
        return _words_of(_parts_of(text))
    except (_NoWordsError, ValueError, IndexError, KeyError):
        return None


def _parts_of(text: str) -> dict[str, str]:
    lines = text.split()
    _refuse(len(lines) != 1)
    parts = dict(part.split("=", 1) for part in lines[0].upper().removeprefix("RRULE:").rstrip(";").split(";"))
    _refuse(not set(parts) <= _KNOWN or parts["FREQ"] not in _UNITS or parts.get("BYSECOND", "0") != "0")
    return parts


def _words_of(parts: Mapping[str, str]) -> str:
    times = _times_words(parts)
    days = _day_words(parts)
    months = _months_words(parts)
    words = " ".join(word for word in (_pace_words(parts, bool(days)), days, months, times) if word)
    return words + _end_words(parts)


def _pace_words(parts: Mapping[str, str], has_days: bool) -> str:
    """How often, where the days do not say it."""
    unit, every = _UNITS[parts["FREQ"]], int(parts.get("INTERVAL", "1"))
    _refuse(every < 1 or (every > 1 and "WKST" in parts))
    if every > 1:
        return f"every {every} {unit}s"
    if unit in ("minute", "hour"):
        return f"every {unit}"
    if has_days:
        return ""
    if unit == "day":
        return "daily" if "BYMONTH" not in parts else "every day"
    return f"every {unit}, on the day on which it began"


def _day_words(parts: Mapping[str, str]) -> str:
    place = int(parts["BYSETPOS"]) if "BYSETPOS" in parts else None
    if "BYDAY" in parts:
        if "BYMONTHDAY" in parts:
            raise _NoWordsError
        return _named_days(parts, parts["BYDAY"].split(","), place)
    _refuse(place is not None)
    if "BYMONTHDAY" not in parts:
        return ""
    _refuse(
        parts["FREQ"] not in ("MONTHLY", "DAILY", "YEARLY") or (parts["FREQ"] == "YEARLY" and "BYMONTH" not in parts)
    )
    numbers = [int(one) for one in parts["BYMONTHDAY"].split(",")]
    return "on the " + _joined([_month_day(number) for number in numbers]) + _of_what(parts)


def _named_days(parts: Mapping[str, str], days: list[str], place: int | None) -> str:
    counted = [(day[:-2], day[-2:]) for day in days]
    _refuse(any(name not in _DAYS for _, name in counted))
    monthly = parts["FREQ"] == "MONTHLY" or (parts["FREQ"] == "YEARLY" and "BYMONTH" in parts)
    if place is not None:
        _refuse(not monthly or any(number for number, _ in counted))
        return f"on the {_COUNTED[place]} {_kind_of_day({name for _, name in counted})}" + _of_what(parts)
    if all(number for number, _ in counted):
        if not monthly:
            raise _NoWordsError
        return (
            "on the "
            + _joined([f"{_COUNTED[int(number)]} {_DAYS[name]}" for number, name in counted])
            + _of_what(parts)
        )
    _refuse(any(number for number, _ in counted) or parts["FREQ"] == "YEARLY")
    names = {name for _, name in counted}
    said = "Monday to Friday" if names == _WEEKDAYS else _joined([_DAYS[name] for name in _DAYS if name in names])
    every = parts["FREQ"] in ("WEEKLY", "DAILY", "MONTHLY") and parts.get("INTERVAL", "1") == "1"
    return f"{'every' if every else 'on'} {said}"


def _kind_of_day(names: set[str]) -> str:
    if len(names) == 1:
        return _DAYS[min(names)]
    _refuse(names != _WEEKDAYS and len(names) != len(_DAYS))
    return "working day" if names == _WEEKDAYS else "day"


def _refuse(unsayable: bool) -> None:
    """Gives up on a rule that has no plain wording."""
    if unsayable:
        raise _NoWordsError


def _of_what(parts: Mapping[str, str]) -> str:
    """' of the month', where no months are named."""
    return "" if "BYMONTH" in parts else " of the month"


def _month_day(number: int) -> str:
    if number < 0:
        return f"{_COUNTED[number]} day"
    _refuse(not 1 <= number <= 31)
    ends = {1: "st", 2: "nd", 3: "rd"}
    return f"{number}{'th' if 10 < number < 14 else ends.get(number % 10, 'th')}"


def _months_words(parts: Mapping[str, str]) -> str:
    if "BYMONTH" not in parts:
        return ""
    numbers = [int(one) for one in parts["BYMONTH"].split(",")]
    _refuse(any(not 1 <= number <= 12 for number in numbers))
    of_day = any(key in parts for key in ("BYMONTHDAY", "BYSETPOS")) or any(
        char.isdigit() for char in parts.get("BYDAY", "")
    )
    return ("of " if of_day else "in ") + _joined([_MONTHS[number - 1] for number in numbers])


def _times_words(parts: Mapping[str, str]) -> str:
    hours = [int(one) for one in parts["BYHOUR"].split(",")] if "BYHOUR" in parts else []
    minutes = [int(one) for one in parts["BYMINUTE"].split(",")] if "BYMINUTE" in parts else []
    _refuse(any(not 0 <= hour <= 23 for hour in hours) or any(not 0 <= minute <= 59 for minute in minutes))
    if parts["FREQ"] == "HOURLY" and not hours:
        return f"at {_joined([str(minute) for minute in minutes])} past" if minutes else ""
    _refuse(parts["FREQ"] in ("HOURLY", "MINUTELY") and bool(hours or minutes))
    _refuse(bool(minutes) and not hours)
    _refuse(len(hours) * max(1, len(minutes)) > _MOST_TIMES)
    if hours and not minutes:  # which minute the rule does not say
        return "in the hour from " + _joined([f"{hour:02d}:00" for hour in hours])
    times = [f"{hour:02d}:{minute:02d}" for hour in sorted(hours) for minute in sorted(minutes)]
    return f"at {_joined(times)}" if times else ""


def _end_words(parts: Mapping[str, str]) -> str:
    if "COUNT" in parts:
        return f", {int(parts['COUNT'])} times in all"
    until = parts.get("UNTIL", "")
    return f", until {until[:4]}-{until[4:6]}-{until[6:8]}" if until else ""


def _joined(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
