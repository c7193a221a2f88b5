# A drawn map as data: what the JSON output holds.
"""Maps as records with positions."""

from __future__ import annotations

from msgspec import Struct

from zeitbuch.core.graph.pattern_class import pattern_of, pattern_reason
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.passes.reachability import Reachability

from .geometry import Scene


class CardRecord(Struct, frozen=True):
    """A card or frame: left upper corner and size in points, what stands on it."""

    id: str
    number: str
    kind: str
    effect: str
    x: float
    y: float
    width: float
    height: float
    frame: bool
    lines: tuple[str, ...]
    helpers: tuple[str, ...] = ()


class RouteRecord(Struct, frozen=True):
    """A link as the points of its line."""

    source: str
    target: str
    style: str
    words: str
    points: tuple[tuple[float, float], ...]
    heavy: bool = False


class ReadRecord(Struct, frozen=True):
    """One value taken from another step; ``trust`` as in ``ways.Read``."""

    reader: str
    source: str
    path: str
    where: str
    trust: str


class MapRecord(Struct, frozen=True):
    """A map with what its shape says."""

    flow: str
    name: str
    width: float
    height: float
    cards: tuple[CardRecord, ...]
    routes: tuple[RouteRecord, ...]
    pattern: str
    reason: str
    longest: tuple[str, ...]
    unreachable: tuple[str, ...]
    dead_ends: tuple[str, ...]
    ends: tuple[str, ...]
    back: tuple[tuple[str, str], ...]
    most_out: int
    most_in: int
    reads: tuple[ReadRecord, ...]


def map_record(graph: Graph, scene: Scene) -> MapRecord:
    """The record of a scene and of the shape of its flow."""
    ways = Reachability(graph)
    cards = [
        CardRecord(
            p.card.id, p.card.number, p.card.kind, p.card.effect, p.x, p.y, p.card.width, p.card.height, False,
            tuple(line.full or line.text for line in p.card.lines), tuple(r.id for r in p.card.rows),
        )
        for p in scene.cards
    ]  # fmt: skip
    cards += [
        CardRecord(
            f.card.id, f.card.number, f.card.kind, f.card.effect, f.x, f.y, f.width, f.height, True,
            tuple(line.full or line.text for line in f.card.lines),
        )
        for f in scene.frames
    ]  # fmt: skip
    most_out, most_in = ways.widest_spread()
    return MapRecord(
        flow=graph.flow.id,
        name=graph.flow.title,
        width=scene.width,
        height=scene.height,
        cards=tuple(cards),
        routes=tuple(RouteRecord(r.source, r.target, r.style, r.full, r.points, r.heavy) for r in scene.routes),
        pattern=pattern_of(graph.flow),
        reason=pattern_reason(graph),
        longest=tuple(ways.longest),
        unreachable=tuple(ways.unreachable),
        dead_ends=tuple(ways.dead_ends),
        ends=tuple(ways.ends),
        back=tuple(ways.back_links),
        most_out=most_out,
        most_in=most_in,
        reads=tuple(ReadRecord(r.reader, r.source, r.ref.path, r.where, r.trust) for r in ways.reads),
    )
