"""Passes against arithmetic written out by hand, and against an independent recursion over random structures."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import ask, chain, flow, link, step
from conftest import draws
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Link, Repeat, Retry, Step
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.exact_joins import combine_arrivals


def runs(f: Flow, *rules: Rule) -> dict[str, float]:
    passes = Passes(Graph(f), AssumptionLookup(Assumptions(assume=rules), f))
    return {k: p.runs for k, p in passes.of.items()}


def test_sequence_runs_each_step_once() -> None:
    assert runs(chain(step("a"), step("b"), step("c"))) == {"a": 1, "b": 1, "c": 1}


def test_decision_without_evidence_splits_equally() -> None:
    f = flow([step("d", "decide"), step("a"), step("b"), step("c"), step("end")],
             [link("start", "d"), *[link("d", x, "case", x) for x in "abc"], *[link(x, "end") for x in "abc"]])  # fmt: skip
    found = runs(f)
    assert [found[x] for x in "abc"] == pytest.approx([1 / 3] * 3)
    assert found["end"] == pytest.approx(1)


def test_declared_share_leaves_the_rest_to_the_others() -> None:
    f = flow(
        [step("d", "decide"), step("a"), step("b"), step("c")],
        [link("start", "d"), *[link("d", x, "case", x) for x in "abc"]],
    )
    found = runs(f, Rule(step="d", case="a", share=0.7))
    assert [found[x] for x in "abc"] == pytest.approx([0.7, 0.15, 0.15])


def test_single_case_may_be_missed() -> None:
    f = flow([step("d", "decide"), step("a")], [link("start", "d"), link("d", "a", "case", "yes")])
    assert runs(f)["a"] == pytest.approx(0.5)
    assert runs(f, Rule(case="yes", share=0.9, step="d"))["a"] == pytest.approx(0.9)


def test_inclusive_decision_takes_each_case_by_itself() -> None:
    f = flow(
        [step("d", "decide", inclusive=True), step("a"), step("b")],
        [link("start", "d"), link("d", "a", "case", "x"), link("d", "b", "case", "y")],
    )
    found = runs(f, Rule(step="d", case="x", share=0.9), Rule(step="d", case="y", share=0.8))
    assert (found["a"], found["b"]) == pytest.approx((0.9, 0.8))


def test_parallel_branches_meet_once_and_losses_multiply() -> None:
    f = flow(
        [step("s"), step("a"), step("b"), step("j")],
        [link("start", "s"), link("s", "a"), link("s", "b"), link("a", "j"), link("b", "j")],
    )
    assert runs(f)["j"] == pytest.approx(1)
    assert runs(f, Rule(step="a", failure=0.1), Rule(step="b", failure=0.2))["j"] == pytest.approx(0.9 * 0.8)
    # A loss before the split is not counted twice.
    assert runs(f, Rule(step="s", failure=0.5))["j"] == pytest.approx(0.5)


def test_retries_and_error_route() -> None:
    f = flow(
        [step("a", retry=Retry(attempts=2)), step("ok"), step("bad")],
        [link("start", "a"), link("a", "ok"), link("a", "bad", "error")],
    )
    found = runs(f, Rule(step="a", failure=0.2))
    assert found["a"] == pytest.approx(1 + 0.2 + 0.04)  # (1 - f^3) / (1 - f)
    assert found["bad"] == pytest.approx(0.008)
    assert found["ok"] == pytest.approx(0.992)


def test_always_failing_step_uses_all_its_attempts() -> None:
    f = chain(step("a", retry=Retry(attempts=3)), step("b"))
    assert runs(f, Rule(step="a", failure=1)) == pytest.approx({"a": 4, "b": 0})


def test_continue_keeps_the_run_going() -> None:
    f = chain(step("a", on_fault="continue"), step("b"))
    assert runs(f, Rule(step="a", failure=0.5))["b"] == 1


def test_loop_multiplies_and_nests() -> None:
    f = flow(
        [step("l", "loop"), step("m", "loop", scope="l"), step("x", scope="m"), step("after")],
        [link("start", "l"), link("l", "after")],
    )
    found = runs(f, Rule(step="l", items=4), Rule(step="m", items=2.5))
    assert found["m"] == 4
    assert found["x"] == pytest.approx(10)
    assert found["after"] == 1


def test_items_listed_in_the_export_need_no_assumption() -> None:
    f = flow([step("l", "loop", repeat=Repeat(items="a, b, c", count=3)), step("x", scope="l")], [link("start", "l")])
    passes = Passes(Graph(f), AssumptionLookup(Assumptions(), f))
    assert passes.of["x"].runs == 3
    assert passes.of["x"].evidence == "export"


def test_until_loop_is_held_by_its_cap() -> None:
    f = flow([step("l", "loop", repeat=Repeat(until="done", cap=2)), step("x", scope="l")], [link("start", "l")])
    # It goes on with 4 in 5, twice at most: 1 + 0.8.
    assert runs(f, Rule(step="l", rounds=5))["x"] == pytest.approx(1.8)


def test_guard_hands_failures_to_its_error_route() -> None:
    f = flow([step("g", "guard"), step("a", scope="g"), step("b", scope="g"), step("ok"), step("bad")],
             [link("start", "g"), link("a", "b"), link("g", "ok"), link("g", "bad", "error")])  # fmt: skip
    found = runs(f, Rule(step="a", failure=0.1), Rule(step="b", failure=0.2))
    assert found["bad"] == pytest.approx(1 - 0.9 * 0.8)
    assert found["ok"] == pytest.approx(0.72)


def test_cycle_is_the_geometric_series() -> None:
    f = flow(
        [step("a"), step("d", "decide"), step("end")],
        [link("start", "a"), link("a", "d"), link("d", "a", "case", "again"), link("d", "end", "case", "good")],
    )
    found = runs(f, Rule(step="d", case="again", share=0.2))
    assert found["a"] == pytest.approx(1 / (1 - 0.2))
    assert found["end"] == pytest.approx(1)


def test_cycle_without_end_stops_at_the_cap_and_says_so() -> None:
    f = flow(
        [step("a"), step("d", "decide"), step("end")],
        [link("start", "a"), link("a", "d"), link("d", "a", "case", "again"), link("d", "end", "case", "good")],
    )
    passes = Passes(Graph(f), AssumptionLookup(Assumptions(assume=(Rule(step="d", case="again", share=1.0),)), f))
    assert passes.of["a"].runs == pytest.approx(100)
    assert passes.capped == ["A"]


def test_disabled_step_lets_the_run_through() -> None:
    assert runs(chain(step("a", enabled=False), step("b"))) == {"a": 0, "b": 1}


def test_step_that_no_trigger_reaches_never_runs() -> None:
    f = flow([step("a"), step("lost"), step("b")], [link("start", "a"), link("lost", "b")])
    assert runs(f) == {"a": 1, "lost": 0, "b": 0}


def test_agent_turns_spread_over_its_tools() -> None:
    f = flow([ask("g", kind="agent", max_turns=7), step("t", "http"), step("u", "read"), step("mem", "memory")],
             [link("start", "g"), *[link(x, "g", "attach") for x in ("t", "u", "mem")]])  # fmt: skip
    passes = Passes(Graph(f), AssumptionLookup(Assumptions(), f)).of
    assert passes["g"].turns == pytest.approx((1 + 4 * 3 + 7) / 6)
    mean = (1 + 4 * 3 + 7) / 6
    assert passes["g"].turns2 == pytest.approx(mean**2 + (mean - 1) * (7 - mean) / 7)  # the PERT variance
    assert passes["t"].runs == passes["u"].runs == pytest.approx((passes["g"].turns - 1) / 2)
    assert passes["mem"].runs == 1


@pytest.mark.parametrize(("mode", "expected"), [("each", 6), ("all", 1), ("once", 3)])
def test_join_modes(mode: Any, expected: float) -> None:
    assert combine_arrivals([1, 2, 3], mode) == expected
    assert combine_arrivals([], mode) == 0


# -- random structures: the same flow as a tree, counted by an independent recursion -------------------------------


class Node:
    """seq | decide | loop | leaf, with what a recursion needs; ``build`` makes the graph of it."""

    def __init__(
        self, kind: str, parts: list[Node], shares: list[float], number: float, failure: float, tries: int
    ) -> None:
        self.kind, self.parts, self.shares = kind, parts, shares
        self.number, self.failure, self.tries = number, failure, tries


NUMBERS = st.sampled_from([0.0, 0.5, 1.0, 2.0, 3.0])
LEAF = st.builds(lambda f, r: Node("leaf", [], [], 0, f, r), st.sampled_from([0.0, 0.0, 0.1, 0.4]), st.integers(0, 2))


def _decide(parts: list[Node], weights: list[float]) -> Node:
    total = sum(weights[: len(parts)])
    return Node("decide", parts, [w / total for w in weights[: len(parts)]], 0, 0, 0)


def _inner(children: st.SearchStrategy[Node]) -> st.SearchStrategy[Node]:
    some = st.lists(children, min_size=2, max_size=3)
    weights = st.lists(st.floats(0.1, 1), min_size=3, max_size=3)
    return (
        st.builds(lambda p: Node("seq", p, [], 0, 0, 0), some)
        | st.builds(_decide, some, weights)
        | st.builds(lambda c, n: Node("loop", [c], [], n, 0, 0), children, NUMBERS)
        | st.builds(lambda p: Node("parallel", p, [], 0, 0, 0), some)
    )


TREES = st.recursive(LEAF, _inner, max_leaves=8)


class _Builder:
    def __init__(self) -> None:
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.rules: list[Rule] = []
        self.ids: dict[int, str] = {}

    def make(self, node: Node, scope: str | None, loose: list[Link]) -> list[Link]:
        if node.kind == "seq":
            for part in node.parts:
                loose = self.make(part, scope, loose)
            return loose
        name = f"n{len(self.steps)}"
        self.ids[id(node)] = name
        kind: Any = {"leaf": "shape", "decide": "decide", "loop": "loop", "parallel": "parallel"}[node.kind]
        retry = Retry(attempts=node.tries) if node.tries else None
        self.steps.append(Step(id=name, kind=kind, scope=scope, retry=retry))
        self.links += [Link(source=k.source, target=name, role=k.role, label=k.label) for k in loose]
        out = [Link(source=name, target="")]
        if node.kind == "leaf" and node.failure:
            self.rules.append(Rule(step=name, failure=node.failure))
        elif node.kind == "decide":
            out = []
            for i, part in enumerate(node.parts):
                self.rules.append(Rule(step=name, case=f"c{i}", share=node.shares[i]))
                out += self.make(part, scope, [Link(source=name, target="", role="case", label=f"c{i}")])
        elif node.kind == "loop":
            self.rules.append(Rule(step=name, items=node.number))
            self.make(node.parts[0], name, [])
        elif node.kind == "parallel":
            for part in node.parts:
                self.make(part, name, [])
        return out


def _expected(node: Node, arriving: float, found: dict[int, float]) -> float:
    """Attempts of every leaf, and the passes that come out: written without any graph."""
    if node.kind == "leaf":
        f = node.failure
        found[id(node)] = arriving * sum(f**k for k in range(node.tries + 1))
        return arriving * (1 - f ** (node.tries + 1))
    if node.kind == "seq":
        for part in node.parts:
            arriving = _expected(part, arriving, found)
        return arriving
    if node.kind == "decide":
        return sum(_expected(p, arriving * s, found) for p, s in zip(node.parts, node.shares, strict=True))
    if node.kind == "loop":
        _expected(node.parts[0], arriving * node.number, found)
        return arriving
    through = arriving
    for part in node.parts:
        through *= _expected(part, arriving, found) / arriving if arriving else 0
    return through


@settings(max_examples=draws(120), deadline=None)
@given(TREES)
def test_passes_agree_with_a_recursion_over_the_structure(tree: Node) -> None:
    made = _Builder()
    made.make(tree, None, [Link(source="start", target="")])
    f = flow(made.steps, made.links)
    expected: dict[int, float] = {}
    _expected(tree, 1.0, expected)
    found = runs(f, *made.rules)
    for key, amount in expected.items():
        assert found[made.ids[key]] == pytest.approx(amount, abs=1e-9)


def test_a_circle_is_gone_round_while_what_is_skipped_becomes_less() -> None:
    """Found by a long run: what runs and what is skipped made one and the same sum after two rounds, and that was taken for the end."""
    steps = [
        step("a", enabled=False),
        step("b", "decide", inclusive=True),
        step("c", "decide", inclusive=True),
        step("d", "decide"),
        step("e"),
    ]
    links = [
        link("start", "a"),
        link("a", "b"),
        link("a", "c"),
        link("b", "c", "case", "x"),
        link("c", "d", "case", "x"),
        link("d", "f", "case", "x"),
    ]
    links += [link("c", "e", "case", "y", after=("skip",)), link("d", "c", "case", "back")]
    found = runs(flow([*steps, step("f")], links))
    assert found["c"] == pytest.approx(0.5 / (1 - 0.25)) and found["d"] == pytest.approx(0.25 / (1 - 0.25))
