"""Geometry of maps: nothing overlaps, no route runs through a card, no text leaves its card."""

from __future__ import annotations

import sys
import xml.etree.ElementTree as ET
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings

from builders import drawn_flows
from conftest import draws
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import LEADING, PAD, SPINE, Showing
from zeitbuch.core.layout.geometry import Scene, tab_outline
from zeitbuch.core.layout.ordering import count_crossings
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text

Box = tuple[float, float, float, float]


def overlap(a: Box, b: Box) -> bool:
    return a[0] < b[2] - 0.01 and b[0] < a[2] - 0.01 and a[1] < b[3] - 0.01 and b[1] < a[3] - 0.01


def bounds(points: list[tuple[float, float]]) -> Box:
    xs, ys = [x for x, _ in points], [y for _, y in points]
    return min(xs), min(ys), max(xs), max(ys)


def check(drawn: Scene, flow: Flow) -> None:
    cards = [(c.card, (c.x, c.y, c.x + c.card.width, c.y + c.card.height)) for c in drawn.cards]
    tabs = [
        (c.card.id, bounds(tab_outline(c.card, t, c.x, c.y, c.card.width, c.card.height)[0]))
        for c in drawn.cards
        for t in c.card.tabs
    ]
    shown = {c.id for c, _ in cards} | {f.card.id for f in drawn.frames} | {r.id for c, _ in cards for r in c.rows}
    shown |= {r.id for f in drawn.frames for r in f.card.rows}
    assert shown == {s.id for s in flow.steps} | {t.id for t in flow.triggers}
    boxes = [(c.id, b) for c, b in cards] + tabs
    for i, (name, a) in enumerate(boxes):
        assert a[0] >= 0 and a[1] >= 0 and a[2] <= drawn.width and a[3] <= drawn.height
        for other, b in boxes[i + 1 :]:
            assert not overlap(a, b), (name, other)
    frames = [(f, (f.x, f.y, f.x + f.width, f.y + f.height)) for f in drawn.frames]
    for i, (f, a) in enumerate(frames):
        for g, b in frames[i + 1 :]:
            inside = a[0] <= b[0] and a[1] <= b[1] and b[2] <= a[2] and b[3] <= a[3]
            around = b[0] <= a[0] and b[1] <= a[1] and a[2] <= b[2] and a[3] <= b[3]
            assert inside or around or not overlap(a, b), (f.card.id, g.card.id)
    for card, _ in cards:
        at = PAD - 2
        for i, line in enumerate(card.lines):
            at += LEADING[line.size]
            assert SPINE + PAD + measure_text(line.text, line.size, line.bold) + (20 if i == 0 else 0) <= card.width
            assert line.full or not line.text.endswith("…")
        assert at <= card.height
        for tab in card.tabs:
            assert tab.x >= 0 and (tab.x + 18 <= card.height if card.side else tab.x + tab.width <= card.width + 0.01)
    for route in drawn.routes:
        for (x1, y1), (x2, y2) in zip(route.points, route.points[1:], strict=False):
            assert x1 == x2 or y1 == y2, "routes have right angles"
            piece = (min(x1, x2), min(y1, y2), max(x1, x2), max(y1, y2))
            for card, box in cards:
                shrunk = (box[0] + 0.5, box[1] + 0.5, box[2] - 0.5, box[3] - 0.5)
                through = (
                    piece[0] < shrunk[2]
                    and shrunk[0] < piece[2] + 0.001
                    and piece[1] < shrunk[3]
                    and shrunk[1] < piece[3] + 0.001
                )
                assert not through, f"{route.source} to {route.target} runs through {card.id}"


def alone(drawn: Scene) -> None:
    """No two links lie on each other, but where a crowded card lets them leave together."""
    lines: dict[tuple[bool, float], list[tuple[float, float, int]]] = {}
    for n, route in enumerate(drawn.routes):
        for (x1, y1), (x2, y2) in pairwise(route.points):
            upright = x1 == x2
            a, b = sorted((y1, y2) if upright else (x1, x2))
            lines.setdefault((upright, round(x1 if upright else y1)), []).append((a, b, n))
    for line in lines.values():
        line.sort()
        for (_, end, n), (begin, _, m) in pairwise(line):
            together = drawn.routes[n].points[0] == drawn.routes[m].points[0]
            assert n == m or together or begin > end - 1, (drawn.routes[n], drawn.routes[m])


def test_demo_flows_are_drawn_clean(november: Estate) -> None:
    for flow in november.flows:
        for turned in (False, True):
            drawn = draw_scene(Graph(flow), measure_text, Showing(turned=turned))
            check(drawn, flow)
            alone(drawn)


@settings(max_examples=draws(70), deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(drawn_flows())
def test_random_compound_flows_are_drawn_clean(flow: Flow) -> None:
    graph = Graph(flow)
    for turned in (False, True):
        check(draw_scene(graph, measure_text, Showing(turned=turned)), flow)


def test_made_flows_are_drawn_clean() -> None:
    """The 500 flows of the benchmark: like those people draw, and large; their links do not even lie on each other."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
    from made_graphs import made_flow

    for seed in range(500):
        flow = made_flow(seed, (10, 20, 30, 50, 90)[seed % 5])
        for turned in (False, True) if seed % 5 < 3 else (False,):
            drawn = draw_scene(Graph(flow), measure_text, Showing(turned=turned))
            check(drawn, flow)
            alone(drawn)


def test_same_flow_same_picture(november: Estate) -> None:
    for flow in november.flows[:3]:
        assert to_svg(draw_scene(Graph(flow), measure_text)) == to_svg(draw_scene(Graph(flow), measure_text))


def test_svg_texts_have_their_measured_length(november: Estate) -> None:
    root = ET.fromstring(to_svg(draw_scene(Graph(november.flows[0]), measure_text)))
    for text in root.iter("{http://www.w3.org/2000/svg}text"):
        assert float(text.get("textLength", "0")) > 0


def test_cut_text_has_its_full_text_in_a_title(november: Estate) -> None:
    flow = november.flow("Passenger announcements")
    assert flow is not None
    svg = to_svg(draw_scene(Graph(flow), measure_text))
    assert "<title>for each of Norwegian, English, German, Danish</title>for each of Norwegian, English, Germa…" in svg


def test_order_numbers_follow_the_run(november: Estate) -> None:
    flow = november.flow("Customer letters")
    assert flow is not None
    numbers = Graph(flow).numbers
    assert numbers["fetch"] == "1" and numbers["each"] == "2" and numbers["sort"] == "2.1"
    assert numbers["booking"] == numbers["refunds"] + ".a"


@pytest.mark.parametrize(
    ("pairs", "count"),
    [([(0, 2), (1, 3)], 0), ([(0, 3), (1, 2)], 1), ([(0, 3), (1, 2), (0, 2)], 1)],
)
def test_crossings_are_counted(pairs: list[tuple[int, int]], count: int) -> None:
    down: list[list[tuple[int, float]]] = [[], [], [], []]
    for a, b in pairs:
        down[a].append((b, 0.0))
    assert count_crossings([[0, 1], [2, 3]], down) == count
