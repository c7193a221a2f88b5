# Positions of cards and routes for the map of one flow: each scope is laid out by itself, from the inside out, and
# stands as one box in the level around it.
"""Layout of a flow's map."""

from __future__ import annotations

from itertools import pairwise

from msgspec import structs

from zeitbuch.core.graph.topology import Edge, Graph, Level
from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.words import join_words

from . import cards
from .cards import PAD, PLAIN, Measure, Showing
from .fragments import Block, Piece, shift_block
from .geometry import Band, Card, Frame, PlacedCard, Route, Style
from .layering import LANE, Arc, Box, Layers, assign_layers, refuse_crowds
from .ports import Ports
from .routing import TRACK, Run, assign_tracks

GAP_TOP, GAP_BOTTOM = 12.0, 18.0
FRAME_SIDE, FRAME_TOP, FRAME_BOTTOM = 18.0, 40.0, 18.0


def _spread_tabs(card: Card, width: float) -> Card:
    """The card with its tabs in the middle of its lower edge."""
    if not card.tabs:
        return structs.replace(card, width=width)
    last = card.tabs[-1]
    room = width - (last.x + last.width - card.tabs[0].x)
    # Beside tabs of errors and ways back alone the plain way out keeps the left and middle.
    shift = (room - PAD if all(t.style in ("error", "back") for t in card.tabs) else room / 2) - card.tabs[0].x
    shift = max(0.0, shift)
    tabs = tuple(structs.replace(t, x=round(t.x + shift, 2)) for t in card.tabs)
    return structs.replace(card, width=width, tabs=tabs)


def _stub_height(piece: Piece, slot: int, upper: bool) -> float:
    """How far below its upper edge a link that goes back touches the side of a box: outer lanes further out."""
    middle = min(24.0, piece.height / 2) if upper else piece.height - min(16.0, piece.height / 2)
    room = middle - 4 if upper else piece.height - middle - 3
    step = min(6.0, room / max(1, piece.back - 1))
    return middle - slot * step if upper else middle + slot * step


def _head_height(card: Card) -> float:
    """The room for a frame's title and what stands below it."""
    return FRAME_TOP + 14.0 * max(0, len(card.lines) - 2)


class LevelLayout:
    """Lays out one level of a flow."""

    def __init__(self, graph: Graph, level: Level, measure: Measure, depth: int, showing: Showing = PLAIN) -> None:
        self.graph = graph
        self.level = level
        self.measure = measure
        self.depth = depth
        self.showing = showing
        self.pieces: dict[str, Piece] = {}
        self.outgoing: dict[str, list[tuple[int, Edge]]] = {}
        for i, e in enumerate(level.edges):
            self.outgoing.setdefault(e.source, []).append((i, e))
        if level.scope is None:
            for trigger in graph.flow.triggers:
                card = cards.trigger_card(trigger, measure)
                self.pieces[trigger.id] = self._boxed_piece(card, None)
        for step in level.steps:
            if step.kind != "note":
                self.pieces[step.id] = self._piece_of(step.id)
        self.ports = Ports(self.pieces, measure, showing.turned)
        self.edges = [e for e in level.edges if e.source in self.pieces and e.target in self.pieces]
        for edge in self.edges:
            if edge.back:
                self.pieces[edge.source].back += 1
                if edge.target != edge.source:
                    self.pieces[edge.target].back += 1

    def _piece_of(self, step_id: str) -> Piece:
        graph, measure = self.graph, self.measure
        step = graph.steps[step_id]
        names = [k.label or k.condition for k in self.level.labels.get(step_id, [])]
        branch = f"branch {join_words(names)}" if names else ""
        card = cards.step_card(graph, step, self.outgoing.get(step_id, []), measure, self.showing, branch)
        inner_level = graph.levels.get(step_id)
        inner = None
        if inner_level is not None:
            inner = LevelLayout(graph, inner_level, measure, self.depth + 1, self.showing).layout_block()
        return self._boxed_piece(card, inner)

    def _boxed_piece(self, card: Card, inner: Block | None) -> Piece:
        """The card, or the frame around what is inside it, with its size."""
        measure = self.measure
        if self.showing.turned:
            return self._turned_piece(card, inner)
        if inner is None:
            card = _spread_tabs(card, card.width)
            return Piece(card, None, card.width, card.height)
        title = max(measure(line.text, line.size, line.bold) for line in card.lines) + 64
        tabs = card.tabs[-1].x + card.tabs[-1].width + PAD if card.tabs else 0.0
        width = max(inner.width + 2 * FRAME_SIDE, title, tabs)
        height = _head_height(card) + inner.height + FRAME_BOTTOM
        card = _spread_tabs(card, width)
        return Piece(card, inner, width, height)

    def _turned_piece(self, card: Card, inner: Block | None) -> Piece:
        """The mirror image of a card or frame: its height is what the layout takes for width."""
        depth = max([t.width for t in card.tabs], default=0.0)
        tabs = tuple(structs.replace(t, x=8 + 21.0 * i, width=18.0) for i, t in enumerate(card.tabs))
        beside = all(t.style in ("error", "back") for t in tabs)  # room for the plain way out
        least = 16 + 21.0 * (len(tabs) + beside) if tabs else 0.0
        if inner is None:
            across, along = max(card.height, least), card.width
        else:
            title = max(self.measure(line.text, line.size, line.bold) for line in card.lines) + 64
            across = max(_head_height(card) + inner.width + FRAME_BOTTOM, least)
            along = max(inner.height + 2 * FRAME_SIDE, title)
        image = _spread_tabs(structs.replace(card, height=along, tabs=tabs), across)
        shown = tuple(structs.replace(t, x=m.x, width=depth) for t, m in zip(card.tabs, image.tabs, strict=True))
        drawn = structs.replace(card, height=across if inner is None else card.height, tabs=shown, side=True)
        return Piece(image, inner, across, along, 0, drawn, depth)

    # -- placing -----------------------------------------------------------------------------------------------

    def layout_block(self) -> Block:
        """The level with all coordinates."""
        boxes = {
            key: Box(key, p.width + p.back * LANE, p.height + (p.depth if p.card.tabs else 0.0))
            for key, p in self.pieces.items()
        }
        if not boxes:
            return Block(120.0, 20.0, [], [], [], [], [])
        arcs: list[Arc] = []
        of_edge: list[tuple[int, Edge, Arc]] = []
        used: dict[str, int] = {}
        loops: list[tuple[Edge, int]] = []
        index_of = {id(e): i for i, e in enumerate(self.level.edges)}
        for edge in self.edges:
            index = index_of[id(edge)]
            if edge.back:
                slot = used.get(edge.source, 0)
                used[edge.source] = slot + 1
                if edge.source == edge.target:
                    loops.append((edge, slot))
                    continue
                other = used.get(edge.target, 0)
                used[edge.target] = other + 1
                arc = Arc(
                    edge.target,
                    edge.source,
                    self._lane_position(edge.target, other),
                    self._lane_position(edge.source, slot),
                    0.3,
                    slots=(other, slot),
                )
            else:
                arc = Arc(
                    edge.source,
                    edge.target,
                    self.ports.outlet_offset(index, edge),
                    self.ports.inlet_offset(edge.target),
                )
            arcs.append(arc)
            of_edge.append((index, edge, arc))
        assign_layers(boxes, [(a.source, a.target) for a in arcs])
        self._wrap_loose(boxes, arcs)
        refuse_crowds(boxes, arcs)
        layers = Layers(boxes, arcs)
        layers.order_boxes()
        self.ports.side_by_side(layers, of_edge)
        layers.place_boxes()
        self.ports.move_ports(layers, of_edge)
        return self._route_edges(layers, of_edge, loops)

    def _wrap_loose(self, boxes: dict[str, Box], arcs: list[Arc]) -> None:
        """What no link touches stands in rows below the rest, as wide as they are long."""
        linked = {a.source for a in arcs} | {a.target for a in arcs}
        lone = [b for b in boxes.values() if b.id not in linked]
        if len(lone) < 4:
            return
        first = max([b.layer + 1 for b in boxes.values() if b.id in linked], default=0)
        room = (sum(b.width * (b.height + 30) for b in lone) * 1.6) ** 0.5
        row, used = 0, 0.0
        for box in lone:
            if used and used + box.width > room:
                row, used = row + 1, 0.0
            box.layer = first + row
            used += box.width + 34

    def _lane_position(self, key: str, slot: int) -> float:
        piece = self.pieces[key]
        return (piece.width + piece.back * LANE) / 2 - LANE * (piece.back - slot) + LANE * 0.6

    # -- routing -----------------------------------------------------------------------------------------------

    def _route_edges(
        self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]], loops: list[tuple[Edge, int]]
    ) -> Block:
        boxes = layers.boxes
        heights = [max((boxes[b].height for b in row), default=0.0) for row in layers.rows]
        runs: list[list[Run]] = [[] for _ in layers.rows]
        at_gap: dict[tuple[int, int], Run] = {}
        for n, (_, _, arc) in enumerate(of_edge):
            chain = [arc.source, *arc.via, arc.target]
            for i, (a, b) in enumerate(pairwise(chain)):
                x1 = boxes[a].x + (arc.out if i == 0 else 0.0)
                x2 = boxes[b].x + (arc.into if i == len(chain) - 2 else 0.0)
                if abs(x1 - x2) < 0.75:
                    # As good as straight: made straight, and the lane it enters moves along.
                    x2 = x1
                    if boxes[b].lane:
                        boxes[b].x = x1
                run = Run(n, round(x1, 2), round(x2, 2))
                runs[boxes[a].layer].append(run)
                at_gap[n, boxes[a].layer] = run
        tops: list[float] = []
        y = 0.0
        for r, height in enumerate(heights):
            tops.append(y)
            tracks = assign_tracks(runs[r])
            y += height + (GAP_TOP + TRACK * max(0, tracks - 1) + GAP_BOTTOM if r + 1 < len(heights) else 0.0)
        placed: list[PlacedCard] = []
        frames: list[Frame] = []
        routes: list[Route] = []
        spots: dict[str, tuple[float, float]] = {}
        rows: list[tuple[float, list[str]]] = []
        scope = self.level.scope or ""
        bands = [Band(scope, r, tops[r], heights[r]) for r in range(len(tops))]
        self._place_rows(layers, boxes, tops, spots, placed, scope, frames, routes, bands, rows)
        for n, (index, edge, arc) in enumerate(of_edge):
            points = self._route_points(n, index, edge, arc, layers, heights, tops, at_gap, spots)
            routes.append(self._route_of(edge, points))
        for edge, slot in loops:
            routes.append(self._loop_route(edge, slot, spots[edge.source]))
        width = max([b.x + b.width / 2 for b in boxes.values()])
        return Block(round(width, 2), round(y, 2), placed, frames, routes, rows, bands)

    def _place_rows(
        self,
        layers: Layers,
        boxes: dict[str, Box],
        tops: list[float],
        spots: dict[str, tuple[float, float]],
        placed: list[PlacedCard],
        scope: str,
        frames: list[Frame],
        routes: list[Route],
        bands: list[Band],
        rows: list[tuple[float, list[str]]],
    ) -> None:
        for r, row in enumerate(layers.rows):
            numbers = []
            for b in row:
                if boxes[b].lane:
                    continue
                piece = self.pieces[b]
                x, top = round(boxes[b].x - boxes[b].width / 2, 2), tops[r]
                spots[b] = (x, top)
                if piece.card.number:
                    numbers.append(piece.card.number)
                if piece.inner is None:
                    placed.append(PlacedCard(piece.seen, x, top, scope, r))
                else:
                    frames.append(Frame(piece.seen, x, top, piece.width, piece.height, self.depth, scope, r))
                    self._insert_piece(piece, x, top, placed, frames, routes, bands)
            rows.append((tops[r], numbers))

    def _insert_piece(
        self, piece: Piece, x: float, top: float, placed: list[PlacedCard], frames: list[Frame], routes: list[Route],
        bands: list[Band],
    ) -> None:  # fmt: skip
        inner = piece.inner
        assert inner is not None
        if self.showing.turned:
            dx, dy = x + _head_height(piece.card), top + (piece.height - inner.height) / 2
        else:
            dx, dy = x + (piece.width - inner.width) / 2, top + piece.height - FRAME_BOTTOM - inner.height
        moved = shift_block(inner, dx, dy)
        placed += moved.cards
        frames += moved.frames
        routes += moved.routes
        bands += moved.bands

    def _style_of(self, edge: Edge) -> Style:
        if takes_faults(edge.link):
            return "error"
        if edge.back:
            return "back"
        return "case" if edge.link.role == "case" else "next"

    def _route_of(self, edge: Edge, points: list[tuple[float, float]]) -> Route:
        link, scope = edge.link, self.level.scope or ""
        return Route(
            link.source,
            link.target,
            self._style_of(edge),
            tuple(points),
            self._full_text(edge),
            scope,
            edge.source,
            edge.target,
            self.showing.links.get((link.source, link.target, link.label), ""),
            (link.source, link.target, link.label) in self.showing.heavy,
        )

    def _full_text(self, edge: Edge) -> str:
        names, link = self.graph.names, edge.link
        words = f"{names[link.source]} to {names[link.target]}"
        more = self.showing.link_words.get((link.source, link.target, link.label), "")
        said = ", ".join(part for part in (link.label or link.condition, more) if part)
        return f"{words}: {said}" if said else words

    def _route_points(
        self, n: int, index: int, edge: Edge, arc: Arc, layers: Layers, heights: list[float], tops: list[float],
        at_gap: dict[tuple[int, int], Run], spots: dict[str, tuple[float, float]],
    ) -> list[tuple[float, float]]:  # fmt: skip
        boxes = layers.boxes
        first, last = boxes[arc.source].layer, boxes[arc.target].layer
        points: list[tuple[float, float]] = []
        for r in range(first, last):
            run = at_gap[n, r]
            bottom = tops[r] + heights[r]
            if r == first:
                points.append((run.x1, self._leaves_at(index, edge, arc, tops[r])))
            if not run.straight:
                level = bottom + GAP_TOP + TRACK * run.track
                points += [(run.x1, level), (run.x2, level)]
            else:
                points.append((run.x2, bottom))
        end = at_gap[n, last - 1].x2
        if not edge.back:
            points.append((end, tops[last]))
            return _tidy_points(points)
        # Seen from the link that goes back, this path runs from its target down to its source.
        upper, lower = self.pieces[arc.source], self.pieces[arc.target]
        ux, uy = spots[arc.source]
        lx, ly = spots[arc.target]
        mid_up, mid_low = uy + _stub_height(upper, arc.slots[0], True), ly + _stub_height(lower, arc.slots[1], False)
        tab = self.ports.tab_offset(index, lower)
        begin = [(lx + lower.width, mid_low)]
        if tab is not None:
            bottom = ly + lower.height + lower.depth
            mid_low, begin = bottom - lower.depth / 2, [(lx + tab.x + tab.width, bottom - lower.depth / 2)]
            if tab is not lower.card.tabs[-1]:
                # Around the tabs that stand in the way.
                mid_low = bottom + 10 - 8 * (lower.card.tabs.index(tab) + 1) / len(lower.card.tabs)
                begin = [(lx + tab.x + tab.width / 2, mid_low), (lx + tab.x + tab.width / 2, bottom)]
        path = [(ux + upper.width, mid_up), (points[0][0], mid_up), *points[1:], (end, mid_low), *begin]
        return _tidy_points(path[::-1])

    def _leaves_at(self, index: int, edge: Edge, arc: Arc, top: float) -> float:
        piece = self.pieces[arc.source]
        tab = None if edge.back else self.ports.tab_offset(index, piece)
        return top + piece.height + (piece.depth if tab is not None else 0.0)

    def _loop_route(self, edge: Edge, slot: int, spot: tuple[float, float]) -> Route:
        piece = self.pieces[edge.source]
        right = spot[0] + piece.width
        lane = right + LANE * (slot + 0.6)
        low, high = spot[1] + _stub_height(piece, slot, False), spot[1] + _stub_height(piece, slot, True)
        return self._route_of(edge, [(right, low), (lane, low), (lane, high), (right, high)])


def _tidy_points(points: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Without repeated points and points on a straight line."""
    found: list[tuple[float, float]] = []
    for x, y in points:
        point = (round(x, 2), round(y, 2))
        if found and found[-1] == point:
            continue
        if len(found) > 1 and (found[-2][0] == found[-1][0] == point[0] or found[-2][1] == found[-1][1] == point[1]):
            found[-1] = point
        else:
            found.append(point)
    return found
