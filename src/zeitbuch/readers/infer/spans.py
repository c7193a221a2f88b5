# Bare numbers that are times: whether "30" is seconds or minutes, only the key can tell. Where it does not, it is asked.
"""The unit of times that are bare numbers."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.input import clock_texts

from .clocks import UNITS
from .fields import Column
from .survey import Path
from .vocabulary import words_of

# Words for units that mean something else too: "wait_time", "min" of a least number.
_DOUBTFUL = frozenset("time timer ora ore min s m h d w".split())
_UNIT_OF = {word: name for name, listed in UNITS.items() for word in listed.split() if word not in _DOUBTFUL}


def unit_in_key(path: Path) -> str:
    """The unit that the key of a number names; empty when it names none."""
    words = words_of(path[-1])
    if len(words) > 1 and words[-1] == "s":  # gap_s: behind a word of its own it can mean nothing else
        return "seconds"
    return next((_UNIT_OF[word] for word in reversed(words) if word in _UNIT_OF), "")


def is_time(value: Any) -> bool:
    """Whether a value may be a length of time."""
    return type(value) is not bool and bool(clock_texts.duration_of(value))


def is_spelled_time(value: Any) -> bool:
    """Whether a text is a length of time and says its unit."""
    return type(value) is str and any(map(str.isalpha, value)) and is_time(value)


def unit_of(path: Path, values: list[Any]) -> str | None:
    """The unit of a field of times: that of its key, "seconds" where every value says its own; None where nothing tells."""
    if all(type(value) is str and not value.strip().replace(".", "", 1).isdecimal() for value in values):
        return "seconds"
    return unit_in_key(path) or None


def span_objects(columns: dict[Path, Column]) -> list[Path]:
    """Objects of a number and the name of its unit, which say a length of time by themselves."""
    inside: dict[Path, list[list[Any]]] = {}
    for path, column in columns.items():
        inside.setdefault(path[:-1], []).append(column.values)
    return [above for above, fields in inside.items() if above and len(fields) == 2 and _are_a_span(*fields)]


def _are_a_span(first: list[Any], second: list[Any]) -> bool:
    return any(_are_numbers(one) and _are_units(other) for one, other in ((first, second), (second, first)))


def _are_numbers(values: list[Any]) -> bool:
    return all(type(value) in (int, float) for value in values)


def _are_units(values: list[Any]) -> bool:
    return all(str(value).strip().lower() in clock_texts.UNIT_SECONDS for value in values)
