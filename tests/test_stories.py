"""Stories of what happens when steps fail or cases are taken, held against what is counted for the same circumstances."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from msgspec import structs

from any_shape import Drawn, any_flows
from builders import START, flow, link, step
from conftest import draws
from test_sampled import both
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Repeat, Trigger
from zeitbuch.core.passes.plan import Node, nodes_of
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.core.report.case_words import case_word
from zeitbuch.core.report.impact.spread import FlowLoss
from zeitbuch.core.report.possible_runs import Given, PossibleRuns
from zeitbuch.core.report.what_if import Story, WhatIfSimulation, case_links

_TOLD_APART = "what is skipped where more than one pass may come"  # a story goes through one pass of each step


def _told(f: Flow, given: Given) -> Story:
    try:
        return WhatIfSimulation(Graph(f), given).tell_story()
    except ZeitbuchError:
        assume(False)  # too many ways
        raise


def _agree(f: Flow, given: Given, rules: list[Rule]) -> None:
    """What does not run in a story is counted nowhere, what runs for certain is counted in every run."""
    exact, sample = both(f, [*rules, *[Rule(step=one.id, items=2.0) for one in f.steps]], 3000)
    assume(_TOLD_APART not in exact.inexact)
    odds = {event.id: event.odds for event in _told(f, given).events}
    for name, drawn in sample.of.items():
        counted = float(exact.of[name].runs) > 0 if exact.exact else bool(drawn.runs.any())
        if name in odds:
            assert (odds[name] != "not") == counted, name
            assert odds[name] != "certain" or int(drawn.runs.min()) >= 1, name


def _with_loops_that_go_on(f: Flow) -> Flow:
    """Where an export does not say what a loop does when an item fails, a story tells both."""
    return structs.replace(
        f,
        steps=tuple(
            structs.replace(one, repeat=structs.replace(one.repeat or Repeat(), on_item_fault="continue"))
            if one.kind == "loop"
            else one
            for one in f.steps
        ),
    )


@settings(max_examples=draws(120), deadline=None)
@given(any_flows(), st.data())
def test_stories_of_failures_say_what_is_counted(drawn: Drawn, data: st.DataObject) -> None:
    f = _with_loops_that_go_on(drawn.flow)
    failing = [one.id for one in f.steps if one.enabled and one.kind not in ("loop", "guard", "group", "parallel")]
    assume(failing)
    name = data.draw(st.sampled_from(failing))
    _agree(f, Given(fails=frozenset({name})), [Rule(step=name, failure=1.0)])


@settings(max_examples=draws(120), deadline=None)
@given(any_flows(), st.data())
def test_stories_of_cases_say_what_is_counted(drawn: Drawn, data: st.DataObject) -> None:
    f = _with_loops_that_go_on(drawn.flow)
    graph = Graph(f)
    deciding = [one for one in f.steps if one.enabled and one.id in graph.deciding and not one.inclusive]
    cases = [(one.id, link) for one in deciding for link in case_links(graph, one)]
    assume(cases)
    name, link_ = data.draw(st.sampled_from(cases))
    label = case_word(graph, link_)
    others = {case_word(graph, one) for one in case_links(graph, graph.steps[name])} - {label}
    rules = [Rule(step=name, case=label, share=1.0), *[Rule(step=name, case=one, share=0.0) for one in others]]
    assume(all(one.label for one in case_links(graph, graph.steps[name])))
    _agree(f, Given(cases={name: (label,)}), rules)


SECOND = Trigger(id="second", kind="manual")


def _guarded(inner: str) -> Flow:
    """A guard in which one of two cases ends in a step that ends the run, or fails."""
    steps = [step("g", "guard"), step("d", "decide", scope="g"), step("x", inner, scope="g", ends="run"), step("y", "http", scope="g"), step("z", "http")]  # fmt: skip
    return flow(steps, [link("start", "g"), link("d", "x", "case", "one"), link("d", "y", "case", "two"), link("g", "z")])  # fmt: skip


def _lines(*links: tuple[str, ...], off: str = "", second: bool = False) -> Flow:
    """Steps a, b, c with links: source, target, then role or outcomes."""
    made = [
        link(one[0], one[1], "case", one[1]) if one[2:] == ("case",) else link(one[0], one[1], after=one[2:])  # type: ignore[arg-type]
        for one in links
    ]
    kinds = {one[0] for one in links if one[2:] == ("case",)}
    steps = [step(name, "decide" if name in kinds else "http", enabled=name not in off) for name in "abc"]
    f = flow(steps, made)
    return structs.replace(f, triggers=(START, SECOND)) if second else f


@pytest.mark.parametrize(
    ("f", "given_", "wanted"),
    [
        # A direct way from a trigger waits for the longer one, which a step that is off does not let through.
        (_lines(("start", "a"), ("start", "b"), ("a", "b", "success"), off="a"), Given(), "a not, b not, c not"),
        (_lines(("start", "a"), ("a", "b", "skip"), off="a"), Given(), "a not, b certain, c not"),
        (_lines(("start", "a"), ("second", "b"), second=True), Given(), "a perhaps, b perhaps, c not"),
        (_lines(("start", "a"), ("a", "b", "case"), ("b", "c")), Given(), "a certain, b perhaps, c perhaps"),
        (_lines(("start", "a"), ("a", "b", "case"), ("b", "c")), Given(cases={"a": ("b",)}), "a certain, b certain, c certain"),
        (_lines(("start", "a"), ("a", "b"), ("b", "c", "failure")), Given(fails=frozenset("b")), "a certain, b certain, c certain"),
        (_guarded("end"), Given(), "g certain, d certain, x perhaps, y perhaps, z perhaps"),
        (_guarded("http"), Given(fails=frozenset("x")), "g certain, d certain, x perhaps, y perhaps, z perhaps"),
    ],
)  # fmt: skip
def test_what_runs_for_certain(f: Flow, given_: Given, wanted: str) -> None:
    story = _told(f, given_)
    found = {event.id: event.odds for event in story.events}
    assert found == dict(one.split() for one in wanted.split(", "))


def test_what_is_in_a_block_that_is_not_reached_does_not_run() -> None:
    f = _guarded("end")
    f = structs.replace(
        f, steps=(step("s", "http"), *f.steps), links=(link("start", "s"), link("s", "g"), *f.links[1:])
    )
    story = _told(f, Given(fails=frozenset({"s"})))
    assert {event.odds for event in story.events if event.id != "s"} == {"not"}


def test_a_run_may_end_in_a_block() -> None:
    assert _told(_guarded("end"), Given()).ends == (
        "2 steps run for certain, 3 perhaps. It ends behind 1 ‘G’ or 2 ‘Z’."
    )


def test_what_goes_round_leaves_as_other_cases_do() -> None:
    """A decision in a block goes back to itself, or on to the end of the run: nothing runs behind the block."""
    steps = [step("g", "group"), step("d", "decide", scope="g"), step("x", "end", scope="g", ends="run"), step("z", "http")]  # fmt: skip
    cases = [link("d", "x", "case", "on"), link("d", "d", "case", "again")]
    story = _told(flow(steps, [link("start", "g"), *cases, link("g", "z")]), Given())
    assert {event.id: event.odds for event in story.events} == {
        "g": "certain", "d": "certain", "x": "perhaps", "z": "not",
    }  # fmt: skip


def _top_of(graph: Graph, name: str) -> str:
    while (scope := graph.steps[name].scope) is not None:
        name = scope
    return name


@settings(max_examples=draws(120), deadline=None)
@given(any_flows(), st.data())
def test_what_runs_before_a_step_has_run_whenever_it_does(drawn: Drawn, data: st.DataObject) -> None:
    """Whatever fails, whatever cases are taken: what has always succeeded before a step has run, and nothing in it was left out."""
    graph = Graph(drawn.flow)
    ways = Reachability(graph)
    failing = data.draw(st.sampled_from(["", *[one.id for one in drawn.flow.steps if one.enabled]]))
    runs = PossibleRuns(graph, Given(fails=frozenset({failing} - {""})))
    nodes = {node.step.id: node for node in nodes_of(runs.plan.top)}
    try:
        possible = runs.of_level(runs.plan.top)
    except ZeitbuchError:
        assume(False)  # too many ways
    for run in possible:
        for name in run.ran:
            before = [one for one in ways.always_before(name) if one in nodes and nodes[one].enabled]
            tops = {one: _top_of(graph, one) for one in before}
            assert all(top in run.ran for top in tops.values() if nodes[top].enabled and top != name)
            if failing:
                assert failing not in before or _goes_on(drawn.flow, failing)
            else:
                inside = [one for one, top in tops.items() if nodes[top].enabled and one != top and top != name]
                assert all(_surely_runs(graph, runs, nodes, one) for one in inside)


def _goes_on(f: Flow, name: str) -> bool:
    """Whether what fails goes on by ways of what succeeds."""
    both = [one for one in f.links if one.source == name and "success" in one.after and {"failure", "timeout"} & set(one.after)]  # fmt: skip
    return bool(both) or any(one.id == name and one.on_fault == "continue" for one in f.steps)


def _surely_runs(graph: Graph, runs: PossibleRuns, nodes: dict[str, Node], name: str) -> bool:
    """Whether a step has run wherever the blocks around it are through."""
    while (scope := graph.steps[name].scope) is not None:
        inner = nodes[scope].inner
        assert inner is not None
        if nodes[scope].repeats:
            return True
        if any(run.outcome == "through" and name not in run.ran for run in runs.of_level(inner)):
            return False
        name = scope
    return True


def test_only_decisions_that_a_run_comes_to_make_ways() -> None:
    """Thirty filters one behind the other, each with the one case that goes on; and too many cases of which any may be taken."""
    names = [f"d{place}" for place in range(30)]
    links = [link("start", "d0"), *[link(a, b, "case", "on") for a, b in pairwise(names)]]
    story = _told(flow([step(name, "decide") for name in names], links), Given())
    odds = [event.odds for event in story.events]
    assert odds == ["certain", *["perhaps"] * 29]
    cases = [link("d", name, "case", name) for name in names]
    steps = [step("d", "decide", inclusive=True), *[step(name, "http") for name in names]]
    many = flow(steps, [link("start", "d"), *cases])
    with pytest.raises(ZeitbuchError, match="ways through the open decisions"):
        WhatIfSimulation(Graph(many), Given()).tell_story()


def test_of_several_passes_each_takes_a_case_of_its_own() -> None:
    """A step to which two triggers' ways come as two passes in the runs of one of them: its cases meet there."""
    steps = [
        step("s0", enabled=False),
        step("s1", "decide", join="each"),
        step("s2"),
        step("s3"),
        step("z", join="all"),
    ]
    cases = [link("s1", "s2", "case", "a"), link("s1", "s3", "case", "b")]
    links = [link("start", "s0"), link("start", "s1"), link("s0", "s1"), *cases, link("s2", "z"), link("s3", "z")]
    assert {event.id: event.odds for event in _told(flow(steps, links), Given()).events}["z"] == "perhaps"
    once = flow(steps, [one for one in links if (one.source, one.target) != ("start", "s1")])
    assert {event.id: event.odds for event in _told(once, Given()).events}["z"] == "not"


def test_what_no_pass_comes_to_runs_before_nothing() -> None:
    """Found by a long run: a block ends with a step that waits for what follows the failure of a step that is off; and one that waits for two
    cases of which one is taken."""
    steps = [step("g", "group"), step("off", "http", scope="g", enabled=False), step("rescue", "http", scope="g")]
    steps += [step("both", "http", scope="g", join="all"), step("last", "http")]
    links = [
        link("start", "g"),
        link("off", "rescue", "error"),
        link("off", "both"),
        link("rescue", "both"),
        link("g", "last"),
    ]
    assert Reachability(Graph(flow(steps, links))).always_before("last") == ["start", "g", "off"]
    cases = [step("d", "decide", scope="g"), *[step(name, "http", scope="g") for name in ("x", "y")], steps[3]]
    links = [
        link("start", "g"),
        link("d", "x", "case", "x"),
        link("d", "y", "case", "y"),
        link("x", "both"),
        link("y", "both"),
        link("g", "last"),
    ]
    assert Reachability(Graph(flow([steps[0], *cases, steps[4]], links))).always_before("last") == ["start", "g", "d"]


def _circle(*extra: Trigger) -> Flow:
    """Fetch, and decide: again, or send."""
    links = [link("start", "a"), link("a", "d"), link("d", "a", "case", "again"), link("d", "s", "case", "done")]
    f = flow([step("a", "http"), step("d", "decide"), step("s", "send")], links)
    return structs.replace(f, triggers=(START, *extra)) if extra else f


def test_a_case_that_is_always_taken_back_has_no_end() -> None:
    """Of a decision that is left open another case is taken at last, of one that is given none."""
    story = _told(_circle(), Given(cases={"d": ("again",)}))
    assert story.ends == "2 steps run for certain. It goes round without end while this is so."
    assert _told(_circle(), Given()).ends == "2 steps run for certain, 1 perhaps. It ends behind 3 ‘S’."
    # What another trigger starts, where the case is not asked for, is no end of the circle.
    other = structs.replace(_circle(SECOND), links=(*_circle().links, link("second", "s")))
    told = WhatIfSimulation(Graph(other), Given(cases={"d": ("again",)}))
    assert told.tell_story().ends.endswith("It ends behind 3 ‘S’. It may go round without end while this is so.")
    assert told.goes_through == "perhaps"


def test_a_failure_that_is_tried_for_ever_does_not_go_through() -> None:
    """Fetch; when it fails wait, and fetch again. If it fails each time nothing else ever happens."""
    links = [link("start", "a"), link("a", "w", "error"), link("w", "a"), link("a", "s")]
    f = flow([step("a", "http"), step("w", "wait"), step("s", "send")], links)
    told = WhatIfSimulation(Graph(f), Given(fails=frozenset({"a"})))
    assert told.tell_story().ends == "2 steps run for certain. It goes round without end while this is so."
    assert told.goes_through == "not"
    assert WhatIfSimulation(Graph(f), Given()).goes_through == "certain"
    story = FlowLoss(f)
    story.touches(f.steps[0], "is the step", "certain")
    story.tell()
    assert story.result().ending == "stops" and "without end" in story.result().notes[0]


def test_what_follows_a_block_that_has_no_end_is_open() -> None:
    links = [link("start", "g"), link("d", "d", "case", "again"), link("d", "x", "case", "on"), link("g", "z")]
    steps = [step("g", "guard"), step("d", "decide", scope="g"), step("x", "http", scope="g"), step("z", "http")]
    story = _told(flow(steps, links), Given(cases={"d": ("again",)}))
    assert {event.id: event.odds for event in story.events} == {
        "g": "certain", "d": "certain", "x": "not", "z": "perhaps",
    }  # fmt: skip
    assert story.events[0].words == "What is in it goes round without end while this is so; what follows is open."
    assert story.ends.endswith("It ends behind 2 ‘Z’. It may go round without end while this is so.")


def test_of_several_passes_each_fails_or_does_not() -> None:
    """A block to which two cases' ways come as two passes: one may fail and the other may not, so that what waits for both runs."""
    steps = [step("d", "decide", inclusive=True), step("x"), step("y"), step("g", "guard", join="each")]
    steps += [step("c", "decide", scope="g"), step("f", "http", scope="g"), step("k", "http", scope="g")]
    steps += [step("good"), step("bad"), step("both", join="all")]
    links = [
        link("start", "d"),
        link("d", "x", "case", "x"),
        link("d", "y", "case", "y"),
        link("x", "g"),
        link("y", "g"),
    ]
    links += [link("c", "f", "case", "f"), link("c", "k", "case", "k")]
    links += [link("g", "good"), link("g", "bad", "error"), link("good", "both"), link("bad", "both")]
    given_ = Given(fails=frozenset({"f"}))
    odds = {event.id: event.odds for event in _told(flow(steps, links), given_).events}
    assert odds["both"] == "perhaps"
    one = flow(steps, [way for way in links if way.source != "y"])
    assert {event.id: event.odds for event in _told(one, given_).events}["both"] == "not"
