"""Tools that agents name in a list: helpers of the agent, read by the rules for their names, and proposed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from scores import proposed, read_with
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.report.sentences import step_sentence
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.rules import parse_dialect

DIALECT = """
dialect = 1
name = "hands"
signature = { all = ["$.acts"] }
flow = { id = "key" }
step = { at = "$.acts[*]", operation = "does", id = "key" }
pointer = [{ at = "then" }]
kind = [
  { operation = "serve", kind = "agent", model = "mind", tools = "may_use" },
  { operation = "post_*", kind = "send", effect = "send" },
  { operation = "look", kind = "read", effect = "read" },
]
"""


def read(*acts: dict[str, Any], dialect: str = DIALECT) -> Flow:
    return read_with(parse_dialect(dialect, "hands.toml"), [{"key": "f", "acts": list(acts)}])[0]


def helpers(flow: Flow) -> list[tuple[str, str]]:
    return [(link.source, link.target) for link in flow.links if link.role == "attach"]


SERVE = {"key": "a", "does": "serve", "mind": "turnix-2-small"}


def test_named_tools_are_helpers_of_their_agent() -> None:
    flow = read({**SERVE, "may_use": ["post_note", "dig", "post_note"]}, {"key": "b", "does": "look"})
    assert helpers(flow) == [("a.post_note", "a"), ("a.dig", "a")]
    assert [(step.name, step.kind, step.effect) for step in flow.steps[2:]] == [
        ("post_note", "send", "send"),
        ("dig", "other", "none"),
    ]
    assert flow.content.unread == 0
    graph = Graph(flow)
    assert "may use ‘post_note’ or ‘dig’" in step_sentence(graph, graph.steps["a"])


@pytest.mark.parametrize("given", [None, [], "", {"dig": 1}])
def test_an_agent_without_names_has_no_tools(given: Any) -> None:
    flow = read({**SERVE, "may_use": given})
    assert helpers(flow) == []
    assert flow.content.unread == (1 if given == {"dig": 1} else 0)


def test_a_step_is_a_tool_only_where_nothing_leads_to_it() -> None:
    alone = read({**SERVE, "may_use": ["b"]}, {"key": "b", "does": "look"})
    assert helpers(alone) == [("b", "a")]
    linked = read({**SERVE, "may_use": ["b"], "then": "b"}, {"key": "b", "does": "look"})
    assert helpers(linked) == []
    assert linked.unread == {"unread parts": [{"tool of a": "b"}]}


def test_two_agents_have_tools_of_their_own() -> None:
    flow = read(
        {**SERVE, "may_use": "dig"}, {**SERVE, "key": "b", "may_use": ["dig"]}, {"key": "b.dig", "does": "look"}
    )
    assert helpers(flow) == [("a.dig", "a"), ("b.dig~2", "b")]


def test_an_outline_counts_the_same_steps() -> None:
    document = {"key": "f", "acts": [{**SERVE, "may_use": ["dig"]}, {"key": "b", "does": "look"}]}
    for texts in (True, False):
        reader = DialectReader(parse_dialect(DIALECT, "hands.toml"), outline=True, texts=texts)
        ((flow, _),) = reader.flows(json.loads(json.dumps(document)), Origin("x"), 9)
        assert (len(flow.steps), len(helpers(flow))) == (3, 1)


def test_steps_within_steps_have_tools() -> None:
    dialect = DIALECT.replace('pointer = [{ at = "then" }]', 'tree = { body = "inside" }')
    flow = read({"key": "o", "does": "look", "inside": [{**SERVE, "may_use": ["dig"]}]}, dialect=dialect)
    assert helpers(flow) == [("a.dig", "a")]
    assert [step.scope for step in flow.steps if step.name == "dig"] == ["o"]


# -- proposals ------------------------------------------------------------------------------------------------------------


def estate(tools: Any) -> list[Any]:
    say = "Say whether ship {} may leave with this tide, and what has to be done before that."
    return [
        {"key": f"f{at}", "name": f"Tide desk {at}", "acts": [
            {"id": f"look-{at}", "type": "http", "with": {"url": "https://tide.example"}, "next": f"say-{at}"},
            {"id": f"say-{at}", "type": "agent", "with": {"model": "turnix-2-small", "instructions": say.format(at), "tools": tools}, "next": f"post-{at}"},
            {"id": f"post-{at}", "type": "mail", "with": {"to": "quay@ferry.example"}},
        ]}
        for at in range(8)
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("tools", "path"),
    [
        (["look_up_ship", "send_note", "frobnicate"], "with.tools"),
        ([{"name": name, "about": "does it", "takes": {"type": "object"}} for name in ("look_up_ship", "send_note", "frobnicate")], "with.tools.*.name"),
    ],
)  # fmt: skip
def test_tools_that_agents_name_are_found(tools: Any, path: str) -> None:
    made, flows = proposed(estate(tools))
    assert [rule.tools for rule in made.dialect.kind if rule.kind == "agent"] == [path]
    kinds = {step.name: (step.kind, step.effect) for step in flows[3].steps}
    assert kinds["look_up_ship"] == ("read", "read")
    assert kinds["send_note"] == ("send", "send")
    assert kinds["frobnicate"] == ("other", "none")  # of which nobody knows what it does
    assert len(helpers(flows[3])) == 3
    assert any("by their words 'look_up_ship' read and 'send_note' send" in claim.words for claim in made.claims)


def test_what_agents_may_do_is_counted_among_what_sends(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x").mkdir()
    for at, document in enumerate(estate(["send_note"])):
        (tmp_path / f"x/{at}.json").write_text(json.dumps(document))
    made = run("dialect", "suggest", "x", "-o", "d.toml")
    assert "16 steps that send" in made.err
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x"]\ndialects = ["d.toml"]\n')
    assert "one agent with 1 tool" in run("explain", "f3").out
