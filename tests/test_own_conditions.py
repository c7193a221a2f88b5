"""Steps with a condition of their own: a decision before the step, in every shape of export, counted like any other decision."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jetty
from jetty import HEAD, read, step
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.exact import Passes

KINDS = """
[[kind]]
operation = "look"
kind = "read"
[[kind]]
operation = "ask"
kind = "model"
[[kind]]
operation = "pick"
kind = "decide"
condition = "only_with"
[[kind]]
operation = "each"
kind = "loop"
[[kind]]
operation = "bell"
trigger = "manual"
[placeholders]
open = "<<"
close = ">>"
"""
STEP = 'own_condition = "only_with"\nskip_condition = "never_with"\noperation = "does"\n'
LISTED = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}[link]\nat = "$.ropes[*]"\nfrom = "0"\nto = "1"\n{KINDS}'
ORDERED = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}[order]\n{KINDS}'
TREE = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}{jetty.TREE}{KINDS}'
WAITING = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}[predecessors]\nat = "after"\n{KINDS}'


def arrows(flow: Flow) -> set[tuple[str, str, str]]:
    return {(link.source, link.target, link.label) for link in flow.links}


def passes(flow: Flow, shares: dict[str, float] | None = None) -> dict[str, float]:
    return jetty.passes(flow, *[Rule(share=value, step=key, case="yes") for key, value in (shares or {}).items()])


GATED = [step("a"), step("b", "ask", only_with="<<a.state>> == 'late'"), step("c")]


@pytest.mark.parametrize(
    ("dialect", "export"),
    [
        (LISTED, {"steps": GATED, "ropes": [["a", "b"], ["b", "c"]]}),
        (ORDERED, {"steps": GATED}),
        (TREE, {"steps": GATED}),
        (WAITING, {"steps": [GATED[0], {**GATED[1], "after": ["a"]}, {**GATED[2], "after": ["b"]}]}),
    ],
    ids=["links", "order", "tree", "predecessors"],
)
def test_a_condition_is_a_decision_before_its_step_in_every_shape(dialect: str, export: dict[str, Any]) -> None:
    flow, problems = read(dialect, export)
    assert [(one.id, one.kind, one.name) for one in flow.steps] == [
        ("a", "read", "A"),
        ("b.only_with", "decide", "B?"),
        ("b", "model", "B"),
        ("c", "read", "C"),
    ]
    gate = flow.steps[1]
    assert (gate.operation, gate.condition) == ("only_with", "<<a.state>> == 'late'")
    assert [ref.step for ref in gate.refs] == ["a"] and gate.origin is not None
    assert gate.origin.pointer == "/steps/1/only_with"
    assert arrows(flow) == {
        ("a", "b.only_with", ""),
        ("b.only_with", "b", "yes"),
        ("b.only_with", "c", "no"),
        ("b", "c", ""),
    }
    assert [link.label for link in flow.links if link.otherwise] == ["no"]
    assert problems == [] and flow.unread == {"jetty": 1} and flow.content.unread == 1
    assert passes(flow) == {"a": 1, "b.only_with": 1, "b": 0.5, "c": 1}
    assert passes(flow, {"b.only_with": 0.2})["b"] == pytest.approx(0.2)
    short, _ = read(dialect, export, outline=True)
    assert [one.kind for one in short.steps] == [one.kind for one in flow.steps]
    assert not any(
        one.condition or one.name or one.refs for one in short.steps if one.kind == "decide"
    )  # it masks none
    assert short.content.unread == 1 and {link[:2] for link in arrows(short)} == {link[:2] for link in arrows(flow)}


def test_a_skip_condition_is_turned_round_and_two_conditions_stand_one_behind_the_other() -> None:
    both = step("b", only_with="x > 1", never_with={"all": ["dry run"]})
    flow, _ = read(ORDERED, {"steps": [step("a"), both, step("c")]})
    assert arrows(flow) == {
        ("a", "b.only_with", ""), ("b.only_with", "b.never_with", "yes"), ("b.only_with", "c", "no"),
        ("b.never_with", "b", "no"), ("b.never_with", "c", "yes"), ("b", "c", ""),
    }  # fmt: skip
    assert flow.steps[2].condition == '{"all":["dry run"]}'
    assert passes(flow)["b"] == pytest.approx(0.25) and passes(flow)["c"] == pytest.approx(1)


def test_what_is_always_or_never_so_is_no_condition() -> None:
    steps = [
        step("a", only_with=True),
        step("b", only_with="false"),
        step("c", never_with=True),
        step("d", never_with=False),
    ]
    flow, _ = read(ORDERED, {"steps": [*steps, step("e", only_with=""), step("f", only_with=[])]})
    assert [(one.id, one.enabled) for one in flow.steps] == [
        ("a", True), ("b", False), ("c", False), ("d", True), ("e", True), ("f", True),
    ]  # fmt: skip


def test_where_unmet_stops_nothing_goes_round_the_step() -> None:
    dialect = ORDERED.replace('operation = "ask"', 'operation = "ask"\nunmet = "stop"')
    flow, _ = read(dialect, {"steps": GATED})
    assert ("b.only_with", "c", "no") not in arrows(flow)
    assert passes(flow)["c"] == pytest.approx(0.5)


def test_a_step_with_cases_is_passed_over_to_where_they_meet() -> None:
    ways = [{"steps": [step("x")]}, {"steps": [step("y")]}]
    dialect = TREE.replace(
        'operation = "pick"\nkind = "decide"\ncondition = "only_with"', 'operation = "pick"\nkind = "decide"'
    )
    flow, _ = read(dialect, {"steps": [step("a"), step("b", "pick", only_with="w", ways=ways), step("c")]})
    assert ("b.only_with", "c", "no") in arrows(flow) and ("b.only_with", "x", "no") not in arrows(flow)
    counted = passes(flow)
    assert (counted["x"], counted["y"], counted["c"]) == pytest.approx((0.25, 0.25, 1))


def test_what_a_decision_decides_by_is_no_condition_of_its_own() -> None:
    ways = [{"steps": [step("x")]}, {"steps": [step("y")]}]
    flow, _ = read(TREE, {"steps": [step("b", "pick", only_with="w", ways=ways), step("c")]})
    assert [one.id for one in flow.steps] == ["b", "x", "y", "c"] and flow.steps[0].condition == "w"


def test_a_block_is_passed_over_with_all_that_is_in_it() -> None:
    loop = step("b", "each", only_with="w", inside=[step("x", only_with="v"), step("y")])
    flow, _ = read(TREE, {"steps": [step("a"), loop, step("c")]})
    assert {(one.id, one.scope) for one in flow.steps if one.kind == "decide"} == {
        ("b.only_with", None),
        ("x.only_with", "b"),
    }
    counted = passes(flow)
    assert counted["x"] == pytest.approx(counted["y"] / 2) and counted["c"] == pytest.approx(1)


def test_branches_meet_at_the_decision_and_ids_stay_apart() -> None:
    steps = [step("a"), step("b"), step("c", only_with="w", mode="all"), step("c.only_with"), step("c", only_with="z")]
    dialect = LISTED.replace("[link]", 'join = "mode"\n[link]', 1)
    flow, problems = read(dialect, {"steps": steps, "ropes": [["a", "c"], ["b", "c"], ["c", "c.only_with"]]})
    gate = next(one for one in flow.steps if one.id == "c.only_with~2")
    assert gate.join == "all" and next(one for one in flow.steps if one.id == "c").join is None
    assert ("a", "c.only_with~2", "") in arrows(flow) and ("c.only_with~2", "c.only_with", "no") in arrows(flow)
    assert {"only_with of c": "z"} in flow.unread["unread parts"], problems


def test_a_helper_keeps_its_condition_unread() -> None:
    dialect = LISTED + '[[link]]\nat = "$.lends[*]"\nfrom = "0"\nto = "1"\nrole = "attach"\n'
    dialect = dialect.replace("[link]\n", "[[link]]\n", 1)
    steps = [step("a", "ask"), step("h", only_with="w")]
    flow, _ = read(dialect, {"steps": steps, "ropes": [], "lends": [["h", "a"]]})
    assert [one.id for one in flow.steps] == ["a", "h"]
    assert flow.unread["unread parts"] == [{"only_with of h": "w"}] and flow.content.unread == 2


@st.composite
def exports(draw: st.DrawFn) -> dict[str, Any]:
    count = draw(st.integers(2, 7))
    steps = [step(f"s{place}", **({"only_with": "w"} if draw(st.booleans()) else {})) for place in range(count)]
    ropes = [
        [f"s{first}", f"s{second}"]
        for second in range(1, count)
        for first in sorted(draw(st.sets(st.integers(0, second - 1), min_size=1, max_size=2)))
    ]
    return {"steps": steps, "ropes": ropes}


@settings(deadline=None, max_examples=60)
@given(exports())
def test_conditions_that_always_hold_change_nothing_and_such_that_never_do_switch_off(export: dict[str, Any]) -> None:
    flow, _ = read(LISTED, export)
    gates = [one.id for one in flow.steps if one.kind == "decide"]
    bare = [{key: value for key, value in one.items() if key != "only_with"} for one in export["steps"]]
    plain, _ = read(LISTED, {**export, "steps": bare})
    off = [{**one, "only_with": "only_with" not in one} for one in export["steps"]]
    never, _ = read(LISTED, {**export, "steps": off})
    for other, share in ((plain, 1.0), (never, 0.0)):
        expected = passes(other)
        counted = passes(flow, dict.fromkeys(gates, share))
        assert {key: counted[key] for key in expected} == pytest.approx(expected)


def test_a_step_goes_by_the_field_that_tells_what_it_is() -> None:
    dialect = ORDERED.split("[[kind]]")[0] + (
        '[[kind]]\nhas = "clock"\ntrigger = "schedule"\ncron = "clock"\n[[kind]]\nhas = ["mind", "brain"]\nkind = "model"\nmodel = ["mind", "brain"]\n'
        '[[kind]]\nhas = "door"\ntrigger = "webhook"\nevent = "door"\n[trigger]\nat = "$.starts[*]"\noperation = "sort"\n'
    )
    steps = [{"id": "a", "mind": "fulmar-mini-2"}, {"id": "b", "brain": "fulmar-mini-2"}, {"id": "c"}]
    export = {"steps": steps, "starts": [{"clock": "30 6 * * *"}, {"door": "/in"}]}
    for outline in (False, True):
        flow, _ = read(dialect, export, outline)
        assert [one.kind for one in flow.steps] == ["model", "model", "other"]
        assert [(one.kind, one.operation) for one in flow.triggers] == [("schedule", "clock"), ("webhook", "door")]
        assert flow.triggers[0].schedule is not None and flow.triggers[1].event == "/in"
    assert [one.operation for one in read(dialect, export)[0].steps] == ["mind", "mind", ""]


def test_helpers_are_read_beside_predecessors_and_no_trigger_starts_them() -> None:
    """Pointers were not read at all where steps name those before them: an agent had no tools, and these ran by themselves."""
    dialect = f'{WAITING}[[pointer]]\nat = "uses"\nrole = "attach"\nreversed = true\n'
    steps = [step("t", "bell"), step("a", "ask", uses=["h"]), step("h"), step("c", after=["a"])]
    for outline in (False, True):
        flow, problems = read(dialect, {"steps": steps}, outline)
        assert {(link.source, link.target, link.role) for link in flow.links} == {
            ("t", "a", "next"), ("a", "c", "next"), ("h", "a", "attach"),
        }  # fmt: skip
        assert problems == []


LOOPED = LISTED.replace('from = "0"\nto = "1"', 'from = "0"\nto = "1"\noutlet = "2"') + (
    '[[outlet]]\nmatch = "each"\nrole = "body"\n[[outlet]]\nmatch = "done"\nrole = "next"\nlabel = ""\n'
)


def test_ways_into_the_rounds_of_a_loop_put_what_lies_there_into_it() -> None:
    """A loop within a loop, each drawn as a step with two ways out, and ways back."""
    steps = [step(key, "each" if key in "lm" else "ask") for key in "almxyzc"]
    ropes = [["a", "l", ""], ["l", "x", "each"], ["x", "m", ""], ["m", "y", "each"], ["y", "m", ""], ["m", "z", "done"]]
    export = {"steps": steps, "ropes": [*ropes, ["z", "l", ""], ["l", "c", "done"]]}
    for outline in (False, True):
        flow, problems = read(LOOPED, export, outline)
        assert {one.id: one.scope for one in flow.steps} == {
            "a": None, "l": None, "m": "l", "x": "l", "y": "m", "z": "l", "c": None,
        }  # fmt: skip
        assert {link[:2] for link in arrows(flow)} == {("a", "l"), ("x", "m"), ("m", "z"), ("l", "c")}
        assert problems == []
    flow, _ = read(LOOPED, export)
    rules = (Rule(items=4, step="l"), Rule(items=3, step="m"))
    found = Passes(Graph(flow), AssumptionLookup(Assumptions(assume=rules), flow)).of
    assert {key: float(found[key].runs) for key in "axyzc"} == pytest.approx({"a": 1, "x": 4, "y": 12, "z": 4, "c": 1})


def test_what_a_way_back_says_stays_unread() -> None:
    dialect = LOOPED.replace('outlet = "2"', 'outlet = "2"\nlabel = "3"')
    steps = [step("l", "each"), step("p", "pick"), step("x")]
    ropes = [["l", "p", "each", ""], ["p", "x", "", "more"], ["p", "l", "", "enough"]]
    flow, _ = read(dialect, {"steps": steps, "ropes": ropes})
    assert {one.id: one.scope for one in flow.steps} == {"l": None, "p": "l", "x": "l"}
    assert [(link.source, link.target, link.label) for link in flow.links] == [("p", "x", "more")]
    assert flow.unread["unread parts"] == [{"case of p": {"label": "enough"}}]


def test_a_way_into_what_is_reached_without_the_rounds_is_one_like_others() -> None:
    steps = [step("l", "each"), step("x"), step("c")]
    flow, _ = read(LOOPED, {"steps": steps, "ropes": [["l", "c", "each"], ["l", "c", "done"], ["a", "x", ""]]})
    assert [one.scope for one in flow.steps] == [None, None, None]
    assert {link[:2] for link in arrows(flow)} == {("l", "c")}
    flow, _ = read(LOOPED, {"steps": [step("a"), step("x")], "ropes": [["a", "x", "each"]]})
    assert flow.steps[1].scope is None and {link[:2] for link in arrows(flow)} == {("a", "x")}  # no loop


def test_the_condition_of_a_step_that_decides_nothing_is_its_own() -> None:
    """It was read, and nothing followed from it. What has cases goes by it."""
    dialect = f'{HEAD}[step]\nat = "$.steps[*]"\noperation = "does"\ncondition = "test"\n[[link]]\nat = "$.ropes[*]"\nfrom = "0"\nto = "1"\n'
    dialect += '[[link]]\nat = "$.answers[*]"\nfrom = "0"\nto = "1"\nlabel = "2"\nrole = "case"\n' + KINDS
    steps = [step("a", test="w"), step("b", "ask", test="v"), step("c"), step("d")]
    export = {"steps": steps, "ropes": [["a", "b"]], "answers": [["b", "c", "yes"], ["b", "d", "no"]]}
    for outline in (False, True):
        flow, _ = read(dialect, export, outline)
        assert [one.id for one in flow.steps] == ["a.test", "a", "b", "c", "d"]
    flow, _ = read(dialect, export)
    assert [one.condition for one in flow.steps] == ["w", None, "v", None, None]
    assert passes(flow)["a"] == pytest.approx(0.5)
