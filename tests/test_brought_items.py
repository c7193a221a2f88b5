"""A pass goes on while it has any item: means worked out by hand."""

from __future__ import annotations

import random
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from any_shape import Drawn
from builders import START, flow, link, step
from conftest import draws
from item_by_item import lines_of_items
from items_in_branches import LINES, Built, Line, Runs
from test_sampled import both
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Range, Value
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.passes import exact_joins, moving
from zeitbuch.core.passes.brought_items import none_left
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.sample_records import Load
from zeitbuch.core.passes.sampled_steps import StepDraws
from zeitbuch.core.passes.sampling import Sample
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.what_if import WhatIfSimulation, given_of

Case = tuple[Flow, list[Rule]]


def _line(*behind: Step, items: float | Range = 2.0, failure: float = 0.3) -> Case:
    """Items that a step makes, others that may lose them, and a last one that runs once for all of a pass."""
    steps = [step("s", "http", yields="many"), *behind, step("z", "http")]
    links = [link("start", "s"), *[link(a.id, b.id) for a, b in pairwise(steps)]]
    return flow(steps, links), [Rule(step="s", items=items), *[Rule(step=one.id, failure=failure) for one in behind]]


def _each(name: str, kind: str = "http", **more: Any) -> Step:
    return step(name, kind, per_item=True, **more)


def _dealt(share: float, **more: Any) -> Case:
    """Three items of which each takes one of two cases."""
    steps = [step("s", "http", yields="many"), _each("d", "decide", **more), step("z", "http"), step("y", "http")]
    links = [link("start", "s"), link("s", "d"), link("d", "z", "case", "one"), link("d", "y", "case", "two")]
    return flow(steps, links), [Rule(step="s", items=3.0), Rule(step="d", case="one", share=share)]


def _fork(join: str) -> Case:
    """Two items go by two branches that lose each in 0.3 and in 0.2."""
    steps = [step("s", "http", yields="many"), _each("a"), _each("b"), step("z", "http", join=join)]
    links = [link("start", "s"), link("s", "a"), link("s", "b"), link("a", "z"), link("b", "z")]
    return flow(steps, links), [Rule(step="s", items=2.0), Rule(step="a", failure=0.3), Rule(step="b", failure=0.2)]


def _gathered_in_a_block(items: float) -> Case:
    """A block makes items and gathers them."""
    steps = [step("g", "group"), step("m", "http", scope="g", yields="many")]
    steps += [step("o", "shape", scope="g", per_item=True, yields="one"), step("z", "http")]
    return flow(steps, [link("start", "g"), link("m", "o"), link("g", "z")]), [Rule(step="m", items=items)]


CASES: dict[str, tuple[Case, float, bool]] = {
    "two items": (_line(_each("a")), 1 - 0.3**2, True),
    "one item": (_line(_each("a"), items=1.0), 0.7, True),
    "two hundred items": (_line(_each("a"), items=200.0), 1.0, True),
    "as often two items as three": (_line(_each("a"), items=2.5), 1 - (0.3**2 + 0.3**3) / 2, True),
    "one step after the other": (_line(_each("a"), _each("b")), 1 - 0.51**2, True),
    "a pass lost by the way": (_line(_each("a"), step("b", "http"), _each("c")), 0.7 * (1 - 0.51**2), True),
    "items that fail and go on": (_line(_each("a", on_fault="continue")), 1.0, True),
    "items that are gathered": (_line(_each("a", yields="one"), step("b", "http"), failure=0.4), 0.84 * 0.6, True),
    "none made in half of the runs": (_line(items=0.5), 0.5, True),
    "none made at all": (_line(items=0.0), 0.0, True),
    "none made in a block": (_gathered_in_a_block(0.0), 0.0, True),
    "made and gathered in a block": (_gathered_in_a_block(3.0), 1.0, True),
    "items of items": (_line(_each("a", yields="many"), _each("b")), 1 - (0.3 + 0.7 * 0.3**2) ** 2, False),
    "dealt out": (_dealt(0.4), 1 - 0.6**3, True),
    "dealt out to any": (_dealt(0.4, inclusive=True), 1 - 0.6**3, True),
    "waiting for both": (_fork("all"), 1 - 0.44**2, True),
    "waiting for either": (_fork("once"), 1 - 0.06**2, True),
    "counting each": (_fork("each"), 2 - 0.3**2 - 0.2**2, True),
}


@pytest.mark.parametrize("name", CASES)
def test_a_pass_goes_on_while_it_has_any_item(name: str) -> None:
    (f, rules), wanted, known = CASES[name]
    if name == "items of items":
        rules = [*rules, Rule(step="a", items=2.0)]
    exact, sample = both(f, rules, 40_000)
    drawn = sample.of["z"].runs if "z" in sample.of else sample.zero
    assert float(drawn.mean()) == pytest.approx(wanted, abs=4 * float(drawn.std()) / 200 + 1e-9)
    assert bool(exact.exact) is known
    assert not known or float(exact.of["z"].runs) == pytest.approx(wanted)


def test_the_mean_is_that_over_the_range_of_items() -> None:
    """Of one to three items: a beta distribution, told apart into whole numbers."""
    exact, _ = both(*_line(_each("a"), items=Range(low=1.0, likely=1.5, high=3.0)), 1)
    rng = np.random.default_rng(1)
    drawn = 1 + 2 * rng.beta(2.0, 4.0, 400_000)
    items = np.floor(drawn) + (rng.random(400_000) < drawn % 1)
    assert exact.exact and exact.of["z"].runs == pytest.approx(float((1 - 0.3**items).mean()), abs=5e-4)


def test_items_of_a_trigger_are_all_lost_now_and_then() -> None:
    f = flow([_each("a"), step("z", "http")], [link("start", "a"), link("a", "z")])
    lookup = AssumptionLookup(Assumptions(assume=(Rule(step="a", failure=0.3),)), f)
    entry = {START.id: (Value(1.0, "declared"), 3.0)}
    exact = Passes(Graph(f), lookup, entry)
    assert exact.exact and exact.of["z"].runs == pytest.approx(1 - 0.3**3)
    assert float(Sample(exact.plan, 40_000, 1, entry).of["z"].runs.mean()) == pytest.approx(1 - 0.3**3, abs=0.004)


def test_a_flow_with_many_items_that_vary_is_told_as_exact_where_none_can_be_without() -> None:
    exact, _ = both(*_line(_each("a"), _each("b"), items=Range(low=40.0, likely=50.0, high=90.0)), 1)
    assert exact.exact and exact.of["z"].runs == 1.0


@given(st.floats(0, 1), st.lists(st.floats(0, 6), min_size=1, max_size=5))
def test_all_items_are_gone_as_often_in_every_world_as_in_it_alone(gone: float, each: list[float]) -> None:
    worlds = none_left(gone, Uncertain(each[0], np.array(each)))
    assert isinstance(worlds, Uncertain)
    assert worlds.draws.tolist() == pytest.approx([none_left(gone, one) for one in each])
    doubtful = none_left(Uncertain(gone, np.array([gone, gone / 2])), each[0])
    alone = [none_left(gone, each[0]), none_left(gone / 2, each[0])]
    assert np.broadcast_to(getattr(doubtful, "draws", doubtful), (2,)).tolist() == pytest.approx(alone)


@settings(max_examples=draws(150), deadline=None)
@given(LINES, st.integers(1, 3))
def test_items_of_branches_within_branches_are_those_gone_through_one_by_one(line: Line, items: int) -> None:
    for runs in (1000, 20_000):
        built = Built(line, items)
        exact, sample = both(built.flow, built.rules, runs, runs)
        gone_through = Runs(line, items, random.Random(runs))
        true = np.array([gone_through.run() for _ in range(runs)])
        drawn = sample.of["z"].runs if "z" in sample.of else sample.zero
        means = [float(drawn.mean())] + ([float(exact.of["z"].runs)] if exact.exact else [])
        error = ((float(true.var()) + float(drawn.var()) + 0.01) / runs) ** 0.5
        off = [mean for mean in means if abs(mean - float(true.mean())) > 5 * error]
        if not off:
            return
    raise AssertionError(f"{built.flow} {built.rules}: {true.mean()} and {means}")


MUTANTS: dict[str, tuple[Any, str, Any]] = {
    "exact: passes without items go on": (moving, "left_with_items", lambda brought, *_: brought.passes),
    "exact: each item is a pass": (moving, "left_with_items", lambda brought, items, *_: min(items, brought.passes)),
    "exact: branches meet whatever items they bring": (
        exact_joins,
        "left_with_items",
        lambda brought, *_: brought.passes,
    ),
    "sampled: passes without items go on": (
        StepDraws,
        "left_with_items",
        lambda self, came, passes, items: Load(passes, items, came.single),
    ),
}


@pytest.mark.parametrize("name", MUTANTS)
def test_a_wrong_rule_is_caught(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    owner, attribute, change = MUTANTS[name]
    monkeypatch.setattr(owner, attribute, change)
    wrong = 0
    for (f, rules), wanted, known in CASES.values():
        exact, sample = both(f, rules, 4000)
        drawn = float(sample.of["z"].runs.mean()) if "z" in sample.of else 0.0
        wrong += (known and float(exact.of["z"].runs) != pytest.approx(wanted)) or abs(drawn - wanted) > 0.05
    assert wrong, "no case tells this rule"


@settings(max_examples=draws(100), deadline=None)
@given(lines_of_items(), st.data())
def test_stories_of_steps_that_give_nothing_say_what_is_counted(drawn: Drawn, data: st.DataObject) -> None:
    """What does not run in a story is counted nowhere, and what is counted nowhere does not run."""
    making = [step.id for step in drawn.flow.steps if step.yields == "many" or step.kind == "loop"]
    empty = data.draw(st.sampled_from(making))
    rules = [Rule(step=name, items=0.0 if name == empty else 2.0) for name in making]
    exact, _ = both(drawn.flow, rules, 1)
    graph = Graph(drawn.flow)
    story = WhatIfSimulation(graph, given_of(graph, [], [], [empty])).tell_story()
    counted = {name: float(done.runs) > 0 for name, done in exact.of.items()}
    assert {event.id: event.odds != "not" for event in story.events if event.id in counted} == counted


def test_a_story_says_where_no_items_are_made() -> None:
    (f, _), empty = _line(_each("a")), Given(empty=frozenset({"s"}))
    story = WhatIfSimulation(Graph(f), empty).tell_story()
    assert [event.odds for event in story.events] == ["certain", "not", "not"]
    assert story.events[0].words == "Calls a service. It makes no items, and nothing goes on behind it."
    assert story.ends == "1 step runs for certain. The run ends behind 1 ‘S’."
