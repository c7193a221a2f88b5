# How texts of a log become numbers and clock times. A text that is none becomes nothing, and is told: a wrong decimal sign or zone must
# never make another number of it.
"""Numbers and clock times written as texts, as expressions."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

from zeitbuch.core.actuals.usage_mapping import UsageMapping

MONEY = "decimal(38, 12)"
_UNITS = {"seconds": "s", "milliseconds": "ms"}


@lru_cache(maxsize=1)
def engine_functions() -> dict[str, Any]:
    """Functions of the engine that Ibis has no word for."""
    import ibis
    import ibis.expr.datatypes as dt

    # Annotations are read when the functions are made: they cannot be texts here.
    def strptime(text, form):  # type: ignore[no-untyped-def]
        ...

    def local(zone, moment):  # type: ignore[no-untyped-def]
        ...

    make = ibis.udf.scalar.builtin
    naive, moment = dt.Timestamp(), dt.Timestamp("UTC")
    return {
        "strptime": make(strptime, name="try_strptime", signature=((dt.string, dt.string), naive)),
        "to_local": make(local, name="timezone", signature=((dt.string, moment), naive)),
        "to_moment": make(local, name="timezone", signature=((dt.string, naive), moment)),
    }


def number_expression(text: Any, mapping: UsageMapping, kind: str = "float64") -> Any:
    """A text as a number; nothing where it is none."""
    import ibis

    # The engine passes over blanks around a number; to take them away first would take three times as long.
    decimal, thousands = mapping.decimal, mapping.thousands
    if not thousands:
        if decimal == ".":
            return text.try_cast(kind)
        return ibis.ifelse(text.contains("."), ibis.null("string"), text.replace(decimal, ".")).try_cast(kind)
    text = text.strip()
    sign, point = re.escape(thousands), re.escape(decimal)
    fits = text.re_search(rf"^[+-]?([0-9]{{1,3}}({sign}[0-9]{{3}})+|[0-9]+)({point}[0-9]+)?$")
    return ibis.ifelse(fits, text.replace(thousands, "").replace(decimal, "."), ibis.null("string")).try_cast(kind)


def clock_expression(value: Any, form: str, mapping: UsageMapping) -> Any:
    """A clock time, as a text, number or time stamp, in the zone in which days are counted; nothing where it is none."""
    made = engine_functions()
    here = mapping.day_zone
    if value.type().is_timestamp():
        return made["to_local"](here, value) if value.type().timezone else _moved(value, mapping)
    if form in _UNITS:
        number = value.strip().try_cast("int64") if value.type().is_string() else value.cast("int64")
        return made["to_local"](here, number.as_timestamp(_UNITS[form]))
    text = value.cast("string")
    if form != "iso":
        found = made["strptime"](text, form)
        return made["to_local"](here, found.cast("timestamp('UTC')")) if "%z" in form else _moved(found, mapping)
    import ibis

    clock = text.substr(11)  # what stands behind the day and its sign; letters in it name a zone
    zoned = clock.contains("+") | clock.contains("-") | (clock.lower() != clock.upper())
    moment = made["to_local"](here, text.try_cast("timestamp('UTC')"))
    return ibis.cases(
        (clock == "", ibis.null("timestamp")),  # a day is no clock time
        (zoned, moment),
        else_=_moved(text.try_cast("timestamp"), mapping),
    )


def _moved(naive: Any, mapping: UsageMapping) -> Any:
    """A clock time of the log's zone in the zone of days; nothing where the zone is not known."""
    made = engine_functions()
    if not mapping.zone:
        import ibis

        return ibis.null("timestamp")
    if mapping.zone == mapping.day_zone:
        return naive
    return made["to_local"](mapping.day_zone, made["to_moment"](mapping.zone, naive))


def day_expression(value: Any, form: str) -> Any:
    """A day, as a text or a date; nothing where it is none."""
    if value.type().is_date() or value.type().is_timestamp():
        return value.date()
    text = value.cast("string").strip()
    if form == "iso":
        return text.try_cast("date")
    return engine_functions()["strptime"](text, form).date()
