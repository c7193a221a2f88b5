# Texts are measured, not guessed, and without a library: the widths of the letters of DejaVu Sans stand in a file beside it (written by
# `.ci/write-widths`). The font is shipped (its licence beside it), so that a map looks the same everywhere.
"""Text widths."""

from __future__ import annotations

import unicodedata
from functools import cache, lru_cache
from pathlib import Path

import msgspec

FOLDER = Path(__file__).parent / "dejavu"


class _Face(msgspec.Struct):
    """Units of an em, the width of the sign for what the font lacks, and (first letter, widths) of letters in a row."""

    em: int
    missing: int
    runs: list[tuple[int, list[int]]]


@cache
def _widths(face: str) -> tuple[dict[str, float], float]:
    """The width of each letter of a face, and of what it lacks, in ems."""
    told = msgspec.json.decode((FOLDER / "widths.json").read_bytes(), type=dict[str, _Face])[face]
    widths = {chr(first + place): units / told.em for first, row in told.runs for place, units in enumerate(row)}
    return widths, told.missing / told.em


@lru_cache(maxsize=20_000)
def measure_text(text: str, size: float, bold: bool = False) -> float:
    """Width of a text in points. Kerning is left out: a text is never wider than told by more than a hair."""
    widths, missing = _widths("bold" if bold else "regular")
    return size * sum([widths[letter] if letter in widths else _foreign_width(letter, missing) for letter in text])


def _foreign_width(letter: str, missing: float) -> float:
    """The width of a letter that another font draws: an em where it is a wide one, nothing where it stands on another."""
    if unicodedata.combining(letter):
        return 0.0
    return 1.0 if unicodedata.east_asian_width(letter) in "WF" else missing
