# Fonts are measured, not guessed. DejaVu Sans is shipped (its licence beside it), so that a map looks the same everywhere.
"""Font files and text widths."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PIL import ImageFont

FOLDER = Path(__file__).parent / "dejavu"
_SCALE = 64  # measured large, so that rounding to whole pixels does not matter


@lru_cache(maxsize=64)
def load_font(size: float, bold: bool = False) -> ImageFont.FreeTypeFont:
    """DejaVu Sans in a size (pixels)."""
    name = "DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf"
    return ImageFont.truetype(str(FOLDER / name), size)


@lru_cache(maxsize=20_000)
def measure_text(text: str, size: float, bold: bool = False) -> float:
    """Width of a text in points."""
    try:
        return float(load_font(_SCALE, bold).getlength(text)) * size / _SCALE
    except (RuntimeError, ValueError):
        # Characters that no layout engine lays out: each takes the place of a replacement mark.
        plain = "".join(letter if letter.isprintable() else "\ufffd" for letter in text)
        return float(load_font(_SCALE, bold).getlength(plain)) * size / _SCALE
