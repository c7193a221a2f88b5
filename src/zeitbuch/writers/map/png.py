# A scene as PNG, drawn with the same numbers as the SVG. Drawn twice as large and scaled down for smooth edges.
"""Maps as PNG."""

from __future__ import annotations

import io
import math
from functools import lru_cache
from itertools import pairwise

from PIL import Image, ImageDraw, ImageFont

from zeitbuch.core.layout.cards import LEADING, NAME, PAD, ROW_HEIGHT, SMALL, SPINE
from zeitbuch.core.layout.geometry import Card, Frame, PlacedCard, Route, Scene, tab_outline
from zeitbuch.core.model.problems import fail
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.fonts import FOLDER, measure_text
from zeitbuch.writers.theme.look import CARD, EFFECT_LEGEND, EFFECTS, ERROR, FRAME, INK, PAPER, QUIET, RULE
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing

MOST_PIXELS = 120_000_000
Point = tuple[float, float]


@lru_cache(maxsize=64)
def _load_font(size: float, bold: bool) -> ImageFont.FreeTypeFont:
    """DejaVu Sans in a size (pixels)."""
    return ImageFont.truetype(str(FOLDER / ("DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf")), size)


class _Pen:
    """Draws in points on an image of ``k`` pixels a point."""

    def __init__(self, width: float, height: float, k: float) -> None:
        self.k = k
        self.image = Image.new("RGB", (math.ceil(width * k), math.ceil(height * k)), PAPER)
        self.draw = ImageDraw.Draw(self.image)

    def rect(
        self,
        x: float,
        y: float,
        w: float,
        h: float,
        fill: str | None = None,
        line: str | None = None,
        width: float = 1.0,
    ) -> None:
        k = self.k
        self.draw.rectangle(
            (x * k, y * k, (x + w) * k, (y + h) * k), fill=fill, outline=line, width=max(1, round(width * k))
        )

    def path(
        self, points: list[Point], colour: str, width: float = 1.0, dash: tuple[float, float] | None = None
    ) -> None:
        k = self.k
        size = max(1, round(width * k))
        for part in _dash_line(points, *dash) if dash else [points]:
            self.draw.line([(x * k, y * k) for x, y in part], fill=colour, width=size, joint="curve")

    def shape(
        self,
        points: list[Point],
        fill: str,
        line: str | None = None,
        width: float = 1.0,
        dash: tuple[float, float] | None = None,
    ) -> None:
        self.draw.polygon([(x * self.k, y * self.k) for x, y in points], fill=fill)
        if line is not None:
            self.path(points, line, width, dash)

    def text(
        self, x: float, y: float, text: str, size: float, bold: bool = False, colour: str = INK, right: bool = False
    ) -> None:
        words = make_inert(text, keep_lines=False)
        self.draw.text(
            (x * self.k, y * self.k),
            words,
            font=_load_font(size * self.k, bold),
            fill=colour,
            anchor="rs" if right else "ls",
        )


def _dash_line(points: list[Point], on: float, off: float) -> list[list[Point]]:
    parts: list[list[Point]] = []
    drawing, left = True, on
    for (x1, y1), (x2, y2) in pairwise(points):
        length = math.hypot(x2 - x1, y2 - y1)
        at = 0.0
        while at < length - 1e-9:
            step = min(left, length - at)
            if drawing:
                a, b = at / length, (at + step) / length
                parts.append([(x1 + (x2 - x1) * a, y1 + (y2 - y1) * a), (x1 + (x2 - x1) * b, y1 + (y2 - y1) * b)])
            at += step
            left -= step
            if left <= 1e-9:
                drawing = not drawing
                left = on if drawing else off
    return parts


def _draw_spine(pen: _Pen, x: float, y: float, h: float, effect: str, w: float = SPINE) -> None:
    tone, mark = EFFECTS[effect]
    pen.rect(x, y, w, h, fill=tone)
    at = y + 2.0
    while at < y + h - 1:
        if mark == "dots":
            pen.draw.ellipse(
                [(x + w / 2 - 0.8) * pen.k, (at - 0.8) * pen.k, (x + w / 2 + 0.8) * pen.k, (at + 0.8) * pen.k], fill=INK
            )
        elif mark in ("slant", "cross"):
            low = min(y + h, at + w * 0.7)
            colour = INK if mark == "slant" else PAPER
            pen.path([(x, low), (x + w, at)], colour, 1.0)
            if mark == "cross":
                pen.path([(x, at), (x + w, low)], colour, 1.0)
        elif mark == "bars":
            pen.path([(x, at), (x + w, at)], PAPER, 1.2)
        at += 4.0 if mark != "cross" else 5.0


def _draw_tabs(pen: _Pen, card: Card, x: float, y: float, width: float, height: float) -> None:
    for tab in card.tabs:
        points, (left, low) = tab_outline(card, tab, x, y, width, height)
        error = tab.style == "error"
        pen.shape(points, PAPER, ERROR if error else INK, 1.0, (4, 2.5) if error else None)
        pen.text(left, low, tab.text, SMALL, colour=ERROR if error else INK)


def _draw_card(pen: _Pen, placed: PlacedCard) -> None:
    card, x, y = placed.card, placed.x, placed.y
    _draw_tabs(pen, card, x, y, card.width, card.height)
    if card.frame == "start":
        k = pen.k
        pen.draw.rounded_rectangle(
            (x * k, y * k, (x + card.width) * k, (y + card.height) * k), radius=card.height / 2 * k, fill=PAPER, outline=INK,
            width=max(1, round(1.1 * k)),
        )  # fmt: skip
    else:
        _draw_body(pen, x, y, card)
    left, at = x + SPINE + PAD, y + PAD - 2
    for line in card.lines:
        at += LEADING[line.size]
        pen.text(left, at - 3.5, line.text, line.size, line.bold, QUIET if line.quiet or not card.enabled else INK)
    at += 5
    _draw_rows(pen, card, x, at, left)
    if card.number:
        pen.text(x + card.width - 5, y + 12, card.number, 8.5, colour=QUIET, right=True)


def _draw_body(pen: _Pen, x: float, y: float, card: Card) -> None:
    around = [(x, y), (x + card.width, y), (x + card.width, y + card.height), (x, y + card.height), (x, y)]
    pen.rect(x, y, card.width, card.height, fill=CARD)
    _draw_spine(pen, x, y, card.height, card.effect)
    if card.meter is not None:
        for share, tone in ((1.0, RULE), (card.meter, INK)):
            pen.rect(x + SPINE + 4, y + card.height - 8, (card.width - SPINE - 8) * share, 4, fill=tone)
    pen.path(around, INK, 2.6 if card.marked else 1.1, (1.5, 3) if card.frame == "dotted" else None)
    if card.frame == "double":
        pen.rect(x - 3, y - 3, card.width + 6, card.height + 6, line=INK, width=0.9)


def _draw_rows(pen: _Pen, card: Card, x: float, at: float, left: float) -> None:
    for row in card.rows:
        pen.path([(x + SPINE, at), (x + card.width, at)], RULE, 0.8)
        _draw_spine(pen, left, at + 4, ROW_HEIGHT - 8, row.effect, 5.0)
        pen.text(left + 10, at + 13.5, row.role, SMALL, colour=QUIET)
        pen.text(left + 62, at + 13.5, row.text, SMALL)
        at += ROW_HEIGHT


def _draw_frame(pen: _Pen, frame: Frame) -> None:
    card, x, y = frame.card, frame.x, frame.y
    _draw_tabs(pen, card, x, y, frame.width, frame.height)
    shade = Image.new("RGB", (1, 1), INK).getpixel((0, 0))
    under = pen.image.getpixel((int((x + frame.width - 4) * pen.k), int((y + frame.height - 4) * pen.k)))
    assert isinstance(shade, tuple) and isinstance(under, tuple)
    mixed = tuple(round(0.97 * u + 0.03 * s) for u, s in zip(under, shade, strict=True))
    pen.rect(x, y, frame.width, frame.height, fill=f"#{mixed[0]:02x}{mixed[1]:02x}{mixed[2]:02x}", line=FRAME)
    name = card.lines[0]
    pen.rect(x + 12, y - 8, measure_text(make_inert(name.text, keep_lines=False), NAME, True) + 12, 16, fill=PAPER)
    pen.text(x + 18, y + 4.5, name.text, NAME, True)
    at = y + 20.0
    for line in card.lines[1:]:
        pen.text(x + 18, at, line.text, line.size, line.bold, QUIET)
        at += 14
    if card.number:
        pen.text(x + frame.width - 6, y + 13, card.number, 8.5, colour=QUIET, right=True)


def _draw_route(pen: _Pen, route: Route) -> None:
    error = route.style == "error"
    colour = ERROR if error else INK
    points = list(route.points)
    (px, py), (ex, ey) = points[-2], points[-1]
    dx, dy = (ex > px) - (ex < px), (ey > py) - (ey < py)
    pen.path(points, colour, 2.8 if route.heavy else 1.2, (5, 3.5) if error else None)
    if error:
        pen.path(
            [(ex - 6 * dy - 3 * dx, ey - 6 * dx - 3 * dy), (ex + 6 * dy - 3 * dx, ey + 6 * dx - 3 * dy)], colour, 2.4
        )
    else:
        back = (ex - 7 * dx, ey - 7 * dy)
        pen.shape(
            [(ex, ey), (back[0] - 3.5 * dy, back[1] - 3.5 * dx), (back[0] + 3.5 * dy, back[1] + 3.5 * dx)], colour
        )


def to_png(scene: Scene, scale: float = 2.0) -> bytes:
    """A map as PNG with ``scale`` pixels a point. Raises ZeitbuchError when the picture would be too large."""
    if scene.width * scene.height * (2 * scale) ** 2 > MOST_PIXELS * 4:
        raise fail(
            "map-size",
            f"expected a picture of at most {MOST_PIXELS:,} pixels, found a map of {scene.width:,.0f} x {scene.height:,.0f} points",
            "lower --scale, or write SVG",
        )
    pen = _Pen(scene.width, scene.height, scale * 2)
    pen.text(28, 38, scene.title, 18, True)
    for i, line in enumerate(scene.subtitle):
        pen.text(28, 56 + 14 * i, line, 10.5, colour=QUIET)
    low = scene.height - (44 if scene.effects or scene.scale else 16)
    if scene.margin:
        pen.path([(50, 76), (50, low)], RULE)
    for y, number in scene.margin:
        pen.text(44, y + 20, number, 10, colour=QUIET, right=True)
    for frame in scene.frames:
        _draw_frame(pen, frame)
    for route in scene.routes:
        _draw_route(pen, route)
    for card in scene.cards:
        _draw_card(pen, card)
    _draw_legend(scene, pen)
    out = io.BytesIO()
    pen.image.reduce(2).save(out, "PNG", optimize=False)
    return out.getvalue()


def _draw_legend(scene: Scene, pen: _Pen) -> None:
    x = 28.0
    for effect in scene.effects:
        _draw_spine(pen, x, scene.height - 30, 14, effect)
        word = EFFECT_LEGEND[effect]
        pen.text(x + 13, scene.height - 19, word, SMALL, colour=QUIET)
        x += 13 + measure_text(word, SMALL) + 20
    if scene.scale:
        pen.rect(x, scene.height - 25, 30, 4, fill=INK)
        pen.text(x + 38, scene.height - 19, scene.scale, SMALL, colour=QUIET)


def write_png(drawing: MapDrawing, look: TextLook) -> bytes:
    """A picture."""
    return to_png(drawing.scene(), look.scale)
