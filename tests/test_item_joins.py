"""Branches that carry items and meet again: each item waits for itself, held against runs gone through item by item."""

from __future__ import annotations

import random
from typing import NamedTuple

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import START, flow, link, step
from conftest import draws
from test_sampled import both
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.values import Range, Value
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, JoinMode
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.random_draws import Floats
from zeitbuch.core.passes.sampling import Sample


class Way(NamedTuple):
    """A step on a branch."""

    per_item: bool
    failure: float
    goes_on: bool


class Fork(NamedTuple):
    """Two branches of one to two steps that part at a step (``decides``: each item goes by one of them) and meet at another; ``varies``: from run
    to run there are more or fewer items; ``before``: the chance to lose an item before they part, ``behind``: where they have met."""

    items: int
    decides: bool
    branches: tuple[tuple[Way, ...], tuple[Way, ...]]
    join: JoinMode | None
    per_item: bool
    varies: bool = False
    before: float = 0.0
    behind: float = 0.0

    def flow(self) -> tuple[Flow, list[Rule]]:
        """The flow, and what is assumed of it."""
        split = step("d", "decide" if self.decides else "http", per_item=self.decides)
        steps = [step("s", "http", yields="many"), step("p", "http", per_item=True), split]
        links = [link("start", "s"), link("s", "p"), link("p", "d")]
        items = Range(low=0.0, likely=float(self.items), high=self.items + 2.0) if self.varies else float(self.items)
        rules = [Rule(step="s", items=items), Rule(step="p", failure=self.before), Rule(step="z", failure=self.behind)]
        for letter, ways in zip("ab", self.branches, strict=True):
            before = "d"
            for place, way in enumerate(ways):
                name = f"{letter}{place}"
                more = {"on_fault": "continue"} if way.goes_on else {}
                steps.append(step(name, "http", per_item=way.per_item, **more))
                links.append(link(before, name, "case" if before == "d" and self.decides else "next", name))
                rules.append(Rule(step=name, failure=way.failure))
                before = name
            links.append(link(before, "z"))
        steps += [step("z", "http", per_item=self.per_item, join=self.join), step("y", "http")]
        return flow(steps, [*links, link("z", "y")]), rules

    def runs_of_last(self, rng: random.Random) -> tuple[int, int]:
        """How often the step behind both, and the one behind that, run in one run: items are told apart by number, and a pass goes on while it
        has any."""
        met = self._passes_met(rng)
        if not self.per_item:
            return len(met), sum(rng.random() >= self.behind for _ in met)
        left = [any(rng.random() >= self.behind for _ in range(items)) for items in met]
        return sum(met), sum(left)

    def _begun_items(self, rng: random.Random) -> int:
        if not self.varies:
            return self.items
        high = self.items + 2.0  # PERT: a beta distribution of which likely is the mode
        drawn = high * rng.betavariate(1 + 4 * self.items / high, 1 + 4 * 2 / high)
        return int(drawn) + (rng.random() < drawn % 1)

    def _passes_met(self, rng: random.Random) -> list[int]:
        """The passes that come to the step behind both, each with its number of items."""
        whole = {one for one in range(self._begun_items(rng)) if rng.random() >= self.before}
        first = {one for one in whole if rng.random() < 0.5} if self.decides else whole
        begun = [first, whole - first] if self.decides else [whole, whole]
        came = [self._through(ways, items, rng) for ways, items in zip(self.branches, begun, strict=True)]
        passes = [items for items in came if items]
        mode = self.join or ("each" if self.decides else "all")
        if mode == "each":
            return [len(items) for items in passes]
        if not passes or (mode == "all" and len(passes) < 2):
            return []
        together = passes[0] & passes[-1] if mode == "all" and not self.decides else passes[0] | passes[-1]
        return [len(together)] if together else []

    @staticmethod
    def _through(ways: tuple[Way, ...], items: set[int], rng: random.Random) -> set[int]:
        left = set(items)
        for way in ways:
            if way.per_item:
                left = {one for one in left if rng.random() >= way.failure or way.goes_on}
            elif rng.random() < way.failure and not way.goes_on:
                return set()
        return left


WAYS = st.lists(
    st.builds(Way, st.booleans(), st.sampled_from([0.0, 0.2, 0.5]), st.booleans()), min_size=1, max_size=2
).map(tuple)
FORKS = st.builds(
    Fork,
    st.integers(1, 4),
    st.booleans(),
    st.tuples(WAYS, WAYS),
    st.sampled_from([None, "each", "all", "once"]),
    st.booleans(),
    st.booleans(),
    st.sampled_from([0.0, 0.0, 0.4]),
    st.sampled_from([0.0, 0.4]),
)


@settings(max_examples=draws(80), deadline=None)
@given(FORKS)
def test_items_meet_as_those_gone_through_one_by_one(fork: Fork) -> None:
    f, rules = fork.flow()
    for runs in (2000, 30_000):
        exact, sample = both(f, rules, runs)
        rng = random.Random(runs)
        true = np.array([fork.runs_of_last(rng) for _ in range(runs)])
        off = [line for place, name in enumerate("zy") for line in _differences(name, true[:, place], exact, sample)]
        if not off:
            return
    raise AssertionError(f"{fork}: {off}")


def _differences(name: str, true: Floats, exact: Passes, sample: Sample) -> list[str]:
    """How far the mean and the variance of a step are from the true ones, where that is more than chance."""
    drawn = sample.of[name].runs if name in sample.of else sample.zero
    error = ((float(true.var()) + float(drawn.var()) + 0.01) / len(true)) ** 0.5
    means = [float(drawn.mean())] + ([float(exact.of[name].runs)] if exact.exact else [])
    found = [f"{name}: {mean}, not {true.mean()}" for mean in means if abs(mean - float(true.mean())) > 5 * error]
    squares = [(numbers - numbers.mean()) ** 2 for numbers in (true.astype(float), drawn.astype(float))]
    error = sum(float(square.std()) for square in squares) / len(true) ** 0.5 + 1e-3
    if abs(float(squares[0].mean()) - float(squares[1].mean())) > 5 * error:
        found.append(f"variance of {name}: {squares[1].mean()}, not {squares[0].mean()}")
    return found


@pytest.mark.parametrize(("join", "wanted"), [(None, 112.0), ("once", 188.0), ("each", 300.0)])
def test_of_two_hundred_items_that_two_branches_lose(join: JoinMode | None, wanted: float) -> None:
    f, rules = Fork(200, False, ((Way(True, 0.3, False),), (Way(True, 0.2, False),)), join, True).flow()
    exact, sample = both(f, rules)
    assert exact.exact and exact.of["z"].runs == pytest.approx(wanted)
    assert float(sample.of["z"].runs.mean()) == pytest.approx(wanted, rel=0.01)


def test_exclusive_cases_of_items_meet_once() -> None:
    f, rules = Fork(200, True, ((Way(True, 0.0, False),), (Way(True, 0.0, False),)), "once", True).flow()
    assert float(both(f, rules)[1].of["z"].runs.mean()) == 200


def test_items_of_a_trigger_that_part_at_it() -> None:
    steps = [step("a", "http", per_item=True), step("b", "http", per_item=True), step("z", "http", per_item=True)]
    f = flow(steps, [link("start", "a"), link("start", "b"), link("a", "z"), link("b", "z")])
    lookup = AssumptionLookup(Assumptions(assume=(Rule(step="a", failure=0.3), Rule(step="b", failure=0.2))), f)
    entry = {START.id: (Value(1.0, "declared"), 50.0)}
    exact = Passes(Graph(f), lookup, entry)
    assert exact.exact and exact.of["z"].runs == pytest.approx(50 * 0.56)
    drawn = Sample(exact.plan, 4000, 1, {START.id: (Value(1.0, "declared"), 50.0)}).of["z"].runs
    assert float(drawn.mean()) == pytest.approx(28, rel=0.01)


def test_branches_that_make_items_are_told_as_what_no_rule_tells() -> None:
    f, rules = Fork(4, False, ((Way(True, 0.3, False),), (Way(True, 0.2, False),)), None, True).flow()
    many = structs.replace(f, steps=tuple(structs.replace(s, yields="many") if s.id == "a0" else s for s in f.steps))
    exact, _ = both(many, rules, 1)
    assert exact.inexact == ["a join of branches with several items"]
