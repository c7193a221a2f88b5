"""What is worked out for all drawn worlds at once is, in each of them, what the plain arithmetic says with the assumptions of that world."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from decimal import Decimal
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec import UNSET, structs

from any_shape import Drawn, any_flows
from builders import ask, chain, flow, link, step
from conftest import draws
from trees import STARTED, Tree, grown
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import DOUBTFUL, QUANTITIES
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.uncertain import Uncertain, draws_of, in_each_world, least, most
from zeitbuch.core.assumptions.values import Range, Value, value_of
from zeitbuch.core.assumptions.volume import runs_of_check
from zeitbuch.core.assumptions.worlds import Worlds
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, ModelUse, Pieces, Prompt, Ref, Repeat, Retry, Schedule, Trigger
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

COUNT = 40


class OneWorld:
    """One of many worlds: every value is a plain number, the one that it has there."""

    def __init__(self, worlds: Worlds, place: int) -> None:
        self.worlds, self.place = worlds, place

    def _there(self, value: float) -> float:
        return float(value.draws[self.place]) if type(value) is Uncertain else value

    def in_worlds(self, key: str, quantity: str, value: Value) -> Value:
        found = self.worlds.in_worlds(key, quantity, value)
        amount = self._there(found.amount)
        varies = quantity not in DOUBTFUL and found.ranged
        low, high = (self._there(found.low), self._there(found.high)) if varies else (amount, amount)
        return Value(amount, value.evidence, value.why, low, high)

    def in_equal_parts(self, key: str, what: Sequence[str], whole: float) -> list[float]:
        return [self._there(part) for part in self.worlds.in_equal_parts(key, what, whole)]


def passes_in(f: Flow, rules: list[Rule], worlds: Any) -> Passes:
    return Passes(Graph(f), AssumptionLookup(Assumptions(assume=tuple(rules)), f, worlds))


def apart(f: Flow, rules: list[Rule]) -> list[str]:
    """Steps whose passes in a world are others than those worked out for that world alone."""
    worlds = Worlds(COUNT)
    together, plain = passes_in(f, rules, worlds), passes_in(f, rules, None)
    found = [key for key, one in plain.of.items() if float(together.of[key].runs) != pytest.approx(one.runs, rel=1e-9)]
    if together.capped:
        return found
    for place in range(0, COUNT, 13):
        alone = passes_in(f, rules, OneWorld(worlds, place))
        for key, one in alone.of.items():
            there = float(np.broadcast_to(draws_of(together.of[key].runs), COUNT)[place])
            if there != pytest.approx(one.runs, rel=2e-3, abs=1e-6):
                found.append(f"{key} in world {place}: {there} together, {one.runs} alone")
    return found


def in_doubt(rule: Rule) -> Rule:
    """A rule whose numbers are in doubt, as far as their bounds allow."""
    changed: dict[str, Any] = {}
    for quantity, figure in rule.given_quantities():
        assert not isinstance(figure, Range)
        bottom, top, _ = QUANTITIES[quantity]
        near = min(figure - bottom, top - figure) * 0.5
        changed[quantity] = Range(mean=figure, mean_low=figure - near, mean_high=figure + near)
    return structs.replace(rule, **changed)


def all_in_doubt(rules: list[Rule]) -> list[Rule]:
    """All rules in doubt. Where the shares of a step sum to 1, the last case gets what the others leave: of drawn ones nobody knows
    better."""
    total: dict[str, float] = {}
    for rule in rules:
        total[rule.step] = total.get(rule.step, 0.0) + (rule.share if isinstance(rule.share, float) else 0.0)
    last = {rule.step: rule for rule in rules if rule.share is not UNSET and abs(total[rule.step] - 1) < 1e-9}
    return [in_doubt(rule) for rule in rules if last.get(rule.step) is not rule]


@settings(max_examples=draws(50), deadline=None, suppress_health_check=list(HealthCheck))
@given(any_flows(), st.booleans())
def test_passes_of_all_worlds_are_those_of_each(drawn: Drawn, declared: bool) -> None:
    """Of flows of any shape, with doubt in what is declared, and in what nobody declares."""
    rules = all_in_doubt(drawn.rules) if declared else [r for r in drawn.rules if r.share is UNSET]
    assert apart(drawn.flow, rules) == []


def test_more_items_of_each_bring_back_no_pass_that_lost_its_own() -> None:
    """Items of which some fail, and of which each becomes about one: fewer in some worlds, more in others."""
    off = step("off", "decide", enabled=False)
    links = [link("start", "off"), link("off", "many", "case", "a", after=("skip",)), link("many", "last")]
    f = flow([off, step("many", "http", per_item=True, yields="many"), step("last", "http")], links)
    assert apart(f, all_in_doubt([Rule(step="many", failure=0.3), Rule(step="many", items=1.0)])) == []
    # What fails and goes on stays, whatever becomes of the others: with 0.8 of each, 0.3 + 0.7 x 0.8 of the runs go on.
    f = chain(step("many", "http", per_item=True, yields="many", on_fault="continue"), step("last", "http"))
    assert apart(f, all_in_doubt([Rule(step="many", failure=0.3), Rule(step="many", items=1.0)])) == []
    rules = [Rule(step="many", failure=0.3), Rule(step="many", items=0.8)]
    assert passes_in(f, rules, None).of["last"].runs == pytest.approx(0.86)
    # Two items of which each becomes 1.5 on average, none at times: 0.3 x 0.3 of the runs have lost both before.
    f = chain(
        step("two", "http", yields="many"), step("many", "http", per_item=True, yields="many"), step("last", "http")
    )
    rules = [Rule(step="two", items=2.0), Rule(step="many", failure=0.3), Rule(step="many", items=Range(0, 1.5, 3))]
    assert passes_in(f, rules, None).of["last"].runs <= 0.91


def test_what_is_nothing_on_average_is_something_in_worlds() -> None:
    """Found by a long run: one item on average, fewer in some worlds, so that what waits for nothing coming runs there, fails, and is followed."""
    steps = [step("many", "http", yields="many"), step("next", "http"), step("else", "decide"), step("last", "http")]
    links = [link("start", "many"), link("many", "next"), link("next", "else", after=("skip",))]
    links.append(link("else", "last", "case", "a", after=("failure",)))
    rules = [Rule(step="many", items=1.0), Rule(step="else", failure=0.3)]
    f = flow(steps, links)
    assert apart(f, all_in_doubt(rules)) == []
    worlds = passes_in(f, all_in_doubt(rules), Worlds(COUNT))
    assert (
        float(worlds.of["last"].runs) == 0.0
        and worlds.of["last"].runs
        and not passes_in(f, rules, None).of["last"].runs
    )


def test_more_than_parted_may_come_in_some_worlds_only() -> None:
    """Found by a long run: behind a decision of which any cases are taken as many come on average as began, and more in some worlds."""
    leaf = Tree("leaf", f=0.0, t=0.0, r=0, mode="stop")
    several, one = Tree("any", (leaf, leaf), shares=[0.2, 0.9]), Tree("any", (leaf, leaf), shares=[0.5, 0.5])
    f, rules = grown(Tree("fan", (several, one, leaf), second=False))
    assert apart(f, all_in_doubt(rules)) == []


@settings(max_examples=80, deadline=None, suppress_health_check=list(HealthCheck))
@given(STARTED)
def test_passes_of_scopes_in_all_worlds_are_those_of_each(tree: Tree) -> None:
    f, rules = grown(tree)
    assert apart(f, all_in_doubt(rules)) == []


# -- whole figures -----------------------------------------------------------------------------------------------------

CARD = RateCard(
    currency="EUR",
    model=(
        ModelRate(
            "fulmar-mini-2",
            price=(
                Price(
                    date(2026, 1, 1), input=Decimal(2), output=Decimal(8), cached=Decimal(1), deferred=Decimal("0.5")
                ),
            ),
        ),
    ),
)


def placed(text: str, source: str) -> dict[str, Any]:
    return {"prompts": (Prompt(text=text, refs=(Ref(step=source, text="{x}"),)),)}


def helper_flow() -> Flow:
    helper, memory = step("find", "retrieve"), step("mind", "memory")
    one = structs.replace(
        ask("a", kind="agent", max_turns=6),
        model=ModelUse(name="fulmar-mini-2", max_turns=6, **placed("Help {x}", "start")),
    )
    f = flow([one, helper, memory], [link("start", "a"), link("find", "a", "attach"), link("mind", "a", "attach")])
    return structs.replace(f, triggers=(Trigger(id="start", kind="webhook", condition="x > 1"),))


def document_flow() -> Flow:
    read = step("read", "read")
    embed = step(
        "e",
        "embed",
        pieces=Pieces(size=200, overlap=20, unit="tokens", batch=4),
        model=ModelUse(name="fulmar-mini-2", modality="embedding", **placed("{x}", "read")),
    )
    tell = step(
        "t",
        "model",
        model=ModelUse(name="fulmar-mini-2", task="summary", max_output=200, **placed("Sum up {x} and {x}", "read")),
    )
    f = chain(read, embed, tell)
    every = Schedule(every=3600.0)
    return structs.replace(f, triggers=(Trigger(id="start", kind="polling", schedule=every, batch=3),))


def deciding_flow() -> Flow:
    steps = [
        step("d", "decide"),
        step("l", "loop", repeat=Repeat(until="good", cap=4)),
        structs.replace(ask("m"), scope="l", retry=Retry(2)),
        ask("n"),
    ]
    return flow(
        steps,
        [
            link("start", "d"),
            link("d", "l", "case", "one"),
            link("d", "n", "case", "two"),
            link("d", "z", "case", "three"),
        ][:3],
    )


RULES = [
    Rule(
        step="m",
        failure=Range(0.05, 0.1, 0.4),
        batched=Range(0.1, 0.5, 0.9),
        cached=Range(mean=0.3, mean_low=0.1, mean_high=0.9),
    ),
    Rule(step="a", turns=Range(low=2, likely=4, high=9, mean_low=3, mean_high=7)),
    Rule(step="l", rounds=Range(mean=3, mean_low=2, mean_high=6)),
    Rule(step="read", size=Range(mean=3000, mean_low=200, mean_high=9000)),
    Rule(trigger="start", events=Range(100, 400, 2000), items=Range(mean=4, mean_low=2, mean_high=9)),
]


@pytest.mark.parametrize("rules", [RULES, RULES[-1:]], ids=["declared", "defaults"])
@pytest.mark.parametrize("make", [helper_flow, document_flow, deciding_flow])
def test_figures_of_all_worlds_are_those_of_each(make: Any, rules: list[Rule]) -> None:
    """Passes, volume, tokens and money, whether they are declared with doubt or stand at their defaults."""
    worlds, month = Worlds(COUNT), (2026, 11)
    assumed, prices = Assumptions(assume=tuple(rules)), Prices(CARD, (2026, 11))
    together = one_run(make(), assumed, prices, month, worlds=worlds)
    plain = one_run(make(), assumed, prices, month)
    assert float(together.sums.spent) == pytest.approx(float(plain.cost.amount), rel=1e-9)
    assert together.cost == plain.cost
    assert together.volume.runs == plain.volume.runs

    def told(run: FlowFigures) -> list[float]:
        return [run.sums.spent, run.sums.calls, run.sums.input_tokens, run.sums.output_tokens, run.volume.runs or 0.0]

    for place in range(0, COUNT, 7):
        alone = one_run(make(), assumed, prices, month, worlds=OneWorld(worlds, place))
        there = [float(np.broadcast_to(draws_of(number), COUNT)[place]) for number in told(together)]
        assert there == pytest.approx(told(alone), rel=2e-3)
    assert max(np.ptp(draws_of(number)) / float(number) for number in told(together)[:1]) > 0.1


def test_numbers_keep_their_worlds() -> None:
    a, b = Uncertain(2.0, np.array([1.0, 3.0])), Uncertain(4.0, np.array([0.0, 8.0]))
    rows = {
        "sum": a + b, "sum with a number": 1 + a, "difference": a - b, "from a number": 1 - a, "product": a * b, "times": 3 * a,
        "quotient": a / 2, "of a number": 6 / a, "power": a**2, "to the power": 2**a, "minus": -a, "least": least(a, 2.5), "most": most(a, b),
    }  # fmt: skip
    wanted: dict[str, tuple[float, list[float]]] = {
        "sum": (6, [1, 11]), "sum with a number": (3, [2, 4]), "difference": (-2, [1, -5]), "from a number": (-1, [0, -2]),
        "product": (8, [0, 24]), "times": (6, [3, 9]), "quotient": (1, [0.5, 1.5]), "of a number": (3, [6, 2]), "power": (4, [1, 9]),
        "to the power": (4, [2, 8]), "minus": (-2, [-1, -3]), "least": (2, [1, 2.5]), "most": (4, [1, 8]),
    }  # fmt: skip
    assert {name: (float(row), draws_of(row).tolist()) for name, row in rows.items()} == wanted
    # Where nothing came there is nothing to share out.
    assert (draws_of(a / b).tolist(), float(Uncertain(0.0, b.draws) / 0.0)) == ([0.0, 3 / 8], 0.0)
    with pytest.raises(TypeError):
        np.array([1.0, 2.0]) * a


@pytest.mark.parametrize("quantity", ["share", "turns", "output"])
def test_the_same_assumption_is_one_unknown(quantity: str) -> None:
    """Whatever it applies to, in whatever flow, and whatever else is read; another one goes its own way."""
    mean = 0.5 if quantity == "share" else 6.0
    value = value_of(quantity, Range(mean=mean, mean_low=mean / 3, mean_high=mean * 2), "declared")
    first, again, other = (Worlds().in_worlds(key, quantity, value).amount for key in ("a", "a", "b"))
    assert float(draws_of(first).mean()) == pytest.approx(mean, rel=1e-3)
    assert abs(float(np.corrcoef(draws_of(first), draws_of(other))[0, 1])) < 0.1
    assert np.array_equal(draws_of(first), draws_of(again))


def test_a_smooth_function_is_drawn_from_a_grid() -> None:
    """Dear functions of what is in doubt: near enough to going through all worlds one by one."""
    rng = np.random.default_rng(1)
    events, items = (
        Uncertain(mean, rng.uniform(low, high, 500)) for mean, low, high in ((200.0, 50, 400), (6.0, 2, 11))
    )
    for numbers in ((events, 3.0), (events, items), (Uncertain(7.0, np.full(500, 7.0)), 2.0)):
        asked = lambda count, each: runs_of_check(count, each, 4)  # noqa: E731
        whole, grid = in_each_world(asked, *numbers), in_each_world(asked, *numbers, smooth=True)
        assert float(grid) == float(whole)
        assert draws_of(grid) == pytest.approx(draws_of(whole), rel=0.01)


_MANY = step("s", "http", yields="many")
_OFF = step("x", "http", scope="g", enabled=False)
AROUND_ONE = {
    "a step behind": flow([_MANY, step("z", "http")], [link("start", "s"), link("s", "z")]),
    "a block behind": flow([_MANY, step("g", "group"), _OFF], [link("start", "s"), link("s", "g")]),
    "a block around": flow(
        [step("g", "group"), structs.replace(_MANY, scope="g"), step("z", "http"), step("y", "http", per_item=True)],
        [link("start", "g"), link("g", "z"), link("z", "y")],
    ),
    "a step for each item": flow(
        [_MANY, step("a", "http", per_item=True), step("z", "http")],
        [link("start", "s"), link("s", "a"), link("a", "z")],
    ),
}


@pytest.mark.parametrize("name", AROUND_ONE)
def test_items_that_are_one_on_average_are_no_one_in_every_world(name: str) -> None:
    rules = all_in_doubt([Rule(step="s", items=1.0), Rule(step="a", failure=0.3)])
    assert apart(AROUND_ONE[name], rules) == []


def test_what_is_never_skipped_on_average_is_in_some_worlds() -> None:
    steps = [step("a", "http"), *[step(name, "http") for name in ("b", "c", "z")], step("off", "http", enabled=False)]
    links = [link("start", "a"), link("a", "off", "error"), link("a", "b"), link("off", "c")]
    links += [link("b", "c", after=("skip",)), link("c", "z", after=("skip",))]
    f = flow(steps, links)
    rules = all_in_doubt([Rule(step="a", failure=0.5)])
    assert passes_in(f, rules, None).of["z"].runs == 0
    assert apart(f, rules) == [] and draws_of(passes_in(f, rules, Worlds(COUNT)).of["z"].runs).any()
