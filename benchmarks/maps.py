"""Maps against the ``dot`` program of Graphviz: crossings, length of links, overlaps, and time.

usage: python benchmarks/maps.py [GRAPHS]     (default 200; needs dot on the PATH)

The same random flows, from 10 to 1,000 steps, with the same sizes of cards: a card's tabs count as part of it, scopes are clusters.
Times are the best of three: of our layout, given the cards as dot is given their sizes (and with the making of the cards; the start-up
of Python is left out), and of a process of dot that lays out all graphs of one size, so that its start-up hardly counts.
Lengths are of the drawn lines: right angles here, splines there.
"""

from __future__ import annotations

import gc
import json
import subprocess
import sys
import time
from statistics import median

import numpy as np
from made_graphs import made_flow

SIZES = (10, 20, 30, 50, 100, 200, 400, 700, 1000)


def crossings(paths: list[np.ndarray]) -> int:
    """Pairs of links that cross, each proper crossing of their pieces counted."""
    a = np.concatenate([p[:-1] for p in paths])
    b = np.concatenate([p[1:] for p in paths])
    of = np.concatenate([np.full(len(p) - 1, i) for i, p in enumerate(paths)])
    order = np.argsort(np.minimum(a[:, 1], b[:, 1]))
    a, b, of = a[order], b[order], of[order]
    top, low = np.minimum(a[:, 1], b[:, 1]), np.maximum(a[:, 1], b[:, 1])
    left, right = np.minimum(a[:, 0], b[:, 0]), np.maximum(a[:, 0], b[:, 0])
    total = 0
    for i in range(len(a)):
        end = int(np.searchsorted(top, low[i], side="right"))
        js = np.arange(i + 1, end)
        js = js[(left[js] <= right[i]) & (right[js] >= left[i]) & (of[js] != of[i])]
        if not len(js):
            continue
        d = b[i] - a[i]
        e = b[js] - a[js]
        f = a[js] - a[i]
        cross = d[0] * e[:, 1] - d[1] * e[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            t = (f[:, 0] * e[:, 1] - f[:, 1] * e[:, 0]) / cross
            u = (f[:, 0] * d[1] - f[:, 1] * d[0]) / cross
        total += int(((np.abs(cross) > 1e-9) & (t > 1e-6) & (t < 1 - 1e-6) & (u > 1e-6) & (u < 1 - 1e-6)).sum())
    return total


def length(paths: list[np.ndarray]) -> float:
    return float(sum(np.hypot(*np.diff(p, axis=0).T).sum() for p in paths))


def ours(flow):  # type: ignore[no-untyped-def]
    """The map, seconds with the making of its cards, and seconds of the layout alone, given the cards as dot is given their sizes."""
    from zeitbuch.core.graph.topology import Graph
    from zeitbuch.core.layout import cards
    from zeitbuch.core.layout.scene import draw_scene
    from zeitbuch.writers.theme.fonts import measure_text

    begun = time.perf_counter()
    drawn = draw_scene(Graph(flow), measure_text)
    whole = time.perf_counter() - begun
    make, made = cards.step_card, {}
    cards.step_card = lambda graph, step, *more: made.get(step.id) or made.setdefault(step.id, make(graph, step, *more))
    try:
        draw_scene(Graph(flow), measure_text)
        begun = time.perf_counter()
        draw_scene(Graph(flow), measure_text)
        return drawn, whole, time.perf_counter() - begun
    finally:
        cards.step_card = make


def dot_text(flow, drawn) -> str:  # type: ignore[no-untyped-def]
    """The flow for dot: cards of the same sizes, scopes as clusters, links of scopes clipped at their frames."""
    from zeitbuch.core.graph.topology import Graph

    graph = Graph(flow)
    sizes = {c.card.id: (c.card.width, c.card.height + (18 if c.card.tabs else 0)) for c in drawn.cards}
    lines = ["digraph g {", 'compound=true; nodesep=0.45; ranksep=0.45; node [shape=box, fixedsize=true, label=""];']

    def level(scope: str | None) -> None:
        for s in graph.levels[scope].steps:
            if s.id in graph.levels:
                lines.append(f"subgraph cluster_{s.id} {{ margin=18;")
                level(s.id)
                lines.append("}")
            else:
                w, h = sizes[s.id]
                lines.append(f"{s.id} [width={w / 72:.3f}, height={h / 72:.3f}];")

    def first(id: str) -> str:
        return first(graph.levels[id].steps[0].id) if id in graph.levels else id

    def last(id: str) -> str:
        return last(graph.levels[id].steps[-1].id) if id in graph.levels else id

    w, h = sizes["t"]
    lines.append(f"t [width={w / 72:.3f}, height={h / 72:.3f}];")
    level(None)
    for k in flow.links:
        more = f"ltail=cluster_{k.source} " if k.source in graph.levels else ""
        more += f"lhead=cluster_{k.target}" if k.target in graph.levels else ""
        lines.append(f"{last(k.source)} -> {first(k.target)} [{more}];")
    return "\n".join([*lines, "}"])


def by_dot(text: str) -> tuple[list[np.ndarray], float, float]:
    out = subprocess.run(["dot", "-Tjson0"], input=text.encode(), capture_output=True, check=True).stdout
    found = json.loads(out)
    paths = []
    for edge in found.get("edges", []):
        words = edge["pos"].split()
        tip = [[float(v) for v in p[2:].split(",")] for p in words if p[0] == "e"]
        points = np.array([[float(v) for v in p.split(",")] for p in words if p[0] not in "es"])
        curve = []
        for at in range(0, len(points) - 1, 3):
            p = points[at : at + 4]
            t = np.linspace(0, 1, 9)[:, None]
            curve.append((1 - t) ** 3 * p[0] + 3 * (1 - t) ** 2 * t * p[1] + 3 * (1 - t) * t**2 * p[2] + t**3 * p[3])
        paths.append(np.concatenate([*curve, tip]) if tip else np.concatenate(curve))
    box = [float(v) for v in found["bb"].split(",")]
    return paths, box[2], box[3]


def dot_seconds(texts: list[str], start: float) -> float:
    """Seconds that dot takes a graph: all graphs of one size in one run, often enough that its start-up hardly counts."""
    times = max(1, 2000 // sum(t.count("->") for t in texts))
    whole = "\n".join(texts * times).encode()
    best = float("inf")
    for _ in range(3):
        begun = time.perf_counter()
        subprocess.run(["dot", "-Tjson0"], input=whole, capture_output=True, check=True)
        best = min(best, time.perf_counter() - begun)
    return (best - start) / (times * len(texts))


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    gc.set_threshold(200_000, 20, 100)  # as the program does
    start = min(_spent_on_nothing() for _ in range(9))
    ours(made_flow(0, 20))
    print(f"{'steps':>6} {'flows':>5} {'crossings':>16} {'link length':>13} {'time':>34} {'area':>6}")
    whole: list[tuple[float, ...]] = []
    for at, size in enumerate(SIZES):
        found: list[tuple[float, ...]] = []
        texts: list[str] = []
        for n in range(at, count, len(SIZES)):
            flow = made_flow(n, size)
            tries = [ours(flow) for _ in range(3)]
            drawn, spent, alone = tries[0][0], min(t[1] for t in tries), min(t[2] for t in tries)
            mine = [np.array(r.points) for r in drawn.routes]
            texts.append(dot_text(flow, drawn))
            theirs, width, height = by_dot(texts[-1])
            found.append(
                (
                    crossings(mine),
                    crossings(theirs),
                    length(mine),
                    length(theirs),
                    spent,
                    alone,
                    drawn.width * drawn.height,
                    width * height,
                )
            )
        if found:
            _print(str(size), found, dot_seconds(texts, start))
        whole += found
    _print("all", whole, None)
    for size in (1000, 3000):
        _, spent, _ = ours(made_flow(1, size))
        print(f"{size} steps in {spent:.2f} s")
    stability()


def stability() -> None:
    """One step set into a link of a flow of 30 steps: how far do the others move, and how many pairs change sides?"""
    import random

    from msgspec.structs import replace

    from zeitbuch.core.model.records import Link, Step

    moves: list[float] = []
    flips = pairs = 0
    for seed in range(100):
        flow = made_flow(seed, 30)
        rng = random.Random(seed)
        cut = rng.choice([k for k in flow.links if k.role == "next" and k.source != "t"])
        scope = next(s.scope for s in flow.steps if s.id == cut.target)
        new = Step(id="new", name="Weigh the parcel", kind="shape", operation="x.shape", scope=scope)
        links = tuple(
            x
            for k in flow.links
            for x in ((replace(k, target="new"), Link(source="new", target=k.target)) if k is cut else (k,))
        )
        after, *_ = ours(replace(flow, steps=(*flow.steps, new), links=links))
        before, *_ = ours(flow)
        at = {c.card.id: (c.x, c.y) for c in after.cards}
        both = [((c.x, c.y), at[c.card.id]) for c in before.cards]
        shift = median(b[0] - a[0] for a, b in both)
        moves += [abs(b[0] - a[0] - shift) for a, b in both]
        for i, (a, b) in enumerate(both):
            for c, d in both[i + 1 :]:
                if abs(a[0] - c[0]) > 20 and abs(a[1] - c[1]) < 1:  # side by side
                    pairs += 1
                    flips += (a[0] < c[0]) != (b[0] < d[0])
    still = sum(m < 1 for m in moves) / len(moves)
    print(
        f"one more step: {still:.0%} of the cards keep their place across, {flips} of {pairs} pairs side by side change sides"
    )


def _print(name: str, found: list[tuple[float, ...]], theirs: float | None) -> None:
    cross = median((f[0] + 1) / (f[1] + 1) for f in found)
    total = sum(f[0] for f in found), sum(f[1] for f in found)
    long = median(f[2] / f[3] for f in found)
    area = median(f[6] / f[7] for f in found)
    whole, alone = (sum(f[at] for f in found) / len(found) for at in (4, 5))
    spent = ""
    if theirs is not None:
        spent = f"{alone * 1000:8.1f}/{theirs * 1000:.1f} ms {alone / theirs:5.2f} (with cards {whole / theirs:.2f})"
    print(f"{name:>6} {len(found):>5} {cross:6.2f} ({total[0]}/{total[1]}) {long:6.2f} {spent} {area:6.2f}")


def _spent_on_nothing() -> float:
    begun = time.perf_counter()
    subprocess.run(["dot", "-Tjson0"], input=b"digraph g {}", capture_output=True, check=True)
    return time.perf_counter() - begun


if __name__ == "__main__":
    main()
