# How texts of a log become numbers and clock times. A text that is none becomes nothing, and is told: a wrong decimal sign or zone must
# never make another number of it.
"""Numbers and clock times written as texts, as expressions."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.actuals.usage_mapping import UsageMapping

from .engines import EMBEDDED, EngineWords

MONEY = "decimal(38, 12)"
_UNITS = {"seconds": "s", "milliseconds": "ms"}


def number_expression(text: Any, mapping: UsageMapping, kind: str = "float64", words: EngineWords = EMBEDDED) -> Any:
    """A text as a number; nothing where it is none."""
    import ibis

    # The engine passes over blanks around a number; to take them away first would take three times as long.
    decimal, thousands = mapping.decimal, mapping.thousands
    if not thousands:
        if decimal == ".":
            return words.try_cast(text, kind)
        shown = ibis.ifelse(text.contains("."), ibis.null("string"), text.replace(decimal, "."))
        return words.try_cast(shown, kind)
    text = text.strip()
    sign, point = re.escape(thousands), re.escape(decimal)
    fits = text.re_search(rf"^[+-]?([0-9]{{1,3}}({sign}[0-9]{{3}})+|[0-9]+)({point}[0-9]+)?$")
    shown = ibis.ifelse(fits, text.replace(thousands, "").replace(decimal, "."), ibis.null("string"))
    return words.try_cast(shown, kind)


def clock_expression(value: Any, form: str, mapping: UsageMapping, words: EngineWords = EMBEDDED) -> Any:
    """A clock time, as a text, number or time stamp, in the zone in which days are counted; nothing where it is none."""
    here = mapping.day_zone
    if value.type().is_timestamp():
        return words.to_local(here, value) if value.type().timezone else _moved(value, mapping, words)
    if form in _UNITS:
        number = words.try_cast(value.strip(), "int64") if value.type().is_string() else value.cast("int64")
        return words.to_local(here, number.as_timestamp(_UNITS[form]))
    text = value.cast("string")
    if form != "iso":
        found = words.read_clock(text, form)
        return words.to_local(here, found.cast("timestamp('UTC')")) if "%z" in form else _moved(found, mapping, words)
    import ibis

    clock = text.substr(11)  # what stands behind the day and its sign; letters in it name a zone
    zoned = clock.contains("+") | clock.contains("-") | (clock.lower() != clock.upper())
    moment = words.to_local(here, words.try_cast(text, "timestamp('UTC')"))
    return ibis.cases(
        (clock == "", ibis.null("timestamp")),  # a day is no clock time
        (zoned, moment),
        else_=_moved(words.try_cast(text, "timestamp"), mapping, words),
    )


def _moved(naive: Any, mapping: UsageMapping, words: EngineWords) -> Any:
    """A clock time of the log's zone in the zone of days; nothing where the zone is not known."""
    if not mapping.zone:
        import ibis

        return ibis.null("timestamp")
    if mapping.zone == mapping.day_zone:
        return naive
    return words.to_local(mapping.day_zone, words.to_moment(mapping.zone, naive))


def day_expression(value: Any, form: str, words: EngineWords = EMBEDDED) -> Any:
    """A day, as a text or a date; nothing where it is none."""
    if value.type().is_date() or value.type().is_timestamp():
        return value.date()
    text = value.cast("string").strip()
    if form == "iso":
        return words.try_cast(text, "date")
    return words.read_clock(text, form).date()
