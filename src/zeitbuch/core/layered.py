# One level of a map: boxes in layers from top to bottom, crossings reduced, positions that straighten links under
# the constraint that nothing overlaps. Knows nothing of cards or scopes: boxes have sizes and ports.
"""Layered placement of one level (layers, order, coordinates)."""

from __future__ import annotations

from itertools import pairwise

from msgspec import Struct

GAP_X = 34.0
LANE = 14.0


class Box(Struct):
    """A box to place, or (``lane``) a point where a long link passes a layer."""

    id: str
    width: float
    height: float
    lane: bool = False
    layer: int = 0
    x: float = 0.0  # centre


class Arc(Struct):
    """A link between boxes: offsets of its ends from the boxes' centres, and the lanes it passes."""

    source: str
    target: str
    out: float = 0.0
    into: float = 0.0
    weight: float = 1.0
    via: list[str] = []


def assign_layers(boxes: dict[str, Box], arcs: list[tuple[str, str]]) -> None:
    """Longest path from the top; then boxes are pulled down towards what they lead to."""
    incoming: dict[str, list[str]] = {b: [] for b in boxes}
    outgoing: dict[str, list[str]] = {b: [] for b in boxes}
    for a, b in arcs:
        incoming[b].append(a)
        outgoing[a].append(b)
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
    for node in order:
        boxes[node].layer = max([boxes[p].layer + 1 for p in incoming[node]], default=0)
    for node in reversed(order):
        # A box without predecessors (another trigger, say) stands just above what it leads to.
        if not incoming[node] and outgoing[node]:
            boxes[node].layer = min(boxes[t].layer for t in outgoing[node]) - 1


Pair = tuple[str, str, float]  # upper box, lower box, where on the upper box the link leaves (-0.5..0.5)
Near = dict[str, list[tuple[str, float, float, float]]]  # box -> (other box, own offset, its offset, weight)


def _median(values: list[float]) -> float:
    values.sort()
    n = len(values)
    if n % 2:
        return values[n // 2]
    return (values[n // 2 - 1] + values[n // 2]) / 2


def crossings(upper: list[str], lower: list[str], pairs: list[Pair]) -> int:
    """Crossings between two ordered layers, ports included (accumulator tree, Barth, Juenger and Mutzel 2002)."""
    above = {b: i for i, b in enumerate(upper)}
    below = {b: i for i, b in enumerate(lower)}
    ends = [e for _, e in sorted([(above[a] + out, below[b]) for a, b, out in pairs])]
    size = 1
    while size < len(lower):
        size *= 2
    tree = [0] * (2 * size)
    total = 0
    for e in ends:
        at = e + size
        tree[at] += 1
        while at > 1:
            if at % 2 == 0:
                total += tree[at + 1]
            at //= 2
            tree[at] += 1
    return total


def _weighted_median(spots: list[tuple[float, float]], total: float) -> float:
    """The median of places with weights; between two middle ones, the middle."""
    half, seen = total / 2, 0.0
    for i, (place, weight) in enumerate(spots):
        seen += weight
        if seen > half + 1e-9:
            return place
        if abs(seen - half) <= 1e-9 and i + 1 < len(spots):
            return (place + spots[i + 1][0]) / 2
    return spots[-1][0]


class Layers:
    """Boxes of one level in layers, with lanes for links that pass layers."""

    def __init__(self, boxes: dict[str, Box], arcs: list[Arc]) -> None:
        self.boxes = boxes
        self.arcs = arcs
        self._lanes()
        depth = max((b.layer for b in boxes.values()), default=-1) + 1
        self.rows: list[list[str]] = [[] for _ in range(depth)]
        for box in boxes.values():
            self.rows[box.layer].append(box.id)
        self.pairs: list[list[Pair]] = [[] for _ in range(depth)]
        self.up: Near = {}
        self.down: Near = {}
        self.connect()

    def connect(self) -> None:
        """Notes who is linked to whom, and where on the boxes (again after the ports have moved)."""
        boxes = self.boxes
        self.pairs = [[] for _ in self.rows]
        self.up = {b: [] for b in boxes}
        self.down = {b: [] for b in boxes}
        for arc in self.arcs:
            chain = [arc.source, *arc.via, arc.target]
            for i, (a, b) in enumerate(pairwise(chain)):
                out = arc.out if i == 0 else 0.0
                into = arc.into if i == len(chain) - 2 else 0.0
                weight = arc.weight * (1.0 + 3.0 * (boxes[a].lane + boxes[b].lane))
                self.pairs[boxes[a].layer].append((a, b, _fraction(out, boxes[a].width)))
                self.down[a].append((b, out, into, weight))
                self.up[b].append((a, into, out, weight))

    def _lanes(self) -> None:
        for n, arc in enumerate(self.arcs):
            for layer in range(self.boxes[arc.source].layer + 1, self.boxes[arc.target].layer):
                lane = f"\x00{n}:{layer}"
                self.boxes[lane] = Box(lane, LANE, 0.0, True, layer)
                arc.via.append(lane)

    def order(self, sweeps: int = 12) -> None:
        """Reduces crossings: medians from above and below in turn, then swaps of neighbours."""
        best = [row[:] for row in self.rows]
        least = self._all_crossings()
        for turn in range(sweeps):
            if not least:
                break
            self._sweep(turn % 2 == 0)
            self._swap()
            now = self._all_crossings()
            if now < least:
                least, best = now, [row[:] for row in self.rows]
        self.rows = best

    def _all_crossings(self) -> int:
        return sum(crossings(self.rows[i], self.rows[i + 1], self.pairs[i]) for i in range(len(self.rows) - 1))

    def _sweep(self, downward: bool) -> None:
        rows = range(1, len(self.rows)) if downward else range(len(self.rows) - 2, -1, -1)
        links = self.up if downward else self.down
        for r in rows:
            near = self.rows[r - 1] if downward else self.rows[r + 1]
            at = {b: i for i, b in enumerate(near)}
            own = {b: i for i, b in enumerate(self.rows[r])}
            # Offsets of the ports order links that share a box: cases stay in the order of their tabs.
            keys = {}
            for b in self.rows[r]:
                spots = [at[o] + _fraction(other, self.boxes[o].width) for o, _, other, _ in links[b] if o in at]
                keys[b] = _median(spots) if spots else float(own[b])
            self.rows[r].sort(key=lambda b: (keys[b], own[b]))

    def _swap(self) -> None:
        for r, row in enumerate(self.rows):
            for i in range(len(row) - 1):
                before = self._near(r)
                row[i], row[i + 1] = row[i + 1], row[i]
                if self._near(r) >= before:
                    row[i], row[i + 1] = row[i + 1], row[i]

    def _near(self, r: int) -> int:
        above = crossings(self.rows[r - 1], self.rows[r], self.pairs[r - 1]) if r else 0
        below = crossings(self.rows[r], self.rows[r + 1], self.pairs[r]) if r + 1 < len(self.rows) else 0
        return above + below

    def place(self, sweeps: int = 25) -> None:
        """Coordinates: each layer as near to its neighbours' ports as the gaps allow (least squares)."""
        for row in self.rows:
            x = 0.0
            for b in row:
                box = self.boxes[b]
                x += box.width / 2
                box.x = x
                x += box.width / 2 + self._gap(b)
        for turn in range(sweeps):
            downward = turn % 2 == 0
            for r in range(len(self.rows)) if downward else range(len(self.rows) - 1, -1, -1):
                self._settle(r, self.up if downward else self.down, self.down if downward else self.up)
        low = min((b.x - b.width / 2 for b in self.boxes.values()), default=0.0)
        for box in self.boxes.values():
            box.x = round(box.x - low, 2)

    def _gap(self, b: str) -> float:
        return LANE if self.boxes[b].lane else GAP_X

    def _settle(self, r: int, first: Near, second: Near) -> None:
        row = self.rows[r]
        wanted: list[tuple[float, float]] = []
        for b in row:
            links = first[b] or second[b]
            if links:
                # A median agrees with one neighbour exactly, so that its link is straight; a mean with none.
                spots = sorted([(self.boxes[o].x + there - here, w) for o, here, there, w in links])
                total = sum([w for _, w in spots])
                wanted.append((_weighted_median(spots, total), total))
            else:
                wanted.append((self.boxes[b].x, 0.01))
        offsets = [0.0]
        for a, b in pairwise(row):
            half = (self.boxes[a].width + self.boxes[b].width) / 2
            offsets.append(
                offsets[-1]
                + half
                + max(self._gap(a), self._gap(b)) * (0.6 if self.boxes[a].lane and self.boxes[b].lane else 1.0)
            )
        # Isotonic regression (pool adjacent violators) on positions less the room needed to their left.
        blocks: list[list[float]] = []
        for (wish, weight), offset in zip(wanted, offsets, strict=True):
            blocks.append([(wish - offset) * weight, weight, 1])
            while len(blocks) > 1 and blocks[-2][0] / blocks[-2][1] > blocks[-1][0] / blocks[-1][1]:
                top = blocks.pop()
                for k in range(3):
                    blocks[-1][k] += top[k]
        at = 0
        for total, weight, n in blocks:
            for _ in range(int(n)):
                self.boxes[row[at]].x = total / weight + offsets[at]
                at += 1


def _fraction(offset: float, width: float) -> float:
    """Where on a box a port lies, as a part of one place in the order."""
    return offset / width * 0.9 if width else 0.0
