"""Months played out run by run, with arithmetic of their own: an estate, what is assumed of it, and one month as it might really go.

Nothing here uses the passes, the draws or the meters of Zeitbuch: what holds is taken from docs/arithmetic.md. What is assumed is drawn
from the ranges that are stated, once for the month, and every run is then played with it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from typing import Any

import numpy as np

from builders import ask, flow, link, step
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.model.records import Flow, Repeat, Retry, Trigger
from zeitbuch.core.pricing.rate_card import Belongs, Host, Meter, MeterPrice, ModelRate, Price, RateCard, Stair

TOKEN, CALL, DAY = 0.001, 0.05, date(2026, 1, 1)
DEFAULT_ITEMS, DEFAULT_OUTPUT, DEFAULT_TURNS = 10.0, 250.0, (1.0, 3.0, 10.0)


@dataclass
class Case:
    """One random estate: what is assumed, None where nothing is said, and the terms of its meter."""

    runs: Any
    helped: Any
    share: Any
    items: Any
    failure: Any
    turns: Any
    output: Any
    cap: int | None
    included: float
    stair: float
    rules: list[Rule] = field(default_factory=list)


def random_case(rng: np.random.Generator) -> Case:
    """Numbers with ranges or without, or left to their defaults."""

    def doubted(low: float, high: float, top: float = 1e9) -> Range:
        mean = float(rng.uniform(low, high))
        return Range(
            mean=mean,
            mean_low=mean * float(rng.uniform(0.3, 0.8)),
            mean_high=min(top, mean * float(rng.uniform(1.2, 2.5))),
        )

    def pick(*ways: Any) -> Any:
        return ways[int(rng.integers(len(ways)))]

    def spread(low: float, high: float) -> Range:
        likely = float(rng.uniform(low, high))
        return Range(low=likely / 2, likely=likely, high=likely * 3)

    varied = spread(2, 8)
    mean = (varied.low + 4 * varied.likely + varied.high) / 6  # type: ignore[operator]
    return Case(
        runs=pick(float(rng.integers(20, 300)), spread(20, 200)),
        helped=pick(0.0, float(rng.integers(5, 100)), spread(5, 60)),
        share=pick(None, doubted(0.2, 0.5, 0.9), 0.3),
        items=pick(None, varied, Range(varied.low, varied.likely, varied.high, mean_low=mean * 0.6, mean_high=mean * 1.7)),
        failure=pick(0.0, 0.2, doubted(0.05, 0.3, 0.8)),
        turns=pick(None, Range(2, 4, 8), Range(mean=4.0, mean_low=2.0, mean_high=7.0)),
        output=pick(None, doubted(100, 600)),
        cap=pick(None, 5, 8),
        included=float(rng.integers(0, 1500)),
        stair=float(rng.integers(1500, 4000)),
    )  # fmt: skip


def flows_of(case: Case) -> tuple[Flow, ...]:
    """A desk that decides between a model, a loop of calls that may fail, and another flow: an agent with a tool."""
    agent = ask("a", "", "m", kind="agent", **({"max_turns": case.cap} if case.cap else {}))
    desk = flow(
        [
            step("d", "decide"),
            ask("m", "", "m"),
            step("l", "loop", repeat=Repeat(items="x")),
            ask("n", "", "m", scope="l", retry=Retry(1)),
            step("c", "subflow", calls="help"),
        ],
        [link("start", "d"), *[link("d", target, "case", target) for target in ("m", "l", "c")]],
        id="desk",
        triggers=(Trigger(id="start", kind="webhook"),),
    )
    helping = flow(
        [agent, step("t", "http")],
        [link("start", "a"), link("t", "a", "attach")],
        id="help",
        triggers=(Trigger(id="start", kind="webhook"),),
    )
    return desk, helping


def assumptions_of(case: Case) -> Assumptions:
    said = [
        Rule(flow="desk", trigger="start", runs=case.runs),
        Rule(flow="help", trigger="start", runs=case.helped),
        Rule(flow="desk", step="n", failure=case.failure),
    ]
    if case.share is not None:
        said.append(Rule(flow="desk", step="d", case="m", share=case.share))
    if case.items is not None:
        said.append(Rule(flow="desk", step="l", items=case.items))
    if case.turns is not None:
        said.append(Rule(flow="help", step="a", turns=case.turns))
    if case.output is not None:
        said.append(Rule(flow="*", step="*", output=case.output))
    return Assumptions(assume=tuple(said))


def card_of(case: Case) -> RateCard:
    model = ModelRate("m", price=(Price(since=DAY, input=Decimal(0), output=Decimal(1000), call=Decimal(str(CALL))),))
    stairs = (Stair(above=Decimal(case.included + case.stair), each=Decimal("0.01")),)
    price = MeterPrice(since=DAY, each=Decimal("0.03"), included=Decimal(case.included), stair=stairs)
    meter = Meter("steps", "step", price=(price,))
    return RateCard(
        "EUR", model=(model,), meter=(meter,), host=(Host("h", ("steps",), Decimal(20), flows=(Belongs(),)),)
    )


class Month:
    """One month of a case, as it might go."""

    def __init__(self, case: Case, rng: np.random.Generator) -> None:
        self.case, self.rng = case, rng
        self.money, self.steps = 0.0, 0
        half_to_double = {name: self.pert(0.5, 1.0, 2.0) for name in ("items", "output", "turns")}
        self.runs, self.helped = self.in_doubt(case.runs), self.in_doubt(case.helped)
        self.failure = self.in_doubt(case.failure)
        self.shares = self.drawn_shares()
        self.items = self.varying(case.items, (5.0, DEFAULT_ITEMS, 15.0), half_to_double["items"], 0.0)
        self.turns = self.varying(
            case.turns, DEFAULT_TURNS if not case.cap else (1.0, 3.0, float(case.cap)), half_to_double["turns"], 1.0
        )
        default = (DEFAULT_OUTPUT / 2, DEFAULT_OUTPUT, DEFAULT_OUTPUT * 1.5)
        self.output = self.varying(case.output, default, half_to_double["output"], 0.0)

    def pert(self, low: float, mean: float, high: float) -> float:
        return low + (high - low) * float(
            self.rng.beta(6 * (mean - low) / (high - low), 6 * (high - mean) / (high - low))
        )

    def in_doubt(self, said: Any) -> float:
        """What is the same for the whole month."""
        if not isinstance(said, Range):
            return float(said)
        if said.mean_low is said.low or not isinstance(said.low, float | int):
            return self.pert(said.mean_low, said.mean, said.mean_high)  # type: ignore[arg-type]
        return self.pert(said.low, (said.low + 4 * said.likely + said.high) / 6, said.high)  # type: ignore[operator,arg-type]

    def drawn_shares(self) -> list[float]:
        weights = [self.pert(0.5, 1.0, 2.0) for _ in range(3)]
        if self.case.share is None:
            return [weight / sum(weights) for weight in weights]
        first = self.in_doubt(self.case.share)
        return [first, *[(1 - first) * weight / sum(weights[1:]) for weight in weights[1:]]]

    def varying(self, said: Any, default: tuple[float, float, float], factor: float, least: float) -> Any:
        """Draws what varies from run to run, around the mean of this month."""
        if said is None:
            low, likely, high = default
            low, mean, high = (low, (low + 4 * likely + high) / 6, high)
            scale = factor
        elif isinstance(said.low, float | int):
            low, high = float(said.low), float(said.high)
            mean = (low + 4 * said.likely + high) / 6
            scale = 1.0
            if isinstance(said.mean_low, float | int):
                scale = (self.pert(said.mean_low, mean, said.mean_high) - least) / (mean - least)
        else:
            value = self.pert(said.mean_low, said.mean, said.mean_high)
            return lambda: value
        return lambda: least + (self.pert(low, mean, high) - least) * scale

    def call(self, tokens: float) -> None:
        self.money += CALL + tokens * TOKEN
        self.steps += 1

    def play(self) -> float:
        """The bill."""
        for _ in range(self.rng.poisson(self.runs)):
            self.run_desk()
        for _ in range(self.rng.poisson(self.helped)):
            self.run_help()
        price = 0.03 * min(max(0.0, self.steps - self.case.included), self.case.stair)
        price += 0.01 * max(0.0, self.steps - self.case.included - self.case.stair)
        return self.money + price + 20.0

    def run_desk(self) -> None:
        self.steps += 1
        way = int(np.searchsorted(np.cumsum(self.shares), self.rng.random()))
        if way == 0:
            self.call(self.output())
        elif way == 1:
            self.steps += 1
            amount = self.items()
            for _ in range(int(amount) + (self.rng.random() < amount - int(amount))):
                self.call(self.output())
                if self.rng.random() < self.failure:
                    self.call(self.output())
        else:
            self.steps += 1
            self.run_help()

    def run_help(self) -> None:
        turns = self.turns()
        turns = min(turns, self.case.cap) if self.case.cap else turns
        self.money += turns * CALL + (self.output() + 40 * (turns - 1)) * TOKEN
        self.steps += 1
        calls = turns - 1
        self.steps += int(calls) + (self.rng.random() < calls - int(calls))
