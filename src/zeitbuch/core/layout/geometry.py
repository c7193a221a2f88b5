# Shapes of a drawn map, without any format: what writers turn into SVG or PNG. Units are points of the page.
"""Boxes, routes and scenes."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

Style = Literal["next", "case", "error", "back"]
Mark = Literal["", "added", "removed", "changed"]  # beside another version


class Line(Struct, frozen=True):
    """One line of text inside a card, with the full text when it had to be cut."""

    text: str
    size: float
    bold: bool = False
    quiet: bool = False
    full: str = ""


class Tab(Struct, frozen=True):
    """A tab at the lower edge of a card: one outlet. ``x`` is its left edge from the card's left edge; at the right edge of a
    card (``Card.side``) its upper edge from the card's upper edge."""

    key: int
    text: str
    full: str
    style: Style
    x: float
    width: float


class AttachedRow(Struct, frozen=True):
    """A row inside an agent's card: role in a word, text, effect."""

    id: str
    role: str
    text: str
    full: str
    effect: str


class Card(Struct, frozen=True):
    """A step: text lines, effect, frame, rows and tabs; ``width`` and ``height`` include rows, not tabs."""

    id: str
    number: str
    kind: str
    effect: str
    frame: Literal["plain", "double", "dotted", "start"]
    lines: tuple[Line, ...]
    rows: tuple[AttachedRow, ...]
    tabs: tuple[Tab, ...]
    width: float
    height: float
    full: str
    enabled: bool = True
    meter: float | None = None  # length of the bar at the lower edge, 0 to 1
    marked: bool = False
    side: bool = False  # the tabs stand at the right edge
    mark: Mark = ""


class PlacedCard(Struct, frozen=True):
    """A card at its place (left upper corner)."""

    card: Card
    x: float
    y: float
    scope: str = ""  # the scope it stands in, and the row there
    row: int = 0


class Frame(Struct, frozen=True):
    """A scope: its title stands on the upper rule."""

    card: Card
    x: float
    y: float
    width: float
    height: float
    depth: int
    scope: str = ""
    row: int = 0


class Band(Struct, frozen=True):
    """One row of a scope: what stands side by side."""

    scope: str
    row: int
    top: float
    height: float


class Route(Struct, frozen=True):
    """A link as a path of right angles. ``ends`` is how it arrives: arrow, or the bar of an error route."""

    source: str
    target: str
    style: Style
    points: tuple[tuple[float, float], ...]
    full: str
    scope: str = ""  # the scope whose rows it passes, and the boxes there that it leaves and reaches
    leaves: str = ""
    reaches: str = ""
    mark: Mark = ""
    heavy: bool = False


class Scene(Struct, frozen=True):
    """A whole map."""

    title: str
    subtitle: tuple[str, ...]
    width: float
    height: float
    cards: tuple[PlacedCard, ...]
    frames: tuple[Frame, ...]
    routes: tuple[Route, ...]
    margin: tuple[tuple[float, str], ...]
    effects: tuple[str, ...]
    scale: str = ""  # what the bars mean
    bands: tuple[Band, ...] = ()


TAB_HEIGHT = 18.0


def tab_outline(
    card: Card, tab: Tab, x: float, y: float, width: float, height: float
) -> tuple[list[tuple[float, float]], tuple[float, float]]:
    """The outline of a tab of a card or frame at this place, and where its text begins."""
    if card.side:
        left, right, top, low = x + width, x + width + tab.width, y + tab.x, y + tab.x + TAB_HEIGHT
        points = [(left, top), (right - 4, top), (right, top + 4), (right, low - 4), (right - 4, low), (left, low)]
        return points, (left + 9, top + 12.8)
    left, right, top, low = x + tab.x, x + tab.x + tab.width, y + height, y + height + TAB_HEIGHT
    points = [(left, top), (left, low - 4), (left + 4, low), (right - 4, low), (right, low - 4), (right, top)]
    return points, (left + 9, top + 12.8)
