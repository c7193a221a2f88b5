# Where links leave and reach the boxes of a level: at tabs, side by side, and after placing as near to each other as may be.
"""Ports of boxes."""

from __future__ import annotations

from zeitbuch.core.graph.topology import Edge

from .cards import Measure
from .fragments import Piece
from .geometry import Tab
from .layering import LANE, Arc, Layers
from .placement import place_ports

PORT, SPACING = 16.0, 12.0


class Ports:
    """The ports of the pieces of one level."""

    def __init__(self, pieces: dict[str, Piece], measure: Measure, turned: bool) -> None:
        self.pieces, self.measure, self.turned = pieces, measure, turned

    def tab_offset(self, index: int, piece: Piece) -> Tab | None:
        for tab in piece.card.tabs:
            if tab.key == index:
                return tab
        return None

    def outlet_offset(self, index: int, edge: Edge) -> float:
        """Offset of an outlet from the centre of its box."""
        piece = self.pieces[edge.source]
        tab = self.tab_offset(index, piece)
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
        # A frame is left below where it is reached, so that frames one below the other stand in line.
        return -lanes if edge.link.role == "error" else self.inlet_offset(edge.source)

    def inlet_offset(self, key: str) -> float:
        """Offset of where links arrive: the middle, but clear of the title on a frame's rule."""
        piece = self.pieces[key]
        middle = -piece.back * LANE / 2
        if piece.inner is None or self.turned:
            return middle
        name = piece.card.lines[0]
        title = 18 + self.measure(name.text, name.size, name.bold) + 18 - piece.width / 2
        return middle + max(0.0, title)

    def side_by_side(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
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

    def move_ports(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
        """Moves ports along the edges of cards to where their links go and come from, so that they are straight or short."""
        boxes = layers.boxes
        leaving, arriving = self._arcs_by_box(of_edge)

        def next_x(arc: Arc) -> float:
            return boxes[arc.via[0]].x if arc.via else boxes[arc.target].x + arc.into

        def before_x(arc: Arc) -> float:
            return boxes[arc.via[-1]].x if arc.via else boxes[arc.source].x + arc.out

        for key, group in leaving.items():
            group.sort(key=next_x)
            low, high = self._free_edge(key)
            found = place_ports([next_x(arc) - boxes[key].x for arc in group], low, high, SPACING)
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
            low, high = self._port_reach(key)
            low = (
                max(low, min(self.inlet_offset(key), high))
                if self.pieces[key].inner is not None and not self.turned
                else low
            )
            group.sort(key=before_x)
            found = place_ports([before_x(arc) - boxes[key].x for arc in group], low, high, SPACING)
            for arc, spot in zip(group, found, strict=True):
                arc.into = spot
        self._extend_back_links(layers, of_edge)

    def _arcs_by_box(self, of_edge: list[tuple[int, Edge, Arc]]) -> tuple[dict[str, list[Arc]], dict[str, list[Arc]]]:
        leaving: dict[str, list[Arc]] = {}
        arriving: dict[str, list[Arc]] = {}
        for index, edge, arc in of_edge:
            if not edge.back:
                arriving.setdefault(arc.target, []).append(arc)
                if self.tab_offset(index, self.pieces[arc.source]) is None:
                    leaving.setdefault(arc.source, []).append(arc)
        return leaving, arriving

    def _extend_back_links(self, layers: Layers, of_edge: list[tuple[int, Edge, Arc]]) -> None:
        """Links that go back run straight out to their lanes where nothing stands beside their boxes."""
        boxes = layers.boxes
        last = {row[-1] for row in layers.rows if row}
        for _, edge, arc in of_edge:
            if edge.back and arc.via:
                # Only the outermost: the others would run into those beyond them.
                if arc.source in last and arc.slots[0] == self.pieces[arc.source].back - 1:
                    arc.out = max(arc.out, boxes[arc.via[0]].x - boxes[arc.source].x)
                if arc.target in last and arc.slots[1] == self.pieces[arc.target].back - 1:
                    arc.into = max(arc.into, boxes[arc.via[-1]].x - boxes[arc.target].x)

    def _free_edge(self, key: str) -> tuple[float, float]:
        """The wider part of a box's lower edge without tabs, where plain links leave."""
        piece = self.pieces[key]
        low, high = self._port_reach(key)
        if piece.card.tabs:
            lanes = piece.width / 2 + piece.back * LANE / 2
            first, last = piece.card.tabs[0], piece.card.tabs[-1]
            left, right = first.x - 5 - lanes, last.x + last.width + 5 - lanes
            low, high = (right, max(right, high)) if high - right > left - low else (min(low, left), left)
        return low, high

    def _port_reach(self, key: str) -> tuple[float, float]:
        """How far to the left and right of a box's centre its ports may stand."""
        piece = self.pieces[key]
        middle, half = -piece.back * LANE / 2, piece.width / 2 - 14
        return middle - half, middle + half
