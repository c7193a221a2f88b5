# A scene as SVG. Every text has its measured length, so that another font cannot make it leave its card; what was
# cut has its full text in a title. Names are escaped; there are no links, scripts or styles from outside.
"""Maps as SVG."""

from __future__ import annotations

from xml.sax.saxutils import escape

from zeitbuch.core.cards import LEADING, NAME, PAD, ROW_HEIGHT, SMALL, SPINE, TAB_HEIGHT
from zeitbuch.core.geometry import Card, Frame, PlacedCard, Route, Scene

from .fonts import measure
from .look import CARD, EFFECT_LEGEND, EFFECTS, ERROR, FONT, FRAME, INK, PAPER, QUIET, RULE
from .plain import inert


def _n(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")


def _text(
    x: float, y: float, text: str, size: float, bold: bool = False, colour: str = INK, full: str = "", anchor: str = ""
) -> str:
    words = inert(text, keep_lines=False)
    if not words:
        return ""
    weight = ' font-weight="bold"' if bold else ""
    length = measure(words, size, bold)
    title = f"<title>{escape(inert(full, keep_lines=False))}</title>" if full else ""
    side = f' text-anchor="{anchor}"' if anchor else ""
    return (
        f'<text x="{_n(x)}" y="{_n(y)}" font-size="{_n(size)}"{weight} fill="{colour}"{side} '
        f'textLength="{_n(length)}" lengthAdjust="spacingAndGlyphs">{title}{escape(words)}</text>'
    )


def _spine(x: float, y: float, height: float, effect: str, width: float = SPINE) -> str:
    tone, mark = EFFECTS[effect]
    parts = [f'<rect x="{_n(x)}" y="{_n(y)}" width="{_n(width)}" height="{_n(height)}" fill="{tone}"/>']
    if mark not in ("none", "full"):
        parts.append(
            f'<rect x="{_n(x)}" y="{_n(y)}" width="{_n(width)}" height="{_n(height)}" fill="url(#zb-{mark})"/>'
        )
    return "".join(parts)


def _card(placed: PlacedCard) -> str:
    card, x, y = placed.card, placed.x, placed.y
    dash = ' stroke-dasharray="1.5 3"' if card.frame == "dotted" else ""
    fade = "" if card.enabled else ' opacity="0.55"'
    parts = [f"<g{fade}><title>{escape(inert(card.full, keep_lines=False))}</title>", _tabs(card, x, y + card.height)]
    if card.frame == "start":
        parts.append(
            f'<rect x="{_n(x)}" y="{_n(y)}" width="{_n(card.width)}" height="{_n(card.height)}" rx="{_n(card.height / 2)}" '
            f'fill="{PAPER}" stroke="{INK}" stroke-width="1.1"/>'
        )
    else:
        parts.append(
            f'<rect x="{_n(x)}" y="{_n(y)}" width="{_n(card.width)}" height="{_n(card.height)}" fill="{CARD}" '
            f'stroke="{INK}" stroke-width="{"2.6" if card.marked else "1.1"}"{dash}/>'
        )
        if card.meter is not None:
            room = card.width - SPINE - 8
            for share, tone in ((1.0, RULE), (card.meter, INK)):
                parts.append(
                    f'<rect x="{_n(x + SPINE + 4)}" y="{_n(y + card.height - 8)}" width="{_n(room * share)}" height="4" fill="{tone}"/>'
                )
        parts.append(_spine(x, y, card.height, card.effect))
        if card.frame == "double":
            parts.append(
                f'<rect x="{_n(x - 3)}" y="{_n(y - 3)}" width="{_n(card.width + 6)}" height="{_n(card.height + 6)}" '
                f'fill="none" stroke="{INK}" stroke-width="0.9"/>'
            )
    left = x + SPINE + PAD
    at = y + PAD - 2
    for line in card.lines:
        at += LEADING[line.size]
        parts.append(_text(left, at - 3.5, line.text, line.size, line.bold, QUIET if line.quiet else INK, line.full))
    if card.rows:
        at += 5
        for row in card.rows:
            parts.append(
                f'<line x1="{_n(x + SPINE)}" y1="{_n(at)}" x2="{_n(x + card.width)}" y2="{_n(at)}" stroke="{RULE}" stroke-width="0.8"/>'
            )
            parts.append(_spine(left, at + 4, ROW_HEIGHT - 8, row.effect, 5.0))
            parts.append(_text(left + 10, at + 13.5, row.role, SMALL, colour=QUIET))
            parts.append(_text(left + 62, at + 13.5, row.text, SMALL, full=row.full))
            at += ROW_HEIGHT
    if card.number:
        parts.append(_text(x + card.width - 5, y + 12, card.number, 8.5, colour=QUIET, anchor="end"))
    return "".join([*parts, "</g>"])


def _tabs(card: Card, x: float, y: float) -> str:
    parts = []
    for tab in card.tabs:
        left, right, low = x + tab.x, x + tab.x + tab.width, y + TAB_HEIGHT
        colour = ERROR if tab.style == "error" else INK
        dash = ' stroke-dasharray="4 2.5"' if tab.style == "error" else ""
        parts.append(
            f'<path d="M{_n(left)} {_n(y)}V{_n(low - 4)}L{_n(left + 4)} {_n(low)}H{_n(right - 4)}L{_n(right)} {_n(low - 4)}V{_n(y)}" '
            f'fill="{PAPER}" stroke="{colour}" stroke-width="1"{dash}/>'
        )
        parts.append(_text(left + 9, y + 12.8, tab.text, SMALL, colour=colour, full=tab.full))
    return "".join(parts)


def _frame(frame: Frame) -> str:
    card = frame.card
    x, y = frame.x, frame.y
    name = card.lines[0]
    length = measure(inert(name.text, keep_lines=False), NAME, True)
    parts = [
        f"<g><title>{escape(inert(card.full, keep_lines=False))}</title>",
        _tabs(card, x, y + frame.height),
        f'<rect x="{_n(x)}" y="{_n(y)}" width="{_n(frame.width)}" height="{_n(frame.height)}" fill="{INK}" fill-opacity="0.03" '
        f'stroke="{FRAME}" stroke-width="1"/>',
        f'<rect x="{_n(x + 12)}" y="{_n(y - 8)}" width="{_n(length + 12)}" height="16" fill="{PAPER}"/>',
        _text(x + 18, y + 4.5, name.text, NAME, True, INK, name.full),
    ]
    at = y + 20.0
    for line in card.lines[1:]:
        parts.append(_text(x + 18, at, line.text, line.size, line.bold, QUIET, line.full))
        at += 14
    if card.number:
        parts.append(_text(x + frame.width - 6, y + 13, card.number, 8.5, colour=QUIET, anchor="end"))
    return "".join([*parts, "</g>"])


def _path(points: list[tuple[float, float]]) -> str:
    return '<path d="M' + "L".join(f"{_n(x)} {_n(y)}" for x, y in points) + '"'


def _route(route: Route) -> str:
    colour = ERROR if route.style == "error" else INK
    dash = ' stroke-dasharray="5 3.5"' if route.style == "error" else ""
    points = list(route.points)
    (px, py), (ex, ey) = points[-2], points[-1]
    dx, dy = (ex > px) - (ex < px), (ey > py) - (ey < py)
    parts = [
        f"<g><title>{escape(inert(route.full, keep_lines=False))}</title>"
        f'{_path(points)} fill="none" stroke="{colour}" stroke-width="1.2" stroke-linejoin="round"{dash}/>'
    ]
    if route.style == "error":
        parts.append(
            _path([(ex - 6 * dy - 3 * dx, ey - 6 * dx - 3 * dy), (ex + 6 * dy - 3 * dx, ey + 6 * dx - 3 * dy)])
            + f' stroke="{colour}" stroke-width="2.4"/>'
        )
    else:
        bx, by = ex - 7 * dx, ey - 7 * dy
        head = [(ex, ey), (bx - 3.5 * dy, by - 3.5 * dx), (bx + 3.5 * dy, by + 3.5 * dx), (ex, ey)]
        parts.append(f'{_path(head)} fill="{colour}"/>')
    return "".join([*parts, "</g>"])


_MARKS = (
    '<pattern id="zb-dots" width="4" height="4" patternUnits="userSpaceOnUse"><circle cx="2" cy="2" r="0.8" fill="#1f2d3d"/></pattern>'
    '<pattern id="zb-slant" width="5" height="5" patternUnits="userSpaceOnUse"><path d="M0 5L5 0" stroke="#1f2d3d" stroke-width="1.2"/></pattern>'
    '<pattern id="zb-cross" width="5" height="5" patternUnits="userSpaceOnUse">'
    '<path d="M0 5L5 0M0 0L5 5" stroke="#faf6ec" stroke-width="1.1"/></pattern>'
    '<pattern id="zb-bars" width="4" height="4" patternUnits="userSpaceOnUse"><path d="M0 2H4" stroke="#faf6ec" stroke-width="1.4"/></pattern>'
)


def to_svg(scene: Scene, inline: bool = False) -> str:
    """A map as SVG text; ``inline`` leaves out the XML declaration (for an HTML page)."""
    w, h = _n(scene.width), _n(scene.height)
    parts = [] if inline else ['<?xml version="1.0" encoding="UTF-8"?>\n']
    parts.append(
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {w} {h}" width="{w}" height="{h}" role="img" font-family="{FONT}">'
        f"<title>Map of {escape(inert(scene.title, keep_lines=False))}</title><defs>{_MARKS}</defs>"
        f'<rect width="{w}" height="{h}" fill="{PAPER}"/>'
    )
    parts.append(_text(28, 38, scene.title, 18, True))
    for i, line in enumerate(scene.subtitle):
        parts.append(_text(28, 56 + 14 * i, line, 10.5, colour=QUIET))
    low = scene.height - (44 if scene.effects or scene.scale else 16)
    parts.append(f'<line x1="50" y1="76" x2="50" y2="{_n(low)}" stroke="{RULE}" stroke-width="1"/>')
    for y, number in scene.margin:
        parts.append(_text(44, y + 20, number, 10, colour=QUIET, anchor="end"))
    parts += [_frame(f) for f in scene.frames]
    parts += [_route(r) for r in scene.routes]
    parts += [_card(c) for c in scene.cards]
    x = 28.0
    for effect in scene.effects:
        parts.append(_spine(x, scene.height - 30, 14, effect))
        word = EFFECT_LEGEND[effect]
        parts.append(_text(x + 13, scene.height - 19, word, SMALL, colour=QUIET))
        x += 13 + measure(word, SMALL) + 20
    if scene.scale:
        parts.append(f'<rect x="{_n(x)}" y="{_n(scene.height - 25)}" width="30" height="4" fill="{INK}"/>')
        parts.append(_text(x + 38, scene.height - 19, scene.scale, SMALL, colour=QUIET))
    return "\n".join(p for p in parts if p) + "\n</svg>\n"
