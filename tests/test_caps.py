"""Caps hold whatever is declared, and ranges enter powers and caps as ranges: against draws that know nothing of the walkers."""

from __future__ import annotations

import random
from collections.abc import Callable

import pytest

from builders import ask, chain, flow, link, step
from test_meters import card
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.estimate.comparison import compare_options
from zeitbuch.core.estimate.records import Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.estimate.scenario_records import Scenario, SetParameter
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow, Repeat, Retry
from zeitbuch.core.passes.exact import Passes


def agent(cap: int | None) -> Flow:
    return flow(
        [ask("g", kind="agent", max_turns=cap), step("tool", "tool")], [link("start", "g"), link("tool", "g", "attach")]
    )


def passes(made: Flow, *rules: Rule) -> Passes:
    return Passes(Graph(made), AssumptionLookup(Assumptions(assume=rules), made))


def pert_mean(low: float, likely: float, high: float, result_of: Callable[[float], float]) -> float:
    """The mean of something over a PERT distribution, from draws of a generator of its own."""
    draw = random.Random(5)
    alpha = 1 + 4 * (likely - low) / (high - low)
    drawn = [low + (high - low) * draw.betavariate(alpha, 6 - alpha) for _ in range(60_000)]
    return sum(map(result_of, drawn)) / len(drawn)


@pytest.mark.parametrize(
    ("declared", "cap", "turns"),
    [(6.0, 2, 2), (6.0, None, 6), (3.0, 4, 3), (Range(5, 6, 9), 4, 4), (Range(1, 2, 4), 4, 13 / 6)],
)
def test_turns_are_never_above_the_cap_of_the_agent(declared: float | Range, cap: int | None, turns: float) -> None:
    found = passes(agent(cap), Rule(step="g", turns=declared)).of["g"]
    assert found.turns == pytest.approx(turns)


def test_a_cap_within_a_range_leaves_the_mean_of_what_is_below() -> None:
    found = passes(agent(4), Rule(step="g", turns=Range(1, 3, 10))).of["g"]
    assert found.turns == pytest.approx(pert_mean(1, 3, 10, lambda turns: min(turns, 4)), rel=5e-3)


def test_a_scenario_that_caps_turns_saves_what_it_must() -> None:
    estate, rules = Estate((agent(8),)), (Rule(step="g", turns=4.0, output=100.0), Rule(trigger="start", runs=1000.0))
    capped = Scenario("short", change=(SetParameter(step="g", max_turns=2),))
    found = compare_options(
        estate, card(), Assumptions(assume=rules, month="2026-11"), [capped], "2026-11", {}, crossings=False
    )
    base = estimate_flows(estate.flows, card(), Assumptions(assume=rules), "2026-11").total
    short = estimate_flows((agent(2),), card(), Assumptions(assume=rules), "2026-11").total
    assert found.options[1].difference == pytest.approx(short.cost_month.amount - base.cost_month.amount)
    assert found.options[1].difference < 0


def test_rounds_in_doubt_meet_their_cap_as_a_range() -> None:
    loop = step("w", "loop", repeat=Repeat(until="it is well", cap=5))
    made = flow([loop, ask("a", scope="w")], [link("start", "w")])
    found = passes(made, Rule(step="w", rounds=Range(1, 2, 20)))

    def rounds_up_to_five(rounds: float) -> float:
        return sum((1 - 1 / rounds) ** place for place in range(5))

    assert found.of["a"].runs == pytest.approx(pert_mean(1, 2, 20, rounds_up_to_five), rel=5e-3)
    assert round(found.of["a"].runs, 1) == 3.0
    assert not any("without a cap" in note for note in found.notes)
    (told,) = passes(
        flow([step("w", "loop", repeat=Repeat(until="well")), ask("a", scope="w")], [link("start", "w")])
    ).notes
    assert told == "'W' goes round until its condition holds, without a cap: up to 100 rounds are counted"


@pytest.mark.parametrize("tries", [0, 1, 5])
def test_tries_are_the_mean_over_the_range_of_failures(tries: int) -> None:
    made = chain(step("a", "http", retry=Retry(attempts=tries)), ask("b"))
    rules = (Rule(step="a", failure=Range(0.05, 0.3, 0.9), timeout=0.05), Rule(trigger="start", runs=1.0))
    found = passes(made, *rules)
    wrong = [lambda f, power=power: min(1, f + 0.05) ** power for power in range(tries + 2)]
    done = sum(pert_mean(0.05, 0.3, 0.9, one) for one in wrong[:-1])
    assert found.of["a"].runs == pytest.approx(done, rel=5e-3)
    assert found.of["b"].runs == pytest.approx(1 - pert_mean(0.05, 0.3, 0.9, wrong[-1]), rel=5e-3)
    sampled = estimate_flows((made,), card(), Assumptions(assume=rules), "2026-11", Sampling(20_000), detail=True)
    assert sampled.flows[0].calls_spread is not None
    assert sampled.flows[0].calls_spread.mean == pytest.approx(found.of["b"].runs, rel=0.02)
