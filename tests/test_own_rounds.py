"""Steps that repeat themselves: a loop around the step, in every shape of export, counted like any other loop."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jetty
from conftest import Run
from jetty import HEAD, passes, read, step
from scores import read_with
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.readers.infer.questions import apply_answers
from zeitbuch.readers.infer.suggest import suggest_dialect

KINDS = """
[[kind]]
operation = "look"
kind = "read"
[[kind]]
operation = "ask"
kind = "model"
model = "mind"
[[kind]]
operation = "pick"
kind = "decide"
condition = "test"
[[kind]]
operation = "each"
kind = "loop"
items = "times"
[[kind]]
operation = "bell"
trigger = "manual"
[placeholders]
open = "<<"
close = ">>"
"""
STEP = """operation = "does"
own_condition = "only_with"
own_items = "for_all"
own_until = "again.until"
own_cap = "again.at_most"
concurrency = "side_by_side"
retries = "tries"
on_fault = "trouble"
on_faults = { leave = "route", on = "continue" }
"""
ROPES = """[[link]]
at = "$.ropes[*]"
from = "0"
to = "1"
[[link]]
at = "$.fault_ropes[*]"
from = "0"
to = "1"
role = "error"
[[link]]
at = "$.help[*]"
from = "0"
to = "1"
role = "attach"
"""
LISTED = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}{ROPES}{KINDS}'
ORDERED = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}[order]\n{KINDS}'
TREE = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}{jetty.TREE}{KINDS}'
WAITING = f'{HEAD}[step]\nat = "$.steps[*]"\n{STEP}[predecessors]\nat = "after"\n{KINDS}'


def arrows(flow: Flow) -> set[tuple[str, str]]:
    return {(link.source, link.target) for link in flow.links}


REPEATED = [step("a"), step("b", "ask", for_all="<<a.letters>>", side_by_side=4, tries=2), step("c")]


@pytest.mark.parametrize(
    ("dialect", "export"),
    [
        (LISTED, {"steps": REPEATED, "ropes": [["a", "b"], ["b", "c"]]}),
        (ORDERED, {"steps": REPEATED}),
        (TREE, {"steps": REPEATED}),
        (WAITING, {"steps": [REPEATED[0], {**REPEATED[1], "after": ["a"]}, {**REPEATED[2], "after": ["b"]}]}),
    ],
    ids=["links", "order", "tree", "predecessors"],
)
def test_a_step_that_goes_over_items_stands_in_a_loop_in_every_shape(dialect: str, export: dict[str, Any]) -> None:
    flow, problems = read(dialect, export)
    assert [(one.id, one.kind, one.name, one.scope) for one in flow.steps] == [
        ("a", "read", "A", None),
        ("b.for_all", "loop", "B (repeated)", None),
        ("b", "model", "B", "b.for_all"),
        ("c", "read", "C", None),
    ]
    loop, inner = flow.steps[1:3]
    assert loop.repeat is not None and (loop.repeat.items, loop.repeat.count) == ("<<a.letters>>", None)
    assert [ref.step for ref in loop.repeat.refs] == ["a"] and loop.operation == "for_all"
    assert loop.origin is not None and loop.origin.pointer == "/steps/1/for_all"
    assert (loop.concurrency, inner.concurrency) == (4, None)
    assert inner.retry is not None and loop.retry is None  # each round is tried again, not all of them
    assert arrows(flow) == {("a", "b.for_all"), ("b.for_all", "c")}
    assert problems == [] and flow.unread == {"jetty": 1} and flow.content.unread == 1
    assert passes(flow, Rule(step="b.for_all", items=Range(7, 7, 7)))["b"] == pytest.approx(7)
    assert passes(flow)["c"] == pytest.approx(1)
    short, _ = read(dialect, export, outline=True)
    assert [(one.id, one.kind, one.scope) for one in short.steps] == [
        (one.id, one.kind, one.scope) for one in flow.steps
    ]
    assert arrows(short) == arrows(flow) and short.content.unread == 1


def test_a_step_that_repeats_until_something_holds_has_its_cap() -> None:
    flow, _ = read(ORDERED, {"steps": [step("a", again={"until": "<<a.state>> == 'done'", "at_most": 5}), step("b")]})
    loop = flow.steps[0]
    assert (loop.id, loop.operation) == ("a.again", "again") and loop.repeat is not None
    assert (loop.repeat.until, loop.repeat.cap, loop.repeat.items) == ("<<a.state>> == 'done'", 5, None)
    assert arrows(flow) == {("a.again", "b")} and flow.steps[1].unread == {}
    assert passes(flow, Rule(step="a.again", rounds=Range(9, 9, 9)))["a"] == pytest.approx(
        4, rel=0.1
    )  # of nine, but never more than five


def test_a_number_says_how_often_of_a_step_and_of_a_loop() -> None:
    inside = step("l", "each", times=6, inside=[step("x")])
    flow, _ = read(TREE, {"steps": [step("a", "ask", for_all=3), inside, step("t", for_all=["x", "y"])]})
    assert passes(flow) == {"a.for_all": 1, "a": 3, "l": 1, "x": 6, "t.for_all": 1, "t": 2}
    loops = {one.id: one.repeat for one in flow.steps if one.repeat is not None}
    assert [(one.items, one.count) for one in loops.values()] == [(None, 3), (None, 6), ("x, y", 2)]


def test_a_number_below_nothing_is_no_number_of_rounds() -> None:
    flow, _ = read(TREE, {"steps": [step("l", "each", times=-2, inside=[step("x")])]})
    repeat = flow.steps[0].repeat
    assert repeat is not None and (repeat.items, repeat.count) == ("-2", None)


@pytest.mark.parametrize("said", [None, "", False, [], 1, 0])
def test_what_says_once_or_nothing_is_no_loop(said: Any) -> None:
    flow, _ = read(ORDERED, {"steps": [step("a", for_all=said), step("b")]})
    assert [one.id for one in flow.steps] == ["a", "b"] and flow.unread == {"jetty": 1}


def test_a_highest_number_alone_is_no_loop_and_stays_unread() -> None:
    flow, problems = read(ORDERED, {"steps": [step("a", again={"at_most": 5}), step("b")]})
    assert [one.id for one in flow.steps] == ["a", "b"] and flow.steps[0].unread == {"again": {"at_most": 5}}
    assert problems == []
    odd, told = read(ORDERED, {"steps": [step("a", for_all={"list": "x"})]})
    assert [one.id for one in odd.steps] == ["a"] and odd.steps[0].unread == {"for_all": {"list": "x"}}
    assert "expected a list, its name, an expression, a number or lists to combine" in told[0] and "/steps/0" in told[0]


def test_the_decision_whether_it_runs_at_all_stands_before_the_loop() -> None:
    steps = [step("a"), step("b", "ask", for_all="<<a.all>>", only_with="<<a.state>> == 'late'"), step("c")]
    flow, _ = read(ORDERED, {"steps": steps})
    assert [one.id for one in flow.steps] == ["a", "b.only_with", "b.for_all", "b", "c"]
    assert arrows(flow) == {
        ("a", "b.only_with"),
        ("b.only_with", "b.for_all"),
        ("b.only_with", "c"),
        ("b.for_all", "c"),
    }
    assert passes(flow, Rule(step="b.for_all", items=Range(4, 4, 4)))["b"] == pytest.approx(2)


def test_what_follows_a_failure_follows_the_loop_and_helpers_stay() -> None:
    steps = [step("a", "ask", for_all="letters", trouble="leave"), step("b"), step("t"), step("m")]
    flow, _ = read(LISTED, {"steps": steps, "ropes": [["a", "b"]], "fault_ropes": [["a", "t"]], "help": [["m", "a"]]})
    by_role = {(link.source, link.target): link.role for link in flow.links}
    assert by_role == {("a.for_all", "b"): "next", ("a.for_all", "t"): "error", ("m", "a"): "attach"}
    assert {one.id: one.on_fault for one in flow.steps if one.id.startswith("a")} == {"a.for_all": "route", "a": "stop"}
    repeat = flow.steps[0].repeat
    assert repeat is not None and repeat.on_item_fault == "stop"  # where a failure leads on, it ends the rounds
    told = passes(flow, Rule(step="a", failure=0.5), Rule(step="a.for_all", items=Range(2, 2, 2)))
    assert told["t"] == pytest.approx(0.75) and told["a"] == pytest.approx(1.5)
    kept, _ = read(ORDERED, {"steps": [step("a", for_all="letters", trouble="on")]})
    assert [one.on_fault for one in kept.steps] == ["stop", "continue"]


def test_steps_that_decide_or_help_have_no_rounds_and_it_is_told() -> None:
    ways = [["p", "x", "big"], ["p", "y", "small"]]
    dialect = LISTED.replace('to = "1"\n', 'to = "1"\noutlet = "2"\n', 1)
    steps = [step("p", "pick", for_all="letters"), step("x"), step("y"), step("m", for_all="letters")]
    flow, _ = read(dialect, {"steps": steps, "ropes": ways, "help": [["m", "x"]]})
    assert [one.kind for one in flow.steps] == ["decide", "read", "read", "read"]
    assert flow.steps[0].unread == {"for_all": "letters"} and flow.content.unread == 3
    assert "for_all of m" in json.dumps(flow.unread)


def test_two_steps_with_one_id_the_first_keeps_its_rounds() -> None:
    flow, _ = read(ORDERED, {"steps": [step("a", for_all="letters"), step("a", for_all="berths")]})
    assert sum(one.kind == "loop" for one in flow.steps) == 1 and "berths" in json.dumps(flow.unread)


@settings(max_examples=40)
@given(st.lists(st.tuples(st.integers(0, 5), st.booleans(), st.booleans()), min_size=1, max_size=7))
def test_every_step_runs_as_often_as_it_says(drawn: list[tuple[int, bool, bool]]) -> None:
    """Rounds multiply within blocks, conditions halve, and nothing that comes behind changes."""
    steps: list[dict[str, Any]] = []
    wanted: dict[str, float] = {}
    for at, (times, gated, nested) in enumerate(drawn):
        key = f"s{at}"
        one = step(key, "ask", **({"for_all": times} if times else {}), **({"only_with": "x > 1"} if gated else {}))
        wanted[key] = max(1, times) * (0.5 if gated else 1)
        if nested:
            one["inside"] = [step(f"{key}i", for_all=2)]
            wanted[f"{key}i"] = 2 * wanted[key]
        steps.append(one)
    flow, problems = read(TREE, {"steps": steps})
    found = passes(flow)
    assert problems == [] and {key: found[key] for key in wanted} == pytest.approx(wanted)


def letters(at: int) -> dict[str, Any]:
    """A flow drawn like all others of its builder: the same steps under the same ids."""
    steps: list[dict[str, Any]] = [
        {"id": "get", "title": "Fetch letters", "action": "http.get", "input": {"url": "https://post.ferry.example", "limit": 50}},
        {"id": "sort", "title": f"Sort letter {at}", "action": "ai.prompt", "foreach": "${get.items}",
         "input": {"model": "tern-2", "prompt": f"Sort this letter of line {at} into one of ticket, berth, other. ${{item.text}}"}},
    ]  # fmt: skip
    if at % 2:
        steps.append(
            {"id": "improve", "title": "Improve it", "action": "ai.prompt", "repeat": {"until": "${improve.score} > 8", "max": 5},
             "input": {"model": "tern-2", "prompt": "Improve this answer until it is kind and exact: ${sort.text}"}}
        )  # fmt: skip
    if at % 3 == 0:
        again = {"until": '${poll.state} == "done"', "max": 20}
        steps.append(
            {
                "id": "poll",
                "title": "Wait for it",
                "action": "http.get",
                "repeat": again,
                "input": {"url": "https://t.ferry.example"},
            }
        )
    steps.append(
        {"id": "tell", "title": "Tell the purser", "action": "mail.send", "input": {"to": "purser@ferry.example"}}
    )
    return {
        "flow": f"F{at}",
        "label": f"Letters {at}",
        "start": {"type": "schedule", "cron": f"{at} 5 * * *"},
        "steps": steps,
    }


def test_where_steps_say_that_they_repeat_themselves_is_proposed() -> None:
    made = suggest_dialect([letters(at) for at in range(12)], "letters")
    assert made is not None
    rule = made.dialect.step
    assert (rule.operation, rule.id) == ("action", "id")  # not what each step of a flow has of its own
    assert (rule.own_items, rule.own_until, rule.own_cap) == ("foreach", "repeat.until", "repeat.max")
    assert (rule.own_condition, rule.retries) == ("", "")
    told = [claim for claim in made.claims if claim.part == "own repeats"]
    assert len(told) == 2 and all(not claim.is_asked for claim in told)
    (flow,) = read_with(made.dialect, [letters(3)])
    assert [one.kind for one in flow.steps] == ["http", "loop", "model", "loop", "model", "loop", "http", "send"]


@pytest.mark.parametrize(
    ("value", "items", "rounds"),
    [
        (["no", "de"], "no, de", 2),
        ([{"to": "crew", "in": ["no", "de"]}, {"to": "desk"}], "to=crew in=no de, to=desk", 2),
        ({"language": ["no", "de", "fr"], "tone": ["plain", "kind"]}, "language: no, de, fr; tone: plain, kind", 6),
        ({"language": ["no"], "tone": []}, "language: no; tone: ", 0),
    ],
)
def test_items_that_are_written_out_are_counted(value: Any, items: str, rounds: int) -> None:
    flow, problems = read(LISTED, {"steps": [step("b", "ask", for_all=value)]})
    loop = flow.steps[0]
    assert loop.repeat is not None and (loop.repeat.items, loop.repeat.count) == (items, rounds)
    assert passes(flow)["b"] == rounds and not any(one.unread for one in flow.steps) and not problems
    own, _ = read(LISTED, {"steps": [step("l", "each", times=value)]})  # and so are those of a loop
    assert own.steps[0].repeat is not None and own.steps[0].repeat.count == rounds and not own.steps[0].unread


def test_combinations_with_exceptions_are_not_counted() -> None:
    flow, _ = read(
        LISTED, {"steps": [step("b", "ask", for_all={"language": ["no", "de"], "exclude": [{"language": "de"}]})]}
    )
    assert flow.steps[0].repeat is not None and flow.steps[0].repeat.count is None


def test_lists_in_the_step_are_proposed_and_the_most_of_an_end_is_no_list() -> None:
    documents = [letters(at) for at in range(12)]
    for one in documents:
        for each in one["steps"]:
            if each.pop("foreach", None):
                each["matrix"] = {"language": ["no", "de", "fr"], "tone": ["plain", "kind"]}
            if "repeat" in each:
                each["repeat"]["every"] = "30s"
    made = suggest_dialect(documents, "letters")
    assert made is not None
    rule = made.dialect.step
    assert (rule.own_items, rule.own_until, rule.own_cap) == ("matrix", "repeat.until", "repeat.max")
    for one in documents:
        for each in one["steps"]:
            each.pop("matrix", None)
    rule = suggest_dialect(documents, "letters").dialect.step  # type: ignore[union-attr]
    assert (rule.own_items, rule.own_until, rule.own_cap) == ("", "repeat.until", "repeat.max")


def test_what_may_say_so_is_asked() -> None:
    def nonsense(at: int) -> dict[str, Any]:
        flow = letters(at)
        for one in flow["steps"]:
            one |= {"krelbo": one.pop("foreach")} if "foreach" in one else {}
            one |= (
                {"vumpa": {"stilo": one["repeat"]["until"], "zarn": one.pop("repeat")["max"]}}
                if "repeat" in one
                else {}
            )
        flow["steps"][0] |= {"krelbo": "${start.days}"} if at % 4 == 0 else {}
        return flow

    documents = [nonsense(at) for at in range(12)]
    asked = suggest_dialect(documents, "letters")
    assert asked is not None and not asked.dialect.step.own_items and not asked.dialect.step.own_until
    words = {one.id: [answer.word for answer in one.answers] for one in asked.questions}
    assert words["repeats"] == ["each", "until", "no"] and words["condition"] == ["runs", "skips", "until", "no"]
    rule = apply_answers(asked.dialect, asked.questions, {"repeats": "each", "condition": "until"}).step
    assert (rule.own_items, rule.own_until) == ("krelbo", "vumpa.stilo")


def test_it_is_drawn_told_and_counted(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x").mkdir()
    for at in range(12):
        (tmp_path / "x" / f"{at}.json").write_text(json.dumps(letters(at)))
    assert run("dialect", "suggest", "x", "--name", "letters", "-o", "letters.toml").code == 0
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x"]\ndialects = ["letters.toml"]\n')
    told = run("explain", "F3").out
    assert "For each of items of ‘Fetch letters’, runs 1 step." in told
    assert "Repeats 1 step until score of ‘Improve it’ > 8, at most 5 times." in told
    listed = {row["id"]: row for row in json.loads(run("inventory", "-f", "json").out)["flows"]}
    assert listed["F1"]["activities"] == 4  # the loops are none
    asked = run("estimate", "--steps", "--flow", "F3", "--month", "2026-11", "-f", "csv").out
    assert re.search(r"^.*Sort letter 3,model,10(\.0)?,", asked, re.M), asked


def test_who_reads_a_step_that_ran_for_many_items_gets_what_all_rounds_made() -> None:
    def asks(key: str, text: str, **more: Any) -> dict[str, Any]:
        return step(key, "ask", orders=text, only_with=f"{text} != ''", **more)

    dialect = ORDERED.replace('model = "mind"\n', 'model = "mind"\nprompts = [{ path = "orders" }]\n')
    steps = [
        step("a", "ask", for_all="letters", orders="<<a.last>>"),
        step("b", again={"until": "<<b.state>> == 1"}),
        asks("c", "<<a.text>>"),
        asks("d", "<<b.text>>"),
    ]
    flow, _ = read(dialect, {"steps": steps})
    taken = {(one.id, ref.step) for one in flow.steps if one.model for text in one.model.prompts for ref in text.refs}
    # What it repeats until something holds is there as the last round left it; and a round of a knows the one before it.
    assert taken == {("a", "a"), ("c", "a.for_all"), ("d", "b")}
    asked = {(one.id, ref.step) for one in flow.steps if one.kind == "decide" for ref in one.refs}
    assert asked == {("c.only_with", "a.for_all"), ("d.only_with", "b")}
    trust = {(one.reader, one.source): one.trust for one in Reachability(Graph(flow)).reads}
    assert trust[("c", "a.for_all")] == trust[("d", "b")] == trust[("b.again", "b")] == "always"
