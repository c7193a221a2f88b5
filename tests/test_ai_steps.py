"""How many steps use AI: one count, wherever it is said."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from builders import START, ask, flow, link, step
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph, ai_steps
from zeitbuch.core.layout.cards import step_card
from zeitbuch.core.layout.views import View, with_ai
from zeitbuch.core.model.words import count_words
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.sampling import Sample
from zeitbuch.core.report.inventory import inventory_row
from zeitbuch.core.report.sentences import summary_sentences

DESK = flow(
    [
        step("desk", "agent"),
        ask("mind"),
        step("helper", "agent"),
        step("store", "retrieve"),
        step("vectors", "embed"),
        step("sent", "send"),
        step("rest", "shape"),
    ],
    [
        link("start", "desk"),
        *[link(part, "desk", "attach") for part in ("mind", "helper", "store")],
        link("vectors", "store", "attach"),
        link("desk", "sent"),
        link("sent", "rest"),
    ],
    triggers=(START,),
)


def test_the_model_of_an_agent_is_the_agent() -> None:
    assert [found.id for found in ai_steps(DESK)] == ["desk", "helper", "vectors"]
    assert inventory_row(DESK).ai_steps == 3
    assert "7 steps, 3 of them with AI" in summary_sentences(Graph(DESK))
    assert {found.id for found in with_ai(View(Graph(DESK), {})).graph.flow.steps} == {
        step.id for step in DESK.steps
    } - {"rest"}


def test_a_tool_of_a_tool_has_a_number_a_row_and_its_calls() -> None:
    graph = Graph(DESK)
    assert [graph.numbers[found.id] for found in graph.in_order()] == ["1", "1.a", "1.b", "1.c", "1.c.a", "2", "3"]
    lookup = AssumptionLookup(Assumptions(assume=(Rule(step="desk", turns=5.0),)), DESK)
    passes = Passes(graph, lookup).of
    # Four tool calls shared by two tools; each search embeds its question once.
    assert passes["store"].runs == passes["vectors"].runs == 2.0
    rows = step_card(graph, DESK.steps[0], [], lambda text, size, bold: len(text) * size / 2).rows
    assert [(row.role, row.text) for row in rows][2:] == [("tool", "Store"), ("embed", "Store: Vectors")]


def test_a_model_attached_to_a_step_without_one_is_its_call() -> None:
    made = flow([step("sort", "shape"), ask("mind")], [link("start", "sort"), link("mind", "sort", "attach")])
    assert [found.id for found in ai_steps(made)] == ["mind"]
    assert Passes(Graph(made), AssumptionLookup(Assumptions(), made)).of["mind"].runs == 1.0


def test_helpers_attached_in_a_circle_end() -> None:
    made = flow(
        [step("desk", "agent"), step("a", "agent"), step("b", "agent")],
        [link("start", "desk"), link("a", "b", "attach"), link("b", "a", "attach")],
    )
    assert [found.id for found in Graph(made).helpers_of("b")] == ["a"]
    assert sorted(found.id for found in Graph(made).in_order()) == ["a", "b", "desk"]


def test_what_is_attached_to_a_trigger_stands_by_itself_and_the_first_host_counts() -> None:
    made = flow(
        [step("desk", "agent"), step("sort", "shape"), ask("mind"), step("look", "http")],
        [link("look", "start", "attach"), link("mind", "sort", "attach"), link("mind", "desk", "attach")],
    )
    graph = Graph(made)
    assert "look" in {found.id for found in graph.in_order()}
    assert graph.card_of("mind") == "sort"
    assert [found.id for found in ai_steps(made)] == ["desk", "mind"]


def test_exact_and_sampled_agree_on_tools_of_tools() -> None:
    lookup = AssumptionLookup(Assumptions(), DESK)
    exact = Passes(Graph(DESK), lookup)
    sampled = Sample(exact.plan, 20_000, 7).of
    for name in ("store", "vectors", "helper"):
        assert sampled[name].runs.mean() == pytest.approx(exact.of[name].runs, rel=0.03), name


def test_every_part_of_the_program_says_the_same_count(demo: Path, run: Any) -> None:
    rows = {
        row["name"]: row for row in json.loads(run("inventory", "november", "--format", "json", cwd=demo).out)["flows"]
    }
    record = json.loads(run("map", "november", "--estate", "--format", "json", cwd=demo).out)
    listed = json.dumps(record, ensure_ascii=False)
    said = 0
    for name, row in rows.items():
        wanted = row["ai_steps"]
        text = run("explain", name, cwd=demo).out
        found = re.search(r"(\d+) of\s+them with AI", text)
        assert (int(found[1]) if found else 0) == wanted, name
        if wanted:
            said += f"{count_words(row['activities'], 'activity')}, {wanted} with AI, " in listed
    assert said == 16
