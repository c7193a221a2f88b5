# The whole drawing of a flow: title, facts, margin with the order, legend, and the laid-out levels between them.
"""Scenes of flows."""

from __future__ import annotations

from zeitbuch.core.graph.topology import Graph

from . import cards
from .cards import PLAIN, Measure, Showing, cut_text
from .fragments import mirror_block, round_block, shift_block
from .geometry import Scene
from .level_layout import LevelLayout
from .views import View

MARGIN_LEFT, MARGIN_TOP, MARGIN = 64.0, 84.0, 28.0


def draw_scene(graph: Graph, measure: Measure, showing: Showing = PLAIN, facts: str = "") -> Scene:
    """The whole map of a flow: title, margin with the order, cards, frames and routes. ``facts`` is the line below the title."""
    flow = graph.flow
    block = LevelLayout(graph, graph.levels[None], measure, 0, showing).layout_block()
    if showing.turned:
        block = mirror_block(block)
    left = MARGIN if showing.turned else MARGIN_LEFT  # without rows there are no numbers beside them
    subtitle = facts or View(graph).facts
    width = max(left + block.width + MARGIN, 560.0)
    title = cut_text(flow.title, width - 2 * MARGIN, 18.0, True, measure)
    lines = cards.wrap_text(subtitle, width - 2 * MARGIN, 10.5, False, measure, 2)
    dx = left + (width - left - MARGIN - block.width) / 2
    dy = MARGIN_TOP
    placed = round_block(shift_block(block, dx, dy))
    used = {c.card.effect for c in block.cards} | {r.effect for c in block.cards for r in c.card.rows}
    order = [e for e in ("read", "write", "send", "delete", "spend") if e in used]
    legend = 34.0 if order or showing.scale else 0.0
    return Scene(
        title=title,
        subtitle=tuple(lines),
        width=round(width, 2),
        height=round(dy + block.height + MARGIN + legend, 2),
        cards=tuple(placed.cards),
        frames=tuple(placed.frames),
        routes=tuple(placed.routes),
        margin=tuple((round(y + dy, 2), _number_span(numbers)) for y, numbers in block.rows if numbers),
        effects=tuple(order),
        scale=showing.scale,
        bands=tuple(placed.bands),
    )


def _number_span(numbers: list[str]) -> str:
    found = sorted(int(n) for n in numbers)
    if len(found) > 2 and found[-1] - found[0] == len(found) - 1:
        return f"{found[0]}–{found[-1]}"
    return "·".join(map(str, found[:3])) + ("…" if len(found) > 3 else "")
