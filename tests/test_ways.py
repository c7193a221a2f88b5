"""What the shape of a flow says: order, reachability, dead ends, longest way, lineage, pattern, calls between flows."""

from __future__ import annotations

from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from any_shape import Drawn, any_flows
from builders import ask, chain, flow, link, step
from conftest import draws
from zeitbuch.core.graph.flow_calls import call_words, calls_of, shared_of, stores_of
from zeitbuch.core.graph.pattern_class import pattern_reason
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Binding, Connection, Estate, Flow, Ref, Repeat, Trigger
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.what_if import WhatIfSimulation


def reading(id: str, *sources: str, **more: object) -> object:
    refs = tuple(Ref(step=s, path="out") for s in sources)
    return step(id, inputs=(Binding("text", refs=refs, decided="data"),), **more)


def trusts(made: Flow) -> dict[tuple[str, str], str]:
    return {(r.reader, r.source): r.trust for r in Reachability(Graph(made)).reads}


@st.composite
def acyclic(draw: st.DrawFn) -> Flow:
    """Decisions and forks in any order, each link forward; steps wait for all that leads to them, or for none."""
    count = draw(st.integers(2, 7))
    kinds = [draw(st.sampled_from(["shape", "decide"])) for _ in range(count)]
    links = [link("start", "s0")]
    for b in range(1, count):
        sources = draw(st.sets(st.integers(0, b - 1), min_size=1, max_size=3))
        links += [link(f"s{a}", f"s{b}") for a in sorted(sources)]
    join = draw(st.sampled_from(["once", "all"]))
    return flow([step(f"s{i}", k, join=join) for i, k in enumerate(kinds)], links)


@settings(max_examples=draws(60), deadline=None)
@given(acyclic())
def test_always_before_holds_in_every_run(made: Flow) -> None:
    """Every choice of every decision is tried: what is said to run always before a step has run whenever the step does."""
    ways = Reachability(Graph(made))
    ids = [s.id for s in made.steps]
    out = {i: [k.target for k in made.links if k.source == i] for i in ids}
    choosing = [s.id for s in made.steps if s.kind == "decide" and out[s.id]]
    together = {i: set(ids) for i in ids}
    for choice in product(*[range(len(out[i])) for i in choosing]):
        ran = ran_in(made, dict(zip(choosing, choice, strict=True)))
        for i in ran:
            together[i] &= ran
    for i in ids:
        said = set(ways.always_before(i)) - {"start"}
        assert said <= together[i], (i, said)
        assert said <= ways.steps_before(i)


def ran_in(made: Flow, taken: dict[str, int]) -> set[str]:
    """The steps that run when each decision takes the way with this number; none where there is no such way."""
    ids = [s.id for s in made.steps]
    out = {i: [k.target for k in made.links if k.source == i] for i in ids}
    came: list[str] = []
    ran: set[str] = set()
    for i in ids:  # ids are in the order of the links
        wanted = sum(i in targets for targets in out.values()) if made.steps[0].join == "all" else 1
        if i == "s0" or came.count(i) >= max(1, wanted):
            ran.add(i)
            came += out[i][taken[i] :][:1] if i in taken else out[i]
    return ran


@settings(max_examples=150, deadline=None)
@given(acyclic(), st.data())
def test_what_happens_when_cases_are_chosen(made: Flow, data: st.DataObject) -> None:
    """Some decisions chosen, the others open (one with a single case may do nothing): certain is what runs in every way, perhaps what runs
    in some."""
    links = tuple(structs.replace(k, label=f"to {k.target}") for k in made.links)
    made = structs.replace(made, links=links)
    out = {s.id: [k for k in links if k.source == s.id] for s in made.steps}
    choosing = [s.id for s in made.steps if s.kind == "decide" and out[s.id]]
    fixed = {i: data.draw(st.integers(0, len(out[i]) - 1)) for i in choosing if data.draw(st.booleans())}
    given = Given(cases={i: (out[i][n].label,) for i, n in fixed.items()})
    told = {e.id: e.odds for e in WhatIfSimulation(Graph(made), given).tell_story().events}
    runs = []
    ways = {i: range(max(2, len(out[i]))) for i in choosing}
    for choice in product(*[[fixed[i]] if i in fixed else ways[i] for i in choosing]):
        runs.append(ran_in(made, dict(zip(choosing, choice, strict=True))))
    for step_id, odds in told.items():
        hits = sum(step_id in r for r in runs)
        assert odds == ("certain" if hits == len(runs) else "perhaps" if hits else "not"), step_id


def test_what_happens_from_the_command(demo: Path, run: Any) -> None:
    def told(*words: str) -> str:
        return str(run("explain", *words, "--source", "november", cwd=demo).out)

    text = told("Berth delay notices", "--case", "minor")
    assert (
        "3 steps run for certain. The run ends behind 8 ‘Log only’." in text
        and "2 By severity: It takes ‘minor’" in text
    )
    text = told("Crew swap approvals", "--case", "Allowed?=allowed", "--fails", "Change the rota")
    assert (
        "7 Change the rota: It fails: it is tried again once, and then the run goes on at 8" in text
        and "9 Tell both" in text
    )
    text = told("Lost property matching", "--empty", "Look up handed-in items")
    assert "4 perhaps: For each candidate: It has nothing to go over" in text and "Not run: 4.1" in text
    text = told("Customer letters", "--fails", "Whose matter is it?")
    assert "the export does not say whether ‘For each letter’ goes on with its next item." in " ".join(text.split())
    ran = run("explain", "Crew swap approvals", "--case", "nope", "--source", "november", cwd=demo)
    assert ran.code == 2 and "expected one case 'nope', found none" in ran.err and "allowed" in ran.err
    assert "story" in told("Berth delay notices", "--case", "minor", "--format", "json")
    step = told("Lost property matching", "Describe the lost item")
    assert "Is used by" in step and "For each candidate" not in step.split("Is used by")[0]


def told(made: Flow, **given: Any) -> dict[str, str]:
    return {e.id: e.odds for e in WhatIfSimulation(Graph(made), Given(**given)).tell_story().events}


def test_cases_with_several_links_inclusive_and_switched_off() -> None:
    links = [
        link("start", "pick"),
        link("pick", "a", "case", "x"),
        link("pick", "b", "case", "x"),
        link("pick", "c", "case", "y"),
        link("c", "d"),
    ]
    steps = [step("pick", "decide"), step("a"), step("b"), step("c", enabled=False), step("d")]
    made = flow(steps, links)
    assert told(made, cases={"pick": ("x",)}) == {
        "pick": "certain",
        "a": "certain",
        "b": "certain",
        "c": "not",
        "d": "not",
    }
    assert told(made, cases={"pick": ("y",)}) == {"pick": "certain", "a": "not", "b": "not", "c": "not", "d": "certain"}
    made = flow([step("pick", "decide", inclusive=True), *steps[1:]], links)
    assert set(told(made).values()) == {"certain", "perhaps", "not"} and told(made)["d"] == "perhaps"
    assert told(made, cases={"pick": ("x", "y")})["d"] == "certain"


def test_many_decisions_within_scopes_are_tried_once() -> None:
    steps, links = [], [link("start", "d0")]
    for i in range(10):
        steps += [
            step(f"d{i}", "decide"),
            step(f"g{i}", "group"),
            step(f"e{i}", "decide", scope=f"g{i}"),
            step(f"f{i}", scope=f"g{i}"),
        ]
        links += [
            link(f"d{i}", f"g{i}", "case", "x"),
            link(f"d{i}", f"d{i + 1}" if i < 9 else "z", "case", "y"),
            link(f"e{i}", f"f{i}", "case", "p"),
        ]
        links += [link(f"g{i}", f"d{i + 1}" if i < 9 else "z")]
    found = told(flow([*steps, step("z")], links), fails=frozenset({"f3"}))
    assert found["z"] == "perhaps" and found["d0"] == "certain"


def test_helpers_of_an_agent_in_a_scope_are_reached() -> None:
    made = flow(
        [
            step("each", "loop", repeat=Repeat(items="x")),
            ask("agent", kind="agent", scope="each"),
            step("tool", "tool"),
        ],
        [link("start", "each"), link("tool", "agent", "attach")],
    )
    assert Reachability(Graph(made)).unreachable == []


def test_before_joins_and_alternatives() -> None:
    made = flow(
        [step("fork"), step("a"), step("b"), reading("both", "a", "b"), step("pick", "decide"), step("c"), step("d"),
         reading("one", "c", "d", "both", "nowhere", "one")],
        [link("start", "fork"), link("fork", "a"), link("fork", "b"), link("a", "both"), link("b", "both"), link("both", "pick"),
         link("pick", "c", "case", "x"), link("pick", "d", "case", "y"), link("c", "one"), link("d", "one")],
    )  # fmt: skip
    found = trusts(made)
    assert found["both", "a"] == found["both", "b"] == "always"
    assert found["one", "c"] == found["one", "d"] == "sometimes"
    assert found["one", "both"] == "always" and found["one", "nowhere"] == "missing" and found["one", "one"] == "never"


def test_cycles_error_routes_and_loops() -> None:
    made = flow(
        [reading("try", "check"), step("check", "decide"), reading("log", "try"), step("each", "loop", repeat=Repeat(items="x")),
         reading("in", "each", "try", scope="each"), reading("end", "in", "each")],
        [link("start", "try"), link("try", "check"), link("check", "try", "case", "again"), link("check", "each", "case", "done"),
         link("try", "log", "error"), link("each", "end")],
    )  # fmt: skip
    found = trusts(made)
    assert found["try", "check"] == "later"
    assert found["log", "try"] == "always"  # the error route reads what the failed step left
    assert found["in", "each"] == "always" and found["in", "try"] == "always"
    assert found["end", "in"] == "sometimes" and found["end", "each"] == "always"  # a loop may have nothing to do
    ways = Reachability(Graph(made))
    assert ways.back_links == [("check", "try")] and ways.longest == ["try", "check", "each", "in", "end"]


_ABC = [link("start", "a"), link("a", "b"), link("b", "c")]


@pytest.mark.parametrize(
    ("made", "way"),
    [
        (flow([step("a"), step("b", enabled=False), step("c")], _ABC), ["a", "c"]),
        (flow([step("a"), step("b"), step("c"), step("d")], [*_ABC[:1], link("b", "c"), link("c", "d")]), ["a"]),
        (flow([step("a"), step("b"), step("c")], [*_ABC[:2], link("b", "c", after=("skip",))]), ["a", "b"]),
        (flow([step("a"), step("b", enabled=False), step("c")], [*_ABC[:2], link("b", "c", "error")]), ["a"]),
        (flow([step("a"), step("b", enabled=False), step("c")], [*_ABC[:2], link("b", "c", after=("skip",))]), ["a", "c"]),
        (flow([step("a"), step("b"), step("c"), step("d")], [*_ABC[:2], link("b", "c", after=("skip",)), link("c", "d")]), ["a", "c", "d"]),
        (flow([step("g", "group", enabled=False), step("a", scope="g"), step("b")], [link("start", "g"), link("g", "b")]), ["b"]),
        (flow([step("a"), step("b")], [link("a", "b")]), ["a", "b"]),
        (flow([], []), []),
    ],
)  # fmt: skip
def test_the_longest_way_is_one_that_runs(made: Flow, way: list[str]) -> None:
    assert Reachability(Graph(made)).longest == way


@settings(max_examples=draws(60), deadline=None)
@given(any_flows())
def test_steps_of_the_longest_way_may_run(drawn: Drawn) -> None:
    graph = Graph(drawn.flow)
    way = Reachability(graph).longest
    assert len(set(way)) == len(way) and set(way) <= steps_that_may_run(graph)


def test_what_a_failed_step_leaves_is_there_on_its_error_route_alone() -> None:
    steps = [step("a"), reading("h", "a"), step("b")]
    for error in (link("a", "h", "error"), link("a", "h", after=("failure",))):
        alone = flow(steps, [link("start", "a"), link("start", "b"), error])  # type: ignore[arg-type]
        assert trusts(alone) == {("h", "a"): "always"}
        other = structs.replace(alone, links=(*alone.links, link("b", "h")))
        assert trusts(other) == {("h", "a"): "sometimes"}


def test_unreachable_dead_ends_and_spread() -> None:
    made = flow(
        [step("a"), step("b"), step("c", effect="send"), step("lost"), step("after")],
        [link("start", "a"), link("a", "b"), link("a", "c"), link("lost", "after")],
    )
    ways = Reachability(Graph(made))
    assert ways.unreachable == ["lost", "after"] and ways.dead_ends == ["b", "after"]
    assert ways.widest_spread() == (2, 1) and ways.ends == ["b", "c", "after"]


def test_lineage_follows_what_is_made_of_a_value() -> None:
    made = chain(step("a"), reading("b", "a"), reading("c", "b"), reading("d", "c"), step("e"))
    assert [(r.source, r.reader) for r in Reachability(Graph(made)).follow_lineage("a")] == [
        ("a", "b"),
        ("b", "c"),
        ("c", "d"),
    ]
    assert Reachability(Graph(made)).follow_lineage("a", "other") == []


def test_reasons_of_patterns() -> None:
    tools = [step(f"t{i}", "tool") for i in range(3)]
    agent = ask("agent", kind="agent")
    made = flow([agent, *tools], [link("start", "agent"), *[link(t.id, "agent", "attach") for t in tools]])
    assert pattern_reason(Graph(made)) == "one agent with 3 tools and no memory: a dispatcher is not needed"
    assert pattern_reason(Graph(chain(step("a")))) == "no step uses a model"
    other = ask("other", kind="agent")
    made = flow([agent, other], [link("start", "agent"), link("other", "agent", "attach")])
    assert pattern_reason(Graph(made)) == "‘Agent’ may hand over to ‘Other’"


def test_calls_between_flows() -> None:
    hook = Trigger(id="w", kind="webhook", event="/berth/late")
    store = (Connection(id="k", name="Tables"),)
    a = flow(
        [step("x", "subflow", calls="b"), step("y", "http", inputs=(Binding("url", "https://desk.example/berth/late"),)),
         step("w", "write", effect="write", connection="k"), step("z", "subflow", calls="gone")],
        [link("start", "x"), link("x", "y"), link("y", "w")], id="a", name="A", connections=store,
    )  # fmt: skip
    b = flow(
        [step("r", "read", effect="read", connection="k")], [], id="b", name="B", triggers=(hook,), connections=store
    )
    c = flow([step("s")], [], id="c", name="C", triggers=(Trigger(id="f", kind="fault", event="A"),))
    estate = Estate(flows=(a, b, c))
    names = {f.id: f.title for f in estate.flows}
    assert [call_words(k, names) for k in calls_of(estate) + stores_of(estate)] == [
        "‘A’ calls ‘B’", "‘A’ starts by web request ‘B’", "‘A’ calls ‘gone’, which was not read", "‘A’ hands its faults to ‘C’",
        "‘A’ fills what is read by ‘B’ through ‘Tables’",
    ]  # fmt: skip
    assert [(s.name, s.flows, s.writers) for s in shared_of(estate)] == [("Tables", ("a", "b"), ("a",))]
