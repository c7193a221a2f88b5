# How the texts of a column are written: numbers with which signs, times in which order of their parts. What the values do not settle is
# said to be open, and asked.
"""Forms of the values of a column."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

_NUMBER = re.compile(r"[+-]?[\d.,' \u00a0]*\d[\d.,' \u00a0]*(?:[eE][+-]?\d+)?")
_SURE_DECIMAL = {
    ",": re.compile(r"[+-]?\d+,(?:\d{1,2}|\d{4,})|[+-]?0,\d+|[+-]?\d{1,3}(?:\.\d{3})+,\d+|[+-]?\d{1,3}(?:\.\d{3}){2,}"),
    ".": re.compile(
        r"[+-]?\d+\.(?:\d{1,2}|\d{4,})|[+-]?0\.\d+|[+-]?\d{1,3}(?:,\d{3})+\.\d+|[+-]?\d{1,3}(?:,\d{3}){2,}|[+-]?\d*\.?\d+[eE][+-]?\d+"
    ),
}
_GROUPED = re.compile(r"[+-]?\d{1,3}(?:[.,' \u00a0]\d{3})+(?:[.,]\d+)?")
_ISO = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?\s*(?P<zone>Z|[+-]\d\d:?\d\d)?")
_ISO_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_PARTED = re.compile(
    r"(\d{1,4})([./-])(\d{1,2})\2(\d{1,4})(?:[ ,T]+(\d{1,2}):(\d\d)(?::(\d\d))?\s*([AaPp][Mm])?\s*([+-]\d\d:?\d\d)?)?"
)
_MOST = 400


class NumberForm(NamedTuple):
    """How many of the texts are numbers, which decimal sign they surely have ('' where both would do), the sign for thousands, and
    whether all are whole."""

    share: float
    decimal: str
    thousands: str
    whole: bool
    ambiguous: bool = False


def number_form(values: Sequence[str]) -> NumberForm:
    """The form of the numbers of a column."""
    looked = values[:_MOST]
    texts = [text for text in looked if _NUMBER.fullmatch(text)]
    if not looked or not texts:
        return NumberForm(0.0, "", "", False)
    decimal = _sure_decimal(texts)
    thousands = _thousands_sign(texts, decimal)
    parted = any(sign in text for text in texts for sign in ".,")
    return NumberForm(
        len(texts) / len(looked), decimal, thousands, not parted, parted and not decimal and not thousands
    )


def _sure_decimal(texts: Sequence[str]) -> str:
    """The decimal sign that the texts leave no doubt about, by most of them; nothing where both would do."""
    plain = [re.sub(r"[' \u00a0]", "", text) for text in texts]
    sure = {sign: sum(1 for text in plain if form.fullmatch(text)) for sign, form in _SURE_DECIMAL.items()}
    return max(sure, key=lambda sign: sure[sign]) if any(sure.values()) else ""


def _thousands_sign(texts: Sequence[str], decimal: str) -> str:
    """The sign between thousands: besides a decimal sign any other; without one only what can be none itself."""
    grouped = "".join(text for text in texts if _GROUPED.fullmatch(text))
    signs = [sign for sign in ".,' \u00a0" if sign in grouped and sign != decimal]
    return next((sign for sign in signs if decimal or sign not in ".,"), "")


class TimeForm(NamedTuple):
    """How many of the texts are days or clock times, in which form (strptime, or iso), whether they have a clock and name a zone; ``other``
    is another form that the values allow as well."""

    share: float
    form: str
    clock: bool
    zoned: bool
    other: str = ""


def time_form(values: Sequence[str]) -> TimeForm:
    """The form of the times of a column."""
    looked = values[:_MOST]
    none = TimeForm(0.0, "", False, False)
    if not looked:
        return none
    zones = [found.group("zone") for text in looked if (found := _ISO.fullmatch(text))]
    if len(zones) >= 0.8 * len(looked):
        return TimeForm(len(zones) / len(looked), "iso", True, all(zones))
    days = sum(1 for text in looked if _ISO_DAY.fullmatch(text))
    if days >= 0.8 * len(looked):
        return TimeForm(days / len(looked), "iso", False, False)
    epochs = [int(text) for text in looked if text.isdigit() and len(text) in (10, 13)]
    if len(epochs) >= 0.95 * len(looked):
        return _epoch_form(epochs) or none
    return _parted_form(looked) or none


def _epoch_form(numbers: Sequence[int]) -> TimeForm | None:
    """Seconds or milliseconds since 1970, of this century's first half."""
    for form, size in (("seconds", 1), ("milliseconds", 1000)):
        if all(1_262_304_000 * size <= number < 2_524_608_000 * size for number in numbers):
            return TimeForm(1.0, form, True, True)
    return None


def _parted_form(texts: Sequence[str]) -> TimeForm | None:
    """Day, month and year in some order, by the values that a part has."""
    found = [match for text in texts if (match := _PARTED.fullmatch(text))]
    if len(found) < 0.8 * len(texts):
        return None
    sign = found[0].group(2)
    orders = _orders_of([(match.group(1), match.group(3), match.group(4)) for match in found], sign)
    clock = "".join(_clock_of(found))
    forms = [order.format(sign) + clock for order in orders]
    fitting = [form for form in forms if all(_reads(match.group(0), form) for match in found)]
    if not fitting:
        return None
    return TimeForm(
        len(found) / len(texts), fitting[0], bool(clock), "%z" in clock, fitting[1] if len(fitting) > 1 else ""
    )


def _orders_of(parts: Sequence[tuple[str, str, str]], sign: str) -> list[str]:
    """The orders of day, month and year that the values allow."""
    if all(len(first) == 4 for first, _, _ in parts):
        return ["%Y{0}%m{0}%d"]
    year = "%Y" if all(len(third) == 4 for _, _, third in parts) else "%y"
    by_day, by_month = f"%d{{0}}%m{{0}}{year}", f"%m{{0}}%d{{0}}{year}"
    if sign == "." or any(int(first) > 12 for first, _, _ in parts):
        return [by_day]
    return [by_month] if any(int(second) > 12 for _, second, _ in parts) else [by_day, by_month]


def _clock_of(found: Sequence[re.Match[str]]) -> list[str]:
    one = found[0]
    if one.group(5) is None:
        return []
    between = one.string[one.end(4) : one.start(5)]
    hours = "%I" if one.group(8) else "%H"
    half = one.string[one.end(7) if one.group(7) else one.end(6) : one.start(8)] + "%p" if one.group(8) else ""
    zone = " %z" if one.group(9) else ""
    return [between, hours, ":%M", ":%S" if one.group(7) else "", half, zone]


def _reads(text: str, form: str) -> bool:
    try:
        datetime.strptime(text, form)
    except ValueError:
        return False
    return True
