"""Flows that call each other: components, circles, volumes; and the joins of branches, against the plain pairwise rule."""

from __future__ import annotations

import itertools
import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import ask, chain, flow, link, step
from conftest import Run, draws
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.graph.call_graph import build_call_graph, solve_circle
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow, Trigger
from zeitbuch.core.passes.compiler import Planner
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.joins import Branch, JoinAnalysis
from zeitbuch.core.passes.plan import JoinTree

CALLED = (Trigger("start", kind="call"),)


def names(calls: dict[str, Any]) -> dict[str, str]:
    return {key: key for key in calls}


@pytest.mark.parametrize(
    ("calls", "components", "missing"),
    [
        ({"a": {"b": 2.0}, "b": {}}, (("b",), ("a",)), {}),
        ({"a": {"x": 1.0}}, (("a",),), {"a": ["x"]}),
        ({"a": {"b": 0.0}, "b": {"a": 1.0}}, (("a",), ("b",)), {}),
    ],
)
def test_components_are_called_first(
    calls: dict[str, dict[str, float]], components: tuple[Any, ...], missing: dict[str, list[str]]
) -> None:
    graph = build_call_graph(calls, names(calls))
    assert graph.components == components and graph.missing == missing


@pytest.mark.parametrize(
    ("calls", "outside", "solved"),
    [
        ({"f": {"g": 1.0}, "g": {"f": 0.5}}, [1.0, 1.0], {"f": 4.0, "g": 3.0}),
        ({"f": {"f": 0.5}}, [3.0], {"f": 6.0}),
        ({"f": {"f": 1.0}}, [1.0], None),
        ({"f": {"g": 2.0}, "g": {"f": 1.0}}, [1.0, 1.0], None),
    ],
)
def test_circles_are_solved_or_have_no_end(
    calls: dict[str, dict[str, float]], outside: list[float], solved: dict[str, float] | None
) -> None:
    graph = build_call_graph(calls, names(calls))
    (component,) = graph.components
    assert graph.is_circle(component)
    found = solve_circle(graph, component, outside)
    assert (
        (found is None) if solved is None else dict(zip(component, found or [], strict=True)) == pytest.approx(solved)
    )


def recursive(share: float) -> tuple[Estate, Assumptions]:
    """f asks and calls g; g asks and calls f in some of its runs."""
    first = chain(ask("a"), step("c", "subflow", calls="g"), id="f", name="F")
    steps = [ask("a"), step("d", "decide"), step("c", "subflow", calls="f"), step("e", "end")]
    links = [link("start", "a"), link("a", "d"), link("d", "c", "case", "again"), link("d", "e", "case", "done")]
    second = flow(steps, links, id="g", name="G")
    rules = (
        Rule(flow="*", trigger="start", runs=100.0),
        Rule(flow="g", step="d", case="again", share=share),
        Rule(flow="g", step="d", case="done", share=1 - share),
    )
    return Estate((first, second)), Assumptions(assume=rules, month="2026-11")


def test_flows_that_call_each_other_are_settled_by_their_equations() -> None:
    # 100 runs each begin outside: f = 100 + g / 2, g = 100 + f, so f = 300 and g = 400; each run asks once.
    estate, assumptions = recursive(0.5)
    found = {f.id: f for f in estimate_exactly(estate, None, assumptions).flows}
    assert (found["f"].runs, found["g"].runs) == pytest.approx((300, 400))
    assert sum(f.calls_month or 0.0 for f in found.values()) == pytest.approx(700)
    assert "calls itself again through 'G'" in found["f"].notes[-1]


def test_calls_that_do_not_die_out_have_no_figures() -> None:
    estate, assumptions = recursive(1.0)
    found = estimate_exactly(estate, None, assumptions)
    assert [f.runs for f in found.flows] == [None, None]
    assert all("without end" in f.runs_why and f.with_called.unknown for f in found.flows)


def test_sampled_costs_of_a_circle_have_the_exact_mean() -> None:
    from test_estimate import CARD

    estate, assumptions = recursive(0.5)
    exact = {f.id: float(f.with_called.amount) for f in estimate_exactly(estate, CARD, assumptions).flows}
    sampled = estimate_flows(estate.flows, CARD, assumptions, how=Sampling(8000))
    for found in sampled.flows:
        assert found.spread is not None and found.spread.mean == pytest.approx(exact[found.id], rel=0.05)


def levels(count: int) -> tuple[Flow, ...]:
    """Two flows a level, each of which calls both of the next: 2 ** count ways to the last."""
    made = []
    for level in range(count):
        for side in "ab":
            steps = [step(f"c{other}", "subflow", calls=f"{level + 1}{other}") for other in "ab"]
            if level == count - 1:
                steps = [ask("a")]
            links = [link("start", s.id) for s in steps]
            made.append(
                flow(steps, links, id=f"{level}{side}", name=f"L{level}{side}", triggers=() if level else CALLED)
            )
    return tuple(made)


def test_estates_of_many_levels_and_long_chains_are_ordinary() -> None:
    rules = Assumptions(
        month="2026-11", assume=(Rule(flow="0a", trigger="start", runs=1.0), Rule(flow="0b", trigger="start", runs=1.0))
    )
    found = {f.id: f for f in estimate_exactly(Estate(levels(22)), None, rules).flows}
    assert found["21a"].runs == 2.0**21
    line = [chain(step("n", "subflow", calls=str(i + 1)), id=str(i), name=f"F{i}", triggers=()) for i in range(1200)]
    line = [chain(step("n", "subflow", calls="1"), id="0", name="F0"), *line[1:]]
    long = estimate_exactly(
        Estate(tuple(line)), None, Assumptions(month="2026-11", assume=(Rule(trigger="start", runs=3.0),))
    )
    assert long.flows[-1].runs == 3.0 and "not among the flows read" in long.flows[-1].notes[0]


# -- joins: the fast way (by the last shared split) against the plain one (the best of all pairs, again and again) --------


def plain_meeting(analysis: JoinAnalysis, mode: Any, forward: list[Any]) -> JoinTree | int | None:
    before, position = analysis.before, analysis.position
    places = [position[e.source] for _, e in forward]
    branches = [
        Branch(i, before[at], before[at], analysis.through[at], [(i, e)])
        for at, (i, e) in zip(places, forward, strict=True)
    ]
    while len(branches) > 1:
        pairs = [(a, b) for a in range(len(branches)) for b in range(a + 1, len(branches))]
        shared = [(branches[a].before & branches[b].before).bit_length() - 1 for a, b in pairs]
        best = shared.index(max(shared))
        a, b = pairs[best]
        split = shared[best]
        if split >= 0:
            for branch in (branches[a], branches[b]):
                branch.taken.clear()
                analysis._ways_to(split, branch)
        met = analysis._tie_branches(mode, split, branches[a], branches[b])
        branches = [branch for i, branch in enumerate(branches) if i not in (a, b)] + [met]
    return branches[0].met if branches else None


def plainly_through(analysis: JoinAnalysis, at: int) -> int:
    """The steps without which nothing that begins anywhere reaches a step."""
    every = range(len(analysis.nodes))
    found = 1 << at
    for gone in every:
        reached: set[int] = set()
        for place in every:  # in the order of the level
            came = [source for source in every if analysis.ins[place] >> source & 1]
            if place != gone and (not came or reached.intersection(came)):
                reached.add(place)
        found |= (at not in reached) << gone
    return found


def test_failures_of_a_thousand_steps_meet(tmp_path: Path, run: Run) -> None:
    """Meetings stand a thousand deep in one another there."""
    ids = [f"a{n}" for n in range(1100)]
    steps = [*[step(key, "http", on_fault="stop") for key in ids], step("z", "http")]
    links = [link("start", "a0"), *[link(a, b) for a, b in itertools.pairwise(ids)]]
    made = flow(steps, [*links, *[link(key, "z", "error") for key in ids]])
    passes = Passes(Graph(made), AssumptionLookup(Assumptions(assume=(Rule(failure=0.001),)), made))
    assert passes.of["z"].runs == pytest.approx(1 - 0.999**1100)
    (tmp_path / "a.json").write_bytes(msgspec.json.encode({"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}))
    for words in (
        ("estimate", "a.json"),
        ("explain", "f", "--source", "a.json"),
        ("explain", "f", "z", "--source", "a.json"),
        ("check", "a.json"),
    ):
        ran = run(*words)
        assert ran.code == 0, ran.err


@settings(deadline=None, max_examples=draws(80))
@given(st.data())
def test_joins_are_those_of_the_pairwise_rule(data: st.DataObject) -> None:
    count = data.draw(st.integers(2, 9))
    kinds = data.draw(
        st.lists(st.sampled_from(["decide", "shape", "http", "parallel"]), min_size=count, max_size=count)
    )
    steps = [step(f"s{i}", kind) for i, kind in enumerate(kinds)]
    links = [link("start", "s0")]
    for target in range(1, count):
        for source in data.draw(st.sets(st.integers(0, target - 1), min_size=1, max_size=4)):
            role = "case" if kinds[source] == "decide" else data.draw(st.sampled_from(["next", "next", "error"]))
            links.append(link(f"s{source}", f"s{target}", role, f"to {target}"))
    made = flow(steps, links)
    seen: list[tuple[JoinTree | int | None, JoinTree | int | None]] = []
    fast = JoinAnalysis.meeting_of

    def both(self: JoinAnalysis, mode: Any, forward: list[Any]) -> JoinTree | int | None:
        for at in range(len(self.nodes)):
            assert self.through[at] == plainly_through(self, at)
        found = fast(self, mode, forward)
        seen.append((found, plain_meeting(self, mode, forward)))
        return found

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(JoinAnalysis, "meeting_of", both)
        Planner(Graph(made), AssumptionLookup(Assumptions(), made)).make_plan()
    assert all(a == b for a, b in seen)


def test_a_callee_that_is_gone_or_switched_off_makes_its_callers_unknown(tmp_path: Path, run: Run) -> None:
    """A calls what is not there, B calls A; D calls E, which is off: what a run of A, B and D costs is not known, and why is said."""
    (tmp_path / "flows.yaml").write_text(
        """
zeitbuch: 1
flows:
- {id: a, name: A, triggers: [{id: t, kind: schedule, schedule: {every: 3600}}], steps: [{id: m, kind: model, name: m,
   model: {name: x, prompts: [{text: hi}]}}, {id: c, kind: subflow, name: c, calls: gone}], links: [{source: t, target: m}, {source: m, target: c}]}
- {id: b, name: B, triggers: [{id: t, kind: manual}], steps: [{id: c, kind: subflow, name: c, calls: a}], links: [{source: t, target: c}]}
- {id: d, name: D, triggers: [{id: t, kind: schedule, schedule: {every: 3600}}], steps: [{id: c, kind: subflow, name: c, calls: e}],
   links: [{source: t, target: c}]}
- {id: e, name: E, state: "off", triggers: [{id: t, kind: call}], steps: [{id: m, kind: model, name: m, model: {name: x, prompts: [{text: hi}]}}],
   links: [{source: t, target: m}]}
- {id: f, name: F, triggers: [{id: t, kind: schedule, schedule: {every: 3600}}], steps: [{id: m, kind: model, name: m,
   model: {name: x, prompts: [{text: hi}]}}], links: [{source: t, target: m}]}
"""
    )
    (tmp_path / "rates.toml").write_text(
        'rate_card = 1\ncurrency = "EUR"\n[[model]]\nname = "x"\n[[model.price]]\nfrom = 2026-01-01\ninput = 3\noutput = 15\n'
    )
    words = ("estimate", "flows.yaml", "--rates", "rates.toml", "--month", "2026-11", "--no-cache")
    flows = {one["name"]: one for one in json.loads(run(*words, "-f", "json").out)["flows"]}
    unknown = {name: one["with_called"]["unknown"] for name, one in flows.items()}
    assert unknown == {
        "A": ["the called flow 'gone'"], "B": ["the called flow 'gone'"], "D": ["the called flow 'E'"], "E": [], "F": [],
    }  # fmt: skip
    assert [name for name, one in flows.items() if one["cost_month"] and one["cost_month"]["unknown"]] == ["A", "D"]
    shown = run(*words)
    assert "A: it calls 'gone', which is not among the flows read: what that costs is not known" in shown.out
    assert "D: it calls 'E', which is switched off: whether that runs, and what it costs, is not known" in shown.out
    assert " + ?" in shown.out.split("5 flows")[1]
    over = run(*words, "--max-per-run", "100")
    assert over.code == 1
    assert "'B': mean per run is unknown (no price is known for the called flow 'gone')" in over.err


def test_a_called_flow_without_a_name_is_unknown_through_all_callers() -> None:
    """A step that says only that it calls a flow: what that costs nobody knows. A block of its own steps is no such call."""
    inner = chain(step("c", "subflow"), id="inner", name="Inner")
    outer = chain(step("c", "subflow", calls="inner"), id="outer", name="Outer")
    holds = chain(step("c", "subflow"), id="holds", name="Holds")
    holds = structs.replace(holds, steps=(*holds.steps, step("x", "http", scope="c")))
    rules = tuple(Rule(flow=key, trigger="start", runs=5.0) for key in ("inner", "outer", "holds"))
    flows = estimate_exactly(Estate((inner, outer, holds)), None, Assumptions(month="2026-02", assume=rules)).flows
    assert [flow.with_called.unknown for flow in flows] == [("(a flow that the export does not name)",)] * 2 + [()]
    assert "it calls a flow that the export does not name" in flows[0].notes[0]
