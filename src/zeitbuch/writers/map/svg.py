# A scene as SVG. Every text has its measured length, so that another font cannot make it leave its card; what was
# cut has its full text in a title. Names are escaped; there are no links, scripts or styles from outside, and links of a site to its own pages only
# where it asks for them.
"""Maps as SVG."""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import escape

from zeitbuch.core.layout.cards import LEADING, NAME, PAD, ROW_HEIGHT, SMALL, SPINE
from zeitbuch.core.layout.geometry import Card, Frame, PlacedCard, Route, Scene, tab_outline
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.fonts import measure_text
from zeitbuch.writers.theme.look import EFFECT_LEGEND, EFFECTS, FONT, PAGE, Palette
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing


def coordinate(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")


def _spine_svg(x: float, y: float, height: float, effect: str, width: float = SPINE) -> str:
    tone, mark = EFFECTS[effect]
    parts = [
        f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(width)}" height="{coordinate(height)}" fill="{tone}"/>'
    ]
    if mark not in ("none", "full"):
        parts.append(
            f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(width)}" height="{coordinate(height)}" fill="url(#zb-{mark})"/>'
        )
    return "".join(parts)


def _path_data(points: list[tuple[float, float]]) -> str:
    return '<path d="M' + "L".join(f"{coordinate(x)} {coordinate(y)}" for x, y in points) + '"'


class Drawing:
    """The parts of a map as SVG elements, in the colours of a palette."""

    def __init__(self, look: Palette) -> None:
        self.look = look

    def text(
        self,
        x: float,
        y: float,
        text: str,
        size: float,
        bold: bool = False,
        colour: str = "",
        full: str = "",
        anchor: str = "",
    ) -> str:
        words = make_inert(text, keep_lines=False)
        if not words:
            return ""
        weight = ' font-weight="bold"' if bold else ""
        length = measure_text(words, size, bold)
        title = f"<title>{escape(make_inert(full, keep_lines=False))}</title>" if full else ""
        side = f' text-anchor="{anchor}"' if anchor else ""
        return (
            f'<text x="{coordinate(x)}" y="{coordinate(y)}" font-size="{coordinate(size)}"{weight} fill="{colour or self.look.ink}"{side} '
            f'textLength="{coordinate(length)}" lengthAdjust="spacingAndGlyphs">{title}{escape(words)}</text>'
        )

    def card(self, placed: PlacedCard) -> str:
        card, x, y = placed.card, placed.x, placed.y
        dash = ' stroke-dasharray="1.5 3"' if card.frame == "dotted" else ""
        fade = "" if card.enabled else ' opacity="0.55"'
        parts = [
            f"<g{fade}><title>{escape(make_inert(card.full, keep_lines=False))}</title>",
            self.mark(card, x, y, card.width, card.height),
            self.tabs(card, x, y, card.width, card.height),
        ]
        self._card_body(card, parts, x, y, dash)
        left = x + SPINE + PAD
        at = y + PAD - 2
        at = self._card_lines(card, at, parts, left)
        if card.rows:
            self._card_rows(at, card, parts, x, left)
        if card.number:
            parts.append(self.text(x + card.width - 5, y + 12, card.number, 8.5, colour=self.look.quiet, anchor="end"))
        return "".join([*parts, "</g>"])

    def _card_body(self, card: Card, parts: list[str], x: float, y: float, dash: str) -> None:
        if card.frame == "start":
            parts.append(
                f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(card.width)}" height="{coordinate(card.height)}" rx="{coordinate(card.height / 2)}" '
                f'fill="{self.look.paper}" stroke="{self.look.ink}" stroke-width="1.1"/>'
            )
        else:
            parts.append(
                f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(card.width)}" height="{coordinate(card.height)}" fill="{self.look.card}" '
                f'stroke="{self.look.ink}" stroke-width="{"2.6" if card.marked else "1.1"}"{dash}/>'
            )
            if card.meter is not None:
                room = card.width - SPINE - 8
                for share, tone in ((1.0, self.look.rule), (card.meter, self.look.ink)):
                    parts.append(
                        f'<rect x="{coordinate(x + SPINE + 4)}" y="{coordinate(y + card.height - 8)}" width="{coordinate(room * share)}" height="4" fill="{tone}"/>'
                    )
            parts.append(_spine_svg(x, y, card.height, card.effect))
            if card.frame == "double":
                parts.append(
                    f'<rect x="{coordinate(x - 3)}" y="{coordinate(y - 3)}" width="{coordinate(card.width + 6)}" height="{coordinate(card.height + 6)}" '
                    f'fill="none" stroke="{self.look.ink}" stroke-width="0.9"/>'
                )

    def _card_lines(self, card: Card, at: float, parts: list[str], left: float) -> float:
        for line in card.lines:
            at += LEADING[line.size]
            parts.append(
                self.text(
                    left,
                    at - 3.5,
                    line.text,
                    line.size,
                    line.bold,
                    self.look.quiet if line.quiet else self.look.ink,
                    line.full,
                )
            )
        return at

    def _card_rows(self, at: float, card: Card, parts: list[str], x: float, left: float) -> None:
        at += 5
        for row in card.rows:
            parts.append(
                f'<line x1="{coordinate(x + SPINE)}" y1="{coordinate(at)}" x2="{coordinate(x + card.width)}" '
                f'y2="{coordinate(at)}" stroke="{self.look.rule}" stroke-width="0.8"/>'
            )
            parts.append(_spine_svg(left, at + 4, ROW_HEIGHT - 8, row.effect, 5.0))
            parts.append(self.text(left + 10, at + 13.5, row.role, SMALL, colour=self.look.quiet))
            parts.append(self.text(left + 62, at + 13.5, row.text, SMALL, full=row.full))
            at += ROW_HEIGHT

    def mark(self, card: Card, x: float, y: float, width: float, height: float) -> str:
        """What a comparison says of a card, as a second outline: heavy, struck through, or dotted."""
        if not card.mark:
            return ""
        lines = {"added": 'stroke-width="2.8"', "removed": 'stroke-width="1.4" stroke-dasharray="7 4"'}
        line = lines.get(card.mark, 'stroke-width="2.4" stroke-dasharray="0.1 5" stroke-linecap="round"')
        outline = (
            f'<rect x="{coordinate(x - 4.5)}" y="{coordinate(y - 4.5)}" width="{coordinate(width + 9)}" height="{coordinate(height + 9)}" fill="none" '
            f'stroke="{self.look.ink}" {line}/>'
        )
        if card.mark != "removed":
            return outline
        return (
            outline
            + _path_data([(x - 4.5, y + height + 4.5), (x + width + 4.5, y - 4.5)])
            + f' stroke="{self.look.ink}" stroke-width="1.2"/>'
        )

    def tabs(self, card: Card, x: float, y: float, width: float, height: float) -> str:
        parts = []
        for tab in card.tabs:
            points, (left, low) = tab_outline(card, tab, x, y, width, height)
            colour = self.look.error if tab.style == "error" else self.look.ink
            dash = ' stroke-dasharray="4 2.5"' if tab.style == "error" else ""
            parts.append(f'{_path_data(points)} fill="{self.look.paper}" stroke="{colour}" stroke-width="1"{dash}/>')
            parts.append(self.text(left, low, tab.text, SMALL, colour=colour, full=tab.full))
        return "".join(parts)

    def frame(self, frame: Frame, tabs: bool = True) -> str:
        card = frame.card
        x, y = frame.x, frame.y
        name = card.lines[0]
        length = measure_text(make_inert(name.text, keep_lines=False), NAME, True)
        parts = [
            f"<g><title>{escape(make_inert(card.full, keep_lines=False))}</title>",
            self.mark(card, x, y, frame.width, frame.height),
            self.tabs(card, x, y, frame.width, frame.height) if tabs else "",
            f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(frame.width)}" height="{coordinate(frame.height)}" fill="{self.look.ink}" fill-opacity="0.03" '
            f'stroke="{self.look.frame}" stroke-width="1"/>',
            f'<rect x="{coordinate(x + 12)}" y="{coordinate(y - 8)}" width="{coordinate(length + 12)}" height="16" fill="{self.look.paper}"/>',
            self.text(x + 18, y + 4.5, name.text, NAME, True, self.look.ink, name.full),
        ]
        at = y + 20.0
        for line in card.lines[1:]:
            parts.append(self.text(x + 18, at, line.text, line.size, line.bold, self.look.quiet, line.full))
            at += 14
        if card.number:
            parts.append(self.text(x + frame.width - 6, y + 13, card.number, 8.5, colour=self.look.quiet, anchor="end"))
        return "".join([*parts, "</g>"])

    def route(self, route: Route) -> str:
        colour = self.look.error if route.style == "error" else self.look.ink
        dash = ' stroke-dasharray="5 3.5"' if route.style == "error" else ""
        width = "2.8" if route.mark == "added" or route.heavy else "1.2"
        if route.mark == "removed":
            dash = ' stroke-dasharray="1.5 4.5"'
        points = list(route.points)
        (px, py), (ex, ey) = points[-2], points[-1]
        dx, dy = (ex > px) - (ex < px), (ey > py) - (ey < py)
        parts = [
            f"<g><title>{escape(make_inert(route.full, keep_lines=False))}</title>"
            f'{_path_data(points)} fill="none" stroke="{colour}" stroke-width="{width}" stroke-linejoin="round"{dash}/>'
        ]
        if route.style == "error":
            parts.append(
                _path_data([(ex - 6 * dy - 3 * dx, ey - 6 * dx - 3 * dy), (ex + 6 * dy - 3 * dx, ey + 6 * dx - 3 * dy)])
                + f' stroke="{colour}" stroke-width="2.4"/>'
            )
        else:
            bx, by = ex - 7 * dx, ey - 7 * dy
            head = [(ex, ey), (bx - 3.5 * dy, by - 3.5 * dx), (bx + 3.5 * dy, by + 3.5 * dx), (ex, ey)]
            parts.append(f'{_path_data(head)} fill="{colour}"/>')
        return "".join([*parts, "</g>"])


MARKS = (
    '<pattern id="zb-dots" width="4" height="4" patternUnits="userSpaceOnUse"><circle cx="2" cy="2" r="0.8" fill="#1f2d3d"/></pattern>'
    '<pattern id="zb-slant" width="5" height="5" patternUnits="userSpaceOnUse"><path d="M0 5L5 0" stroke="#1f2d3d" stroke-width="1.2"/></pattern>'
    '<pattern id="zb-cross" width="5" height="5" patternUnits="userSpaceOnUse">'
    '<path d="M0 5L5 0M0 0L5 5" stroke="#faf6ec" stroke-width="1.1"/></pattern>'
    '<pattern id="zb-bars" width="4" height="4" patternUnits="userSpaceOnUse"><path d="M0 2H4" stroke="#faf6ec" stroke-width="1.4"/></pattern>'
)


def head_and_legend(scene: Scene, drawing: Drawing, rail: str = "") -> tuple[str, str]:
    """Title, facts and margin; and the legend at the foot."""
    look = drawing.look
    parts = [drawing.text(28, 38, scene.title, 18, True)]
    for i, line in enumerate(scene.subtitle):
        parts.append(drawing.text(28, 56 + 14 * i, line, 10.5, colour=look.quiet))
    low = scene.height - (44 if scene.effects or scene.scale else 16)
    if scene.margin:
        parts.append(
            f'<line{rail} x1="50" y1="76" x2="50" y2="{coordinate(low)}" stroke="{look.rule}" stroke-width="1"/>'
        )
    foot = []
    x = 28.0
    for effect in scene.effects:
        foot.append(_spine_svg(x, scene.height - 30, 14, effect))
        word = EFFECT_LEGEND[effect]
        foot.append(drawing.text(x + 13, scene.height - 19, word, SMALL, colour=look.quiet))
        x += 13 + measure_text(word, SMALL) + 20
    if scene.scale:
        foot.append(
            f'<rect x="{coordinate(x)}" y="{coordinate(scene.height - 25)}" width="30" height="4" fill="{look.ink}"/>'
        )
        foot.append(drawing.text(x + 38, scene.height - 19, scene.scale, SMALL, colour=look.quiet))
    return "\n".join(parts), "\n".join(foot)


def _linked(card: str, page: str) -> str:
    return f'<a href="{escape(page)}">{card}</a>' if page else card


def to_svg(scene: Scene, inline: bool = False, links: Mapping[str, str] | None = None) -> str:
    """A map as SVG text; ``inline`` is for an HTML page of ours: without XML declaration, in the colours that the page defines for light and
    dark. ``links`` are the pages of our own that cards lead to, by
    the id of the card."""
    drawing = Drawing(PAGE if inline else Palette())
    w, h = coordinate(scene.width), coordinate(scene.height)
    parts = [] if inline else ['<?xml version="1.0" encoding="UTF-8"?>\n']
    parts.append(
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {w} {h}" width="{w}" height="{h}" role="{"group" if links else "img"}" font-family="{FONT}">'
        f"<title>Map of {escape(make_inert(scene.title, keep_lines=False))}</title><defs>{MARKS}</defs>"
        f'<rect width="{w}" height="{h}" fill="{drawing.look.paper}"/>'
    )
    head, foot = head_and_legend(scene, drawing)
    parts.append(head)
    for y, number in scene.margin:
        parts.append(drawing.text(44, y + 20, number, 10, colour=drawing.look.quiet, anchor="end"))
    parts += [drawing.frame(f) for f in scene.frames]
    parts += [drawing.route(r) for r in scene.routes]
    parts += [_linked(drawing.card(c), (links or {}).get(c.card.id, "")) for c in scene.cards]
    parts.append(foot)
    return "\n".join(p for p in parts if p) + "\n</svg>\n"


def write_svg(drawing: MapDrawing, look: TextLook) -> str:
    """A drawing."""
    return to_svg(drawing.scene())
