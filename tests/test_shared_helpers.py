"""Models and tools that several agents use: told, checked and paid for at each of them, though drawn at one."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st

from test_checks import flow, step
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.checks.catalogues.registry import CATALOGUES, catalogue_rows
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import CheckFinding, EstateFacts
from zeitbuch.core.checks.registry import check_flows
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.records import Estate, Flow, Link, ModelUse
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.core.passes.sampling import Sample
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard
from zeitbuch.core.report.first_sheet.telling import course_lines
from zeitbuch.core.report.impact.spread import spread_loss
from zeitbuch.core.report.impact.things import thing_of
from zeitbuch.core.report.sentences import step_sentence

CARD = RateCard(
    currency="EUR",
    model=(ModelRate(name="m", price=(Price(since=date(2020, 1, 1), input=Decimal(1), output=Decimal(1)),)),),
)


def desk(*attached: tuple[str, str], between: tuple[Any, ...] = ()) -> Flow:
    """Two agents in a row, with something between them, and what is attached to each."""
    steps = (step("a", "agent", model=ModelUse()), *between, step("b", "agent", model=ModelUse()))
    helpers = (
        step("m", "model", model=ModelUse(name="m")),
        step("n", "model", model=ModelUse(name="m")),
        step("p", "http", effect="spend"),
        step("q", "http", effect="spend"),
    )
    way = ["t", *[one.id for one in steps]]
    links = [Link(source=first, target=second) for first, second in pairwise(way)]
    return flow(
        *steps, *helpers, links=(*links, *[Link(source=one, target=host, role="attach") for one, host in attached])
    )


SHARED = desk(("m", "a"), ("m", "b"), ("p", "a"), ("p", "b"))
OWN = desk(("m", "a"), ("n", "b"), ("p", "a"), ("q", "b"))


def found(made: Flow) -> list[CheckFinding]:
    return check_flows((made,))


def test_words_name_what_both_use() -> None:
    graph = Graph(SHARED)
    lines = [text for _, text in course_lines(graph)]
    for key in "ab":
        use = model_of(graph, graph.steps[key])
        assert use is not None and use.name == "m" and [one.id for one in graph.tools_of(key)] == ["m", "p"]
        assert f"‘{key.upper()}’ is an agent on m, may use ‘P’" in " ".join(lines)
        assert "that may use ‘P’" in step_sentence(graph, graph.steps[key])
    assert [one.id for one in graph.helpers_of("b")] == [] and graph.hosts_of("p") == ["a", "b"]  # drawn once


def test_both_pay_for_what_both_use() -> None:
    shared, own = [estimate_exactly(Estate((one,)), CARD, Assumptions(), "2026-11").flows[0] for one in (SHARED, OWN)]
    assert shared.calls == pytest.approx(own.calls) and shared.cost == own.cost
    steps = [{one.id: one for one in made.steps} for made in (shared, own)]
    assert steps[0]["p"].passes == pytest.approx(steps[1]["p"].passes + steps[1]["q"].passes)


def test_exact_passes_and_drawn_runs_agree() -> None:
    graph = Graph(SHARED)
    lookup = AssumptionLookup(Assumptions(), SHARED)
    exact, sample = Passes(graph, lookup), Sample(Passes(graph, lookup).plan, 20_000, 3)
    for key in ("a", "b", "m", "p"):
        assert sample.of[key].arrivals.mean() == pytest.approx(exact.of[key].arrivals, rel=0.02), key


def test_checks_and_catalogues_see_both_agents() -> None:
    told = [one for one in found(SHARED) if one.code == "agent-acts-alone"]
    assert {one.step_id for one in told} == {"a", "b"}
    rows = catalogue_rows(CATALOGUES["tools"], EstateView((SHARED,), None, EstateFacts()))
    assert [(row["name"], row["agent"]) for row in rows] == [("P", "A"), ("P", "B")]


def test_an_approval_before_one_agent_is_none_before_the_other() -> None:
    asked = desk(("p", "a"), ("p", "b"), between=(step("ask", "approve"),))
    ways = Reachability(Graph(asked))
    assert "ask" in ways.always_before("b") and "ask" not in ways.always_before("p")
    assert {one.step_id for one in found(asked) if one.code == "agent-acts-alone"} == {"a"}


def test_a_model_that_is_gone_fails_both() -> None:
    row, name = thing_of("model:m")
    (one,) = spread_loss(EstateView((SHARED,), None, EstateFacts()), row, name)
    assert one.ending == "stops" and {"A", "B"} <= set(one.lost)
    row, name = thing_of("step:f/p")
    (one,) = spread_loss(EstateView((SHARED,), None, EstateFacts()), row, name)
    assert one.notes == ("the agent ‘A’ has one tool less", "the agent ‘B’ has one tool less")


@drawn(st.lists(st.tuples(st.sampled_from("abmnpq"), st.sampled_from("abmnpq")), max_size=14))
def test_no_circle_of_helpers_hangs(pairs: list[tuple[str, str]]) -> None:
    made = desk(*pairs)
    graph = Graph(made)
    for one in graph.steps:
        assert one not in [helper.id for helper in graph.tools_of(one)]
        for helper in graph.used_by(one):
            assert one in graph.hosts_of(helper.id)
    Passes(graph, AssumptionLookup(Assumptions(), made))
