"""Ways that are taken only where something holds, whatever their step does; ways without a label; ways that people's answers open."""

from __future__ import annotations

import json
from typing import Any

import pytest

from jetty import passes
from scores import proposed, read_with
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Link
from zeitbuch.core.report.explanation import explanation_page
from zeitbuch.core.report.what_if import WhatIfSimulation, given_of
from zeitbuch.readers.dialects.rules import parse_dialect

DIALECT = """
dialect = 1
name = "ways"
signature = { all = ["$.acts"] }
flow = { id = "key" }
step = { at = "$.acts[*]", operation = "does", id = "key" }
link = [{ at = "$.ways[*]", from = "a", to = "b", label = "name", condition = "if" }]
kind = [{ operation = "pick", kind = "decide" }, { operation = "ask", kind = "approve" }, { operation = "call", kind = "http" }, { operation = "bell", trigger = "manual" }]
"""


def read(acts: dict[str, str], ways: list[dict[str, str]]) -> Flow:
    document = {"key": "f", "acts": [{"key": key, "does": does} for key, does in acts.items()], "ways": ways}
    return read_with(parse_dialect(DIALECT, "ways.toml"), [document])[0]


def way(a: str, b: str, **more: str) -> dict[str, str]:
    return {"a": a, "b": b, **more}


def lines_of(flow: Flow) -> str:
    return str(explanation_page(Graph(flow)))


def test_a_way_with_a_condition_is_taken_where_that_holds() -> None:
    """It ran each time: a link of a step that decides nothing was taken whatever it said."""
    flow = read({"a": "call", "b": "call", "c": "call"}, [way("a", "b", **{"if": "amount > 5"}), way("a", "c")])
    assert [(link.target, link.role) for link in flow.links] == [("b", "case"), ("c", "next")]
    assert passes(flow) == {"a": 1, "b": 0.5, "c": 1}
    graph = Graph(flow)
    assert "if amount > 5: goes on at 2 ‘b’" in lines_of(flow)
    assert given_of(graph, ["amount > 5"], [], []).cases == {"a": ("amount > 5",)}


def test_triggers_lead_on_whatever_their_ways_say() -> None:
    flow = read({"t": "bell", "a": "call"}, [way("t", "a", **{"if": "x"})])
    assert [(link.source, link.role) for link in flow.links] == [("t", "next")]


def test_the_only_way_without_a_label_is_for_the_rest() -> None:
    """'otherwise (amount > 5)' and, beside a way for the rest, 'anything else: no way leads on'."""
    flow = read({"a": "pick", "b": "call", "c": "call"}, [way("a", "b", **{"if": "amount > 5"}), way("a", "c")])
    told = lines_of(flow)
    assert "if amount > 5: goes on at 2 ‘b’" in told
    assert "otherwise: goes on at 3 ‘c’" in told
    assert "no way leads on" not in told


def test_several_ways_without_a_label_are_told_apart() -> None:
    """Both were 'otherwise', and with it both ran for certain, where each is taken in half of the passes."""
    flow = read({"a": "pick", "b": "call", "c": "call"}, [way("a", "b"), way("a", "c")])
    assert passes(flow) == {"a": 1, "b": 0.5, "c": 0.5}
    told = lines_of(flow)
    assert "to b: goes on at 2 ‘b’" in told
    assert "to c: goes on at 3 ‘c’" in told
    assert given_of(Graph(flow), ["b"], [], []).cases == {"a": ("to b",)}  # as assumptions name it
    story = WhatIfSimulation(Graph(flow), given_of(Graph(flow), ["to b"], [], [])).tell_story()
    assert {event.id: event.odds for event in story.events} == {"a": "certain", "b": "certain", "c": "not"}


@pytest.mark.parametrize(("label", "closed"), [("on_false", True), ("no", True), ("late", False), ("nobody", False)])
def test_an_answer_that_leaves_nothing_over_closes_a_decision(label: str, closed: bool) -> None:
    flow = read({"a": "pick", "b": "call", "c": "call"}, [way("a", "b", name="early"), way("a", "c", name=label)])
    assert ("anything else: no way leads on" not in lines_of(flow)) is closed


BEFORE = DIALECT.replace(
    'link = [{ at = "$.ways[*]", from = "a", to = "b", label = "name", condition = "if" }]',
    'predecessors = { at = "after", source = "key", outcome = "on", outcomes = { broke = "failure" }, condition = "if" }',
)


def test_steps_before_may_say_when_the_step_runs() -> None:
    document = {"key": "f", "acts": [
        {"key": "a", "does": "call"}, {"key": "b", "does": "call", "after": [{"key": "a", "if": "a.ok"}]},
        {"key": "c", "does": "call", "after": [{"key": "a", "on": "broke"}]},
    ]}  # fmt: skip
    (flow,) = read_with(parse_dialect(BEFORE, "ways.toml"), [document])
    assert [(link.target, link.role, link.condition, link.after) for link in flow.links] == [
        ("b", "case", "a.ok", ()), ("c", "error", "", ("failure",)),
    ]  # fmt: skip
    assert flow.content.unread == 0


# -- proposals ------------------------------------------------------------------------------------------------------------


def estate(*acts: dict[str, Any]) -> list[Any]:
    texts = [
        json.dumps({"key": f"f{at}", "name": f"Tide desk {at}", "steps": acts}).replace("@", f"-{at}")
        for at in range(8)
    ]
    return [json.loads(text) for text in texts]


FETCH = {"id": "fetch@", "type": "http", "with": {"url": "https://tide.example"}}
POST = {"id": "post@", "type": "mail", "with": {"to": "quay(at)ferry"}}


def ways_of(flow: Flow) -> list[tuple[str, str, str]]:
    return [
        (link.role, link.label or link.condition, link.target)
        for link in flow.links
        if link.role != "next" or link.label
    ]


def told(links: list[Link]) -> set[tuple[str, str]]:
    return {(link.source, link.target) for link in links}


def test_conditions_of_steps_before_are_no_outcomes() -> None:
    documents = estate(
        FETCH, {"id": "say@", "type": "llm", "with": {"model": "turnix-2-small"}, "depends_on": [{"step": "fetch@"}]},
        {**POST, "depends_on": [{"step": "say@", "when": "say@.ok"}]}, {"id": "keep@", "type": "store", "depends_on": [{"step": "post@", "on": "failure"}]},
    )  # fmt: skip
    made, flows = proposed(documents)
    assert made.dialect.predecessors is not None
    assert (made.dialect.predecessors.outcome, made.dialect.predecessors.condition) == ("on", "when")
    assert ("case", "say-3.ok", "post-3") in ways_of(flows[3])


def test_what_people_answer_is_no_failure() -> None:
    """An approval that was refused 'failed'."""
    ok = {
        "id": "ok@",
        "type": "approval",
        "with": {"approvers": ["ase(at)ferry"]},
        "approved": "post@",
        "rejected": "fetch@",
    }
    _, flows = proposed(estate({**FETCH, "next": "ok@"}, ok, POST))
    assert set(ways_of(flows[3])) == {("case", "approved", "post-3"), ("case", "rejected", "fetch-3")}


@pytest.mark.parametrize(("yes", "no"), [("then", "else"), ("on_true", "on_false")])
def test_the_keys_of_a_decision_are_its_cases(yes: str, no: str) -> None:
    which = {"id": "which@", "type": "branch", "if": "fetch@.ok == true", yes: "post@", no: "keep@"}
    _, flows = proposed(estate({**FETCH, "next": "which@"}, which, POST, {"id": "keep@", "type": "store"}))
    assert set(ways_of(flows[3])) == {("case", yes, "post-3"), ("case", no, "keep-3")}


@pytest.mark.parametrize("mark", [";", ", ", "|", " "])
def test_several_steps_in_one_text_are_as_many_links(mark: str) -> None:
    acts = [
        {**FETCH, "next": "say@"}, {"id": "say@", "type": "llm", "model": "turnix-2-small", "next": f"post@{mark}keep@"},
        POST, {"id": "keep@", "type": "store", "with": {"only": "say@.ok"}},
    ]  # fmt: skip
    _, flows = proposed(estate(*acts))
    assert told(list(flows[3].links)) == {("fetch-3", "say-3"), ("say-3", "post-3"), ("say-3", "keep-3")}


# -- graphs of boxes and lines ---------------------------------------------------------------------------------------------


def graph_of(at: int, nodes: list[tuple[str, str, Any]], edges: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    """A flow of boxes (name, operation, settings), whose ids are of this flow alone."""
    return {
        "id": f"tide-{at}", "name": f"Tide desk {at}", **more,
        "boxes": [{"id": f"{at}_{name}", "does": kind, "card": {"caption": name.title(), "given": config}} for name, kind, config in nodes],
        "lines": [{**edge, "from": f"{at}_{edge['from']}", "to": f"{at}_{edge['to']}"} for edge in edges],
    }  # fmt: skip


NODES: list[tuple[str, str, Any]] = [
    ("begin", "start", {}), ("fetch", "http.get", {"url": "https://tide.example", "method": "GET"}),
    ("which", "branch", {"test": "{{fetch.ok}} == true"}), ("post", "mail.send", {"to": "quay@ferry.example"}), ("file", "row.insert", {"table": "tides"}),
]  # fmt: skip
EDGES = [
    {"from": "begin", "to": "fetch"}, {"from": "fetch", "to": "which"},
    {"from": "which", "to": "post", "way": "true"}, {"from": "which", "to": "file", "way": "false"},
]  # fmt: skip


def edges_between(flow: Flow) -> dict[tuple[str, str], tuple[str, str]]:
    return {
        (link.source.partition("_")[2], link.target.partition("_")[2]): (link.role, link.label)
        for link in flow.links
        if link.role != "next"
    }


def test_a_sort_of_all_links_hides_no_way_out() -> None:
    """With a sort on every line the cases of decisions had no labels."""
    edges = [{**edge, "sort": "normal"} for edge in EDGES] + [{"from": "fetch", "to": "file", "sort": "error"}]
    made, flows = proposed([graph_of(at, NODES, edges) for at in range(8)])
    assert [rule.outlet for rule in made.dialect.links] == [["way", "sort"]]
    assert edges_between(flows[3]) == {
        ("which", "post"): ("case", "true"),
        ("which", "file"): ("case", "false"),
        ("fetch", "file"): ("error", "error"),
    }


def test_ways_that_a_model_lists_are_cases() -> None:
    """A model that sorts gave on to all of its heaps each time."""
    heaps = [{"key": "h1", "name": "late ship"}, {"key": "h2", "name": "early ship"}]
    nodes = [
        (name, "model.sort", {"model": "turnix-2-mini", "heaps": heaps}) if name == "which" else (name, kind, said)
        for name, kind, said in NODES
    ]
    edges = [{**edge, "way": {"true": "h1", "false": "h2"}[edge["way"]]} if "way" in edge else edge for edge in EDGES]
    made, flows = proposed([graph_of(at, nodes, edges) for at in range(8)])
    assert [rule.kind for rule in made.dialect.kind if rule.cases is not None] == ["model"]
    assert edges_between(flows[3]) == {
        ("which", "post"): ("case", "late ship"),
        ("which", "file"): ("case", "early ship"),
    }
    assert passes(flows[3])["3_post"] == 0.5


def test_ways_of_people_are_answers() -> None:
    nodes = [
        (name, "approval", {"approvers": ["ase@ferry.example"]}) if name == "which" else (name, kind, said)
        for name, kind, said in NODES
    ]
    edges = [
        {**edge, "way": {"true": "approve", "false": "reject"}[edge["way"]]} if "way" in edge else edge
        for edge in EDGES
    ]
    _, flows = proposed([graph_of(at, nodes, edges) for at in range(8)])
    assert edges_between(flows[3]) == {("which", "post"): ("case", "approve"), ("which", "file"): ("case", "reject")}


def test_what_takes_failures_is_no_state_and_settings_may_stand_deeper() -> None:
    made, flows = proposed([graph_of(at, NODES, EDGES, rest={"on_failure": f"tide-{(at + 1) % 8}"}) for at in range(8)])
    assert made.dialect.flow.state == ""
    assert not any(question.id == "state" for question in made.questions)
    assert flows[3].fault_handlers == ("tide-4",)
    assert made.dialect.step.settings == "card.given"
    assert {rule.operation: rule.roles for rule in made.dialect.kind if rule.roles} == {
        "http.get": {"url": "address"},
        "mail.send": {"to": "recipient"},
    }
