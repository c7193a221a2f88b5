# Bare numbers that are times: whether "30" is seconds or minutes, only the key can tell. Where it does not, it is asked.
"""The unit of times that are bare numbers."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.input import clock_texts

from .clocks import UNITS
from .survey import Path
from .vocabulary import words_of

# Words for units that mean something else too: "wait_time", "min" of a least number.
_DOUBTFUL = frozenset("time timer ora ore min s m h d w".split())
_MILLISECONDS = "ms msec msecs millis millisecond milliseconds millisekunden millisekunder millisecondes milisegundos"
_UNIT_OF = {
    word: name for name, listed in UNITS.items() for word in listed.split() if word not in _DOUBTFUL
} | dict.fromkeys(_MILLISECONDS.split(), "milliseconds")


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
