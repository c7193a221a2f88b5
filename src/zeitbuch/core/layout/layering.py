# One level of a map: boxes in layers from top to bottom, with lanes for long links. Knows nothing of cards or scopes: boxes
# have sizes and ports. The order within layers is found in ordering.py, the coordinates in placement.py.
"""Layered placement of one level (layers, order, coordinates)."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise
from math import isqrt

from msgspec import Struct

from zeitbuch.core.model.problems import fail

from .ordering import Ends, Ordering
from .placement import Near, place_rows

GAP_X = 34.0
LANE = 14.0
MOST_SQUARES = 9_000_000


class Box(Struct):
    """A box to place, or (``lane``) a point where a long link passes a layer."""

    id: str
    width: float
    height: float
    lane: bool = False
    layer: int = 0
    x: float = 0.0  # centre


class Arc(Struct):
    """A link between boxes: offsets of its ends from the boxes' centres, and the lanes it passes; which of the lanes beside
    its boxes it takes when it goes back."""

    source: str
    target: str
    out: float = 0.0
    into: float = 0.0
    weight: float = 1.0
    via: list[str] = []
    slots: tuple[int, int] = (0, 0)


def assign_layers(boxes: dict[str, Box], arcs: list[tuple[str, str]]) -> None:
    """Longest path from the top; then boxes are pulled down towards what they lead to."""
    incoming: dict[str, list[str]] = {b: [] for b in boxes}
    outgoing: dict[str, list[str]] = {b: [] for b in boxes}
    for a, b in arcs:
        incoming[b].append(a)
        outgoing[a].append(b)
    order = _downward_order(boxes, incoming, outgoing)
    for node in order:
        boxes[node].layer = max([boxes[p].layer + 1 for p in incoming[node]], default=0)
    for node in reversed(order):
        # What leads to more than leads to it stands as low as it can: there are fewer lines above it than below it.
        if outgoing[node] and len(incoming[node]) < len(outgoing[node]):
            boxes[node].layer = min([boxes[t].layer for t in outgoing[node]]) - 1


def _downward_order(boxes: dict[str, Box], incoming: dict[str, list[str]], outgoing: dict[str, list[str]]) -> list[str]:
    order: list[str] = []
    count = {b: len(incoming[b]) for b in boxes}
    ready = [b for b in boxes if not count[b]][::-1]
    while ready:
        node = ready.pop()
        order.append(node)
        for target in outgoing[node]:
            count[target] -= 1
            if not count[target]:
                ready.append(target)
    return order


def refuse_crowds(boxes: dict[str, Box], arcs: list[Arc]) -> None:
    """Raises ZeitbuchError where more lines run side by side than can be led past each other in a minute: that takes steps as the square
    of the lines between two layers."""
    change: Counter[int] = Counter()
    for arc in arcs:
        change[boxes[arc.source].layer] += 1
        change[boxes[arc.target].layer] -= 1
    beside = squares = most = 0
    for layer in sorted(change):
        beside += change[layer]
        squares += beside * beside
        most = max(most, beside)
    if squares > MOST_SQUARES:
        raise fail(
            "map-size",
            f"expected a map with at most some {isqrt(MOST_SQUARES):,} lines side by side, found {len(arcs):,} lines, {most:,} of them side by side",
            "draw a part (--fold, --depth, --around, --lineage), or write it as json, dot or graphml",
        )


class Layers:
    """Boxes of one level in layers, with lanes for links that pass layers."""

    def __init__(self, boxes: dict[str, Box], arcs: list[Arc]) -> None:
        self.boxes = boxes
        self.arcs = arcs
        self._make_lanes()
        depth = max((b.layer for b in boxes.values()), default=-1) + 1
        self.ids = list(boxes)
        self.number = {b: i for i, b in enumerate(self.ids)}
        self._rows: list[list[int]] = [[] for _ in range(depth)]
        for i, box in enumerate(boxes.values()):
            self._rows[box.layer].append(i)

    @property
    def rows(self) -> list[list[str]]:
        """The boxes and lanes of each layer, from left to right."""
        return [[self.ids[i] for i in row] for row in self._rows]

    def _make_lanes(self) -> None:
        for n, arc in enumerate(self.arcs):
            for layer in range(self.boxes[arc.source].layer + 1, self.boxes[arc.target].layer):
                lane = f"\x00{n}:{layer}"
                self.boxes[lane] = Box(lane, LANE, 0.0, True, layer)
                arc.via.append(lane)

    def order_boxes(self) -> None:
        """Reduces crossings."""
        up: Ends = [[] for _ in self.ids]
        down: Ends = [[] for _ in self.ids]
        number = self.number
        for arc in self.arcs:
            at = arc.out / self.boxes[arc.source].width * 0.9 if arc.out else 0.0
            a = number[arc.source]
            for key in (*arc.via, arc.target):
                b = number[key]
                down[a].append((b, at))
                up[b].append((a, at))
                a, at = b, 0.0
        Ordering(self._rows, up, down).reduce_crossings()

    def place_boxes(self) -> None:
        """Sets the coordinates, ports included."""
        boxes, number = self.boxes, self.number
        up: Near = [[] for _ in self.ids]
        down: Near = [[] for _ in self.ids]
        for arc in self.arcs:
            chain = [arc.source, *arc.via, arc.target]
            last = len(chain) - 2
            for i, (a, b) in enumerate(pairwise(chain)):
                out = arc.out if i == 0 else 0.0
                into = arc.into if i == last else 0.0
                weight = arc.weight * _WEIGHTS[(i > 0) + (i < last)]
                down[number[a]].append((number[b], out, into, weight))
                up[number[b]].append((number[a], into, out, weight))
        all = list(boxes.values())
        gaps = [LANE * 0.6 if b.lane else GAP_X for b in all]
        xs = place_rows(self._rows, [b.width for b in all], gaps, up, down)
        for box, x in zip(all, xs, strict=True):
            box.x = x


_WEIGHTS = (1.0, 2.0, 4.0)  # of a piece of a link with no, one or two lanes at its ends
