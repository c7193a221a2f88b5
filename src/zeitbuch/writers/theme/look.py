# The one table of colours and marks of maps and pages: paper, ink, and a pattern beside each tone.
"""The look: colours, patterns and words for effects."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.model.kinds import EFFECT_ROWS

PAPER = "#faf6ec"
CARD = "#fffdf7"
INK = "#1f2d3d"
QUIET = "#5d6470"
RULE = "#cfc6b0"
FRAME = "#a79f8b"
ERROR = "#8c2f1b"
FONT = "DejaVu Sans, Verdana, sans-serif"


class Palette(NamedTuple):
    """The colours of a map: as they are, or as names that a page defines for light and dark."""

    paper: str = PAPER
    card: str = CARD
    ink: str = INK
    quiet: str = QUIET
    rule: str = RULE
    frame: str = FRAME
    error: str = ERROR


PAGE = Palette(*(f"var(--{name})" for name in Palette._fields))

# effect -> (tone of the spine, marks on it); marks: how the spine reads without colour.
EFFECTS: dict[str, tuple[str, str]] = {
    "none": ("#e4dcc8", "none"),
    "read": ("#9fb3b5", "dots"),
    "write": ("#3f6a78", "full"),
    "send": ("#b8862f", "slant"),
    "delete": ("#8c2f1b", "cross"),
    "spend": ("#5b3a6b", "bars"),
}
EFFECT_LEGEND: dict[str, str] = {row.effect: row.verb for row in EFFECT_ROWS if row.verb}
