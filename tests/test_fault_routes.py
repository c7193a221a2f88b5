"""Where a fault goes: in words as in what is counted."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from msgspec import structs

from any_shape import Drawn, any_flows
from builders import flow, link, step
from conftest import draws
from zeitbuch.core.graph.fault_routes import fault_route
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Link, Repeat, Retry
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.first_sheet.failing import failing_lines
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.sentences import failing_words, on_error
from zeitbuch.core.report.what_if import WhatIfSimulation

_PLAIN = "It fails. Nothing takes the fault, and the branch ends there."


def _within(kind: str, *ways: Link, outer: str = "", **more: Any) -> Flow:
    """A step a in a block g (of another block o), and a step b."""
    steps = [step("g", kind, scope="o" if outer else None, **more), step("a", "http", scope="g"), step("b", "http")]
    return flow([*([step("o", outer)] if outer else []), *steps], [link("start", "o" if outer else "g"), *ways])


def _alone(*ways: Link, **more: Any) -> Flow:
    return flow([step("a", "http", **more), step("b", "http"), step("c", "http")], [link("start", "a"), *ways])


@pytest.mark.parametrize(
    ("f", "words"),
    [
        (_alone(link("a", "b")), _PLAIN),
        (_alone(link("a", "b", "error")), "It fails: the run goes on at 2 ‘B’."),
        (_alone(link("a", "b", after=("failure",))), "It fails: the run goes on at 2 ‘B’."),
        (_alone(link("a", "b", after=("success", "failure"))), "It fails: the run goes on at 2 ‘B’."),
        (_alone(link("a", "b", "error", after=("timeout",))), _PLAIN),
        (_alone(link("a", "b", "error", after=("skip",))), _PLAIN),
        (_alone(link("a", "b"), on_fault="continue"), "It fails: the run goes on as if nothing had happened."),
        (_alone(link("a", "b", "error", after=("skip",)), link("a", "c"), on_fault="continue"), "It fails: the run goes on as if nothing had happened."),
        (_alone(link("a", "b", "error"), retry=Retry(attempts=1)), "It fails: it is tried again once, and then the run goes on at 2 ‘B’."),
        (_within("group", link("g", "b", "error")), "It fails. ‘G’ around it fails with it, and the run goes on at 2 ‘B’."),
        (_within("parallel", link("g", "b"), on_fault="continue"), "It fails. ‘G’ around it fails with it, and the run goes on as if nothing had happened."),
        (_within("guard", link("g", "b", "error")), "It fails. ‘G’ around it takes the fault, and the run goes on at 2 ‘B’."),
        (_within("guard", link("g", "b")), _PLAIN),
        (_within("guard", link("o", "b", "error"), outer="group"), "It fails. ‘O’ around it fails with it, and the run goes on at 2 ‘B’."),
        (_within("loop", link("g", "b"), repeat=Repeat(on_item_fault="continue")), "It fails. Nothing takes the fault; ‘G’ goes on with its next item."),
        (_within("loop", link("g", "b")), "It fails. Nothing takes the fault; the export does not say whether ‘G’ goes on with its next item."),
        (_within("loop", link("g", "b"), repeat=Repeat(until="done")), "It fails. Nothing takes the fault; the export does not say whether ‘G’ goes on with its next round."),
        (_within("loop", link("g", "b", "error"), repeat=Repeat(on_item_fault="stop")), "It fails. ‘G’ ends, and the run goes on at 2 ‘B’."),
        (_within("loop", link("g", "b"), repeat=Repeat(on_item_fault="stop")), "It fails. Nothing takes the fault; ‘G’ ends."),
        (_alone(link("a", "b"), retry=Retry(attempts=0)), _PLAIN),
        (
            _within("guard", link("g", "b", "error"), retry=Retry(attempts=1)),
            "It fails. ‘G’ around it is tried again once, and then takes the fault, and the run goes on at 2 ‘B’.",
        ),
        (
            _within("guard", link("g", "b"), retry=Retry(attempts=2)),
            "It fails. ‘G’ around it is tried again up to 2 times, and then nothing takes the fault, and the branch ends there.",
        ),
        (
            _within("group", link("o", "b", "error"), outer="group", retry=Retry(attempts=1)),
            "It fails. ‘G’ around it is tried again once, and then ‘O’ around it fails with it, and the run goes on at 2 ‘B’.",
        ),
        (
            _within("guard", outer="loop", retry=Retry(attempts=1)),
            "It fails. ‘G’ around it is tried again once, and then the export does not say whether ‘O’ goes on with its next item.",
        ),
        (_within("guard", outer="loop"), "It fails. Nothing takes the fault; the export does not say whether ‘O’ goes on with its next item."),
    ],
)  # fmt: skip
def test_what_follows_a_failure_in_words(f: Flow, words: str) -> None:
    graph = Graph(f)
    assert failing_words(graph, graph.steps["a"]) == words


def test_a_way_for_time_outs_is_none_for_failures() -> None:
    graph = Graph(_alone(link("a", "b", "error", after=("timeout",))))
    assert on_error(graph, graph.steps["a"]) == "If it takes too long, the run goes on at 2 ‘B’."
    assert failing_lines(graph, steps_that_may_run(graph)) == [
        "When ‘A’ takes too long: the run goes on at 2 ‘B’.",
        "Any other failure ends its branch, and nobody is told.",
    ]
    graph = Graph(_alone(link("a", "b", "error", after=("failure",)), link("a", "c", "error", after=("timeout",))))
    assert on_error(graph, graph.steps["a"]) == (
        "If it fails, the run goes on at 2 ‘B’. If it takes too long, the run goes on at 3 ‘C’."
    )


def test_a_frame_fails_with_nothing() -> None:
    """A group over whose border links go is no block."""
    steps = [step("g", "group"), step("a", "http", scope="g"), step("c", "http", scope="g"), step("b", "http")]
    graph = Graph(flow(steps, [link("start", "a"), link("a", "c"), link("c", "b", "error")]))
    assert fault_route(graph, graph.steps["a"]).through == ()
    assert fault_route(graph, graph.steps["c"]).targets == ("b",)


@settings(max_examples=draws(150), deadline=None)
@given(any_flows(), st.data())
def test_what_takes_a_fault_is_what_a_story_tells(drawn: Drawn, data: st.DataObject) -> None:
    of_items = st.sampled_from(["continue", "stop"])
    loops = {one.id: Repeat(on_item_fault=data.draw(of_items)) for one in drawn.flow.steps if one.kind == "loop"}
    f = structs.replace(
        drawn.flow,
        steps=tuple(structs.replace(one, repeat=loops.get(one.id, one.repeat)) for one in drawn.flow.steps),
    )
    blocks = ("loop", "guard", "group", "parallel")
    failing = [one.id for one in f.steps if one.enabled and one.kind not in blocks]
    assume(failing and not any(one.kind == "end" for one in f.steps))
    name = data.draw(st.sampled_from(failing))
    graph = Graph(f)
    found = fault_route(graph, graph.steps[name])
    told = WhatIfSimulation(graph, Given(fails=frozenset({name})))
    try:
        odds = {event.id: event.odds for event in told.tell_story().events}
    except ZeitbuchError:
        assume(False)  # too many ways
    if odds.get(name, "not") == "not":
        return
    if found.end == "nothing":
        assert odds[name] != "certain" or told.goes_through == "not"
    else:
        assert told.goes_through != "not"
    if found.at == name:
        alone = [one for one in found.targets if len([k for k in graph.arriving[one] if k.role != "attach"]) == 1]
        assert all(odds[one] != "not" for one in alone if graph.steps[one].enabled)
