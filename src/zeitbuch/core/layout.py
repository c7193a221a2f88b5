# Positions of cards and routes for the map of one flow: each scope is laid out by itself, from the inside out, and
# stands as one box in the level around it.
"""Layout of a flow's map."""

from __future__ import annotations

from itertools import pairwise

from msgspec import Struct, structs

from . import cards
from .cards import PAD, PLAIN, SMALL, TAB_HEIGHT, Measure, Showing, cut
from .geometry import Band, Card, Frame, Line, PlacedCard, Route, Style, Tab
from .layered import LANE, Arc, Box, Layers, assign_layers
from .placement import ports
from .routing import TRACK, Run, assign_tracks
from .topology import Edge, Graph, Level
from .words import joined

GAP_TOP, GAP_BOTTOM = 12.0, 18.0
FRAME_SIDE, FRAME_TOP, FRAME_BOTTOM = 18.0, 40.0, 18.0
PORT, SPACING = 16.0, 12.0


class Block(Struct):
    """A level laid out, with coordinates from its own left upper corner."""

    width: float
    height: float
    cards: list[PlacedCard]
    frames: list[Frame]
    routes: list[Route]
    rows: list[tuple[float, list[str]]]
    bands: list[Band]


class _Piece(Struct):
    """A box of a level: a card, or a frame with what is in it."""

    card: Card
    inner: Block | None
    width: float  # of the card or frame, without lanes for links that go back
    height: float
    back: int = 0


def _spread(card: Card, width: float) -> Card:
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


def shifted(block: Block, dx: float, dy: float) -> Block:
    """A block with all coordinates moved."""
    return structs.replace(
        block,
        cards=[structs.replace(c, x=round(c.x + dx, 2), y=round(c.y + dy, 2)) for c in block.cards],
        frames=[structs.replace(f, x=round(f.x + dx, 2), y=round(f.y + dy, 2)) for f in block.frames],
        routes=[
            structs.replace(r, points=tuple((round(x + dx, 2), round(y + dy, 2)) for x, y in r.points))
            for r in block.routes
        ],
        bands=[structs.replace(b, top=round(b.top + dy, 2)) for b in block.bands],
    )


class LevelLayout:
    """Lays out one level of a flow."""

    def __init__(self, graph: Graph, level: Level, measure: Measure, depth: int, showing: Showing = PLAIN) -> None:
        self.graph = graph
        self.level = level
        self.measure = measure
        self.depth = depth
        self.showing = showing
        self.pieces: dict[str, _Piece] = {}
        self.outgoing: dict[str, list[tuple[int, Edge]]] = {}
        for i, e in enumerate(level.edges):
            self.outgoing.setdefault(e.source, []).append((i, e))
        if level.scope is None:
            for trigger in graph.flow.triggers:
                card = cards.trigger_card(trigger, measure)
                self.pieces[trigger.id] = _Piece(card, None, card.width, card.height)
        for step in level.steps:
            if step.kind != "note":
                self.pieces[step.id] = self._piece(step.id)
        self.edges = [e for e in level.edges if e.source in self.pieces and e.target in self.pieces]
        for edge in self.edges:
            if edge.back:
                self.pieces[edge.source].back += 1
                if edge.target != edge.source:
                    self.pieces[edge.target].back += 1

    def _piece(self, step_id: str) -> _Piece:
        graph, measure = self.graph, self.measure
        step = graph.steps[step_id]
        card = cards.step_card(graph, step, self.outgoing.get(step_id, []), measure, self.showing)
        names = [k.label or k.condition for k in self.level.labels.get(step_id, [])]
        if names:
            words = f"branch {joined(names)}"
            text = cut(words, cards.TEXT_WIDTH, SMALL, False, measure)
            extra = Line(text, SMALL, quiet=True, full=words if text != words else "")
            lines = (*card.lines, extra)
            width, height = cards.sized(list(lines), list(card.rows), list(card.tabs), measure)
            card = structs.replace(card, lines=lines, width=width, height=height)
        inner_level = graph.levels.get(step_id)
        if inner_level is None:
            card = _spread(card, card.width)
            return _Piece(card, None, card.width, card.height)
        inner = LevelLayout(graph, inner_level, measure, self.depth + 1, self.showing).block()
        title = max(measure(line.text, line.size, line.bold) for line in card.lines) + 64
        tabs = card.tabs[-1].x + card.tabs[-1].width + PAD if card.tabs else 0.0
        width = max(inner.width + 2 * FRAME_SIDE, title, tabs)
        top = FRAME_TOP + 14.0 * (len(card.lines) - 2 if len(card.lines) > 2 else 0)
        height = top + inner.height + FRAME_BOTTOM
        card = _spread(card, width)
        return _Piece(card, inner, width, height)

    # -- ports -------------------------------------------------------------------------------------------------

    def _tab(self, index: int, piece: _Piece) -> Tab | None:
        return next((t for t in piece.card.tabs if t.key == index), None)

    def _out(self, index: int, edge: Edge) -> float:
        """Offset of an outlet from the centre of its box."""
        piece = self.pieces[edge.source]
        tab = self._tab(index, piece)
        lanes = piece.back * LANE / 2
        if tab is not None:
            return tab.x + tab.width / 2 - piece.width / 2 - lanes
        if piece.card.tabs:
            right = piece.card.tabs[-1].x + piece.card.tabs[-1].width
            left = piece.card.tabs[0].x
            if left - 10 > piece.width / 2:
                return -lanes
            spot = (right + piece.width) / 2 if piece.width - right > left else left / 2
            return spot - piece.width / 2 - lanes
        return -lanes

    def _into(self, key: str) -> float:
        """Offset of where links arrive: the middle, but clear of the title on a frame's rule."""
        piece = self.pieces[key]
        middle = -piece.back * LANE / 2
        if piece.inner is None:
            return middle
        name = piece.card.lines[0]
        title = 18 + self.measure(name.text, name.size, name.bold) + 18 - piece.width / 2
        return middle + max(0.0, title)

    # -- placing -----------------------------------------------------------------------------------------------

    def block(self) -> Block:
        """The level with all coordinates."""
        boxes = {
            key: Box(key, p.width + p.back * LANE, p.height + (TAB_HEIGHT if p.card.tabs else 0.0))
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
                arc = Arc(edge.target, edge.source, self._lane(edge.target, other), self._lane(edge.source, slot), 0.3)
            else:
                arc = Arc(edge.source, edge.target, self._out(index, edge), self._into(edge.target))
            arcs.append(arc)
            of_edge.append((index, edge, arc))
        assign_layers(boxes, [(a.source, a.target) for a in arcs])
        self._wrap(boxes, arcs)
        layers = Layers(boxes, arcs)
        layers.order()
        self._in_ports(layers, of_edge)
        layers.place()
        self._move_ports(layers, of_edge)
        return self._routed(layers, of_edge, loops)

    def _wrap(self, boxes: dict[str, Box], arcs: list[Arc]) -> None:
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

    def _lane(self, key: str, slot: int) -> float:
        piece = self.pieces[key]
        return (piece.width + piece.back * LANE) / 2 - LANE * (piece.back - slot) + LANE * 0.6

    def _in_ports(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
        """Links that arrive at one box get ports side by side, in the order of where they come from."""
        place = {b: i for row in layers.rows for i, b in enumerate(row)}
        arriving: dict[str, list[Arc]] = {}
        for _, edge, arc in of_edge:
            if not edge.back:
                arriving.setdefault(arc.target, []).append(arc)
        for key, group in arriving.items():
            if len(group) < 2:
                continue
            piece = self.pieces[key]
            group.sort(key=lambda a: (place[a.via[-1] if a.via else a.source], a.out if not a.via else 0.0))
            room = 2 * (piece.width / 2 - 20 - (group[0].into + piece.back * LANE / 2))
            step = min(PORT, max(4.0, room) / (len(group) - 1))
            for i, arc in enumerate(group):
                arc.into += (i - (len(group) - 1) / 2) * step

    def _move_ports(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
        """Moves ports along the edges of cards to where their links go and come from, so that they are straight or short."""
        boxes = layers.boxes
        leaving: dict[str, list[Arc]] = {}
        arriving: dict[str, list[Arc]] = {}
        for index, edge, arc in of_edge:
            if not edge.back:
                arriving.setdefault(arc.target, []).append(arc)
                if self._tab(index, self.pieces[arc.source]) is None:
                    leaving.setdefault(arc.source, []).append(arc)

        def next_x(arc: Arc) -> float:
            return boxes[arc.via[0]].x if arc.via else boxes[arc.target].x + arc.into

        def before_x(arc: Arc) -> float:
            return boxes[arc.via[-1]].x if arc.via else boxes[arc.source].x + arc.out

        for key, group in leaving.items():
            group.sort(key=next_x)
            low, high = self._free(key)
            found = ports([next_x(arc) - boxes[key].x for arc in group], low, high, SPACING)
            for arc, spot in zip(group, found, strict=True):
                arc.out = spot
        for _, _, arc in of_edge:
            x = boxes[arc.source].x + arc.out
            for lane in arc.via:
                # Lanes keep far more room around them than this.
                if abs(boxes[lane].x - x) < 3.5:
                    boxes[lane].x = x
                x = boxes[lane].x
        for key, group in arriving.items():
            low, high = self._reach(key)
            low = max(low, min(self._into(key), high)) if self.pieces[key].inner is not None else low
            group.sort(key=before_x)
            found = ports([before_x(arc) - boxes[key].x for arc in group], low, high, SPACING)
            for arc, spot in zip(group, found, strict=True):
                arc.into = spot

        self._extend(layers, of_edge)

    def _extend(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
        """Links that go back run straight out to their lanes where nothing stands beside their boxes."""
        boxes = layers.boxes
        last = {row[-1]: row for row in layers.rows if row}
        for _, edge, arc in of_edge:
            if edge.back and arc.via:
                if arc.source in last:
                    arc.out = max(arc.out, boxes[arc.via[0]].x - boxes[arc.source].x)
                if arc.target in last:
                    arc.into = max(arc.into, boxes[arc.via[-1]].x - boxes[arc.target].x)

    def _free(self, key: str) -> tuple[float, float]:
        """The wider part of a box's lower edge without tabs, where plain links leave."""
        piece = self.pieces[key]
        low, high = self._reach(key)
        if piece.card.tabs:
            lanes = piece.width / 2 + piece.back * LANE / 2
            first, last = piece.card.tabs[0], piece.card.tabs[-1]
            left, right = first.x - 5 - lanes, last.x + last.width + 5 - lanes
            low, high = (right, max(right, high)) if high - right > left - low else (min(low, left), left)
        return low, high

    def _reach(self, key: str) -> tuple[float, float]:
        """How far to the left and right of a box's centre its ports may stand."""
        piece = self.pieces[key]
        middle, half = -piece.back * LANE / 2, piece.width / 2 - 14
        return middle - half, middle + half

    # -- routing -----------------------------------------------------------------------------------------------

    def _routed(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]], loops: list[tuple[Edge, int]]) -> Block:
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
                    placed.append(PlacedCard(piece.card, x, top, scope, r))
                else:
                    frames.append(Frame(piece.card, x, top, piece.width, piece.height, self.depth, scope, r))
                    self._insert(piece, x, top, placed, frames, routes, bands)
            rows.append((tops[r], numbers))
        for n, (index, edge, arc) in enumerate(of_edge):
            points = self._points(n, index, edge, arc, layers, heights, tops, at_gap, spots)
            routes.append(
                Route(
                    edge.link.source,
                    edge.link.target,
                    self._style(edge),
                    tuple(points),
                    self._full(edge),
                    self.level.scope or "",
                    edge.source,
                    edge.target,
                )
            )
        for edge, slot in loops:
            routes.append(self._loop(edge, slot, spots[edge.source]))
        width = max([b.x + b.width / 2 for b in boxes.values()])
        return Block(round(width, 2), round(y, 2), placed, frames, routes, rows, bands)

    def _insert(
        self, piece: _Piece, x: float, top: float, placed: list[PlacedCard], frames: list[Frame], routes: list[Route],
        bands: list[Band],
    ) -> None:  # fmt: skip
        inner = piece.inner
        assert inner is not None
        dx = x + (piece.width - inner.width) / 2
        dy = top + piece.height - FRAME_BOTTOM - inner.height
        moved = shifted(inner, dx, dy)
        placed += moved.cards
        frames += moved.frames
        routes += moved.routes
        bands += moved.bands

    def _style(self, edge: Edge) -> Style:
        if edge.link.role == "error":
            return "error"
        if edge.back:
            return "back"
        return "case" if edge.link.role == "case" else "next"

    def _full(self, edge: Edge) -> str:
        names, link = self.graph.names, edge.link
        words = f"{names[link.source]} to {names[link.target]}"
        said = link.label or link.condition
        return f"{words}: {said}" if said else words

    def _points(
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
            return _tidy(points)
        # Seen from the link that goes back, this path runs from its target down to its source.
        upper, lower = self.pieces[arc.source], self.pieces[arc.target]
        ux, uy = spots[arc.source]
        lx, ly = spots[arc.target]
        mid_up, mid_low = uy + min(24.0, upper.height / 2), ly + lower.height - min(16.0, lower.height / 2)
        if self._tab(index, lower) is not None:
            mid_low = ly + lower.height + TAB_HEIGHT / 2
            tab = self._tab(index, lower)
            assert tab is not None
            start_x = lx + tab.x + tab.width
        else:
            start_x = lx + lower.width
        path = [(ux + upper.width, mid_up), (points[0][0], mid_up), *points[1:], (end, mid_low), (start_x, mid_low)]
        return _tidy(path[::-1])

    def _leaves_at(self, index: int, edge: Edge, arc: Arc, top: float) -> float:
        piece = self.pieces[arc.source]
        tab = None if edge.back else self._tab(index, piece)
        return top + piece.height + (TAB_HEIGHT if tab is not None else 0.0)

    def _loop(self, edge: Edge, slot: int, spot: tuple[float, float]) -> Route:
        piece = self.pieces[edge.source]
        right = spot[0] + piece.width
        lane = right + LANE * (slot + 0.6)
        low, high = spot[1] + piece.height * 0.75, spot[1] + piece.height * 0.3
        points = (
            (right, round(low, 2)),
            (round(lane, 2), round(low, 2)),
            (round(lane, 2), round(high, 2)),
            (right, round(high, 2)),
        )
        return Route(
            edge.source,
            edge.target,
            self._style(edge),
            points,
            self._full(edge),
            self.level.scope or "",
            edge.source,
            edge.target,
        )


def _tidy(points: list[tuple[float, float]]) -> list[tuple[float, float]]:
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
