"""Random estates with hidden parameters, simulated run by run, for calibration: shares of cases, items, turns, failures with retries, sizes,
weekdays. Nothing of what estimates or fits is used here."""

from __future__ import annotations

import datetime as dt
import math
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cache
from itertools import repeat
from typing import Any

import numpy as np
from msgspec import structs

from builders import ask, flow, link, step
from usage_worlds import PRICES, World, price
from zeitbuch.core.actuals.reconcile import Basis
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.model.records import Estate, Flow, Link, Prompt, Ref, Repeat, Retry, Schedule, Step, Trigger
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

FIRST = dt.date(2026, 10, 1)
DAYS = [FIRST + dt.timedelta(place) for place in range(61)]
SPLIT = dt.date(2026, 11, 1)  # fitted before, predicted from here on
MODELS = tuple(PRICES)
Sizes = Callable[[float, float], int]  # tokens, of mean and spread
TITLES = (
    "Berth notices",
    "Cargo papers",
    "Letters",
    "Crew swaps",
    "Lost property",
    "Fares desk",
    "Ice watch",
    "Quay rota",
    "Buoy checks",
    "Tide notes",
)


@dataclass
class Call:
    """A step that calls a model: mean tokens in and out, how much they vary, the chance that a try fails, and how often it is tried again."""

    id: str
    model: str
    tokens_in: float
    tokens_out: float
    spread: float
    failure: float = 0.0
    retries: int = 0
    turns: float = 0.0  # of an agent: mean, 0 for a plain step


@dataclass
class Block:
    """One after the other: a call, a choice between lists of calls, or a loop over items."""

    kind: str
    calls: list[Call]
    shares: list[float] = field(default_factory=list)
    items: float = 0.0
    id: str = ""


@dataclass
class Blueprint:
    id: str
    name: str
    rate: float
    weekend: float
    blocks: list[Block]
    hour: int | None = None


def _call(rng: random.Random, id: str) -> Call:
    spread = rng.uniform(0.1, 0.6)
    made = Call(id, rng.choice(MODELS), 10 ** rng.uniform(2.2, 3.8), 10 ** rng.uniform(1.2, 2.9), spread)
    if rng.random() < 0.25:
        made.failure, made.retries = rng.uniform(0.02, 0.25), rng.randint(1, 3)
    if rng.random() < 0.15:
        made.turns, made.failure = rng.uniform(1.5, 6), 0.0
    return made


def _block(rng: random.Random, place: int) -> Block:
    kind = rng.choice(["call", "call", "choice", "loop"])
    if kind == "call":
        return Block("call", [_call(rng, f"s{place}")])
    if kind == "loop":
        return Block("loop", [_call(rng, f"s{place}i")], items=rng.uniform(1.5, 12), id=f"loop{place}")
    ways = rng.randint(2, 4)
    weights = [rng.uniform(0.05, 1) for _ in range(ways)]
    calls = [_call(rng, f"s{place}c{way}") for way in range(ways)]
    return Block("choice", calls, [weight / sum(weights) for weight in weights], id=f"pick{place}")


def draw_blueprint(rng: random.Random, number: int, title: str) -> Blueprint:
    blocks = [_block(rng, place) for place in range(rng.randint(1, 4))]
    if rng.random() < 0.7:  # most flows make a call in each run
        blocks.insert(0, Block("call", [_call(rng, "first")]))
    hour = rng.randint(1, 20) if rng.random() < 0.2 else None
    rate = 1.0 if hour is not None else 10 ** rng.uniform(0.0, 2.0)
    return Blueprint(
        f"f{number}",
        title,
        rate,
        1.0 if rng.random() < 0.6 or hour is not None else rng.uniform(0.0, 0.5),
        blocks,
        hour,
    )


def flow_of(plan: Blueprint) -> Flow:
    """The definition: it says what there is, and none of the hidden numbers."""
    steps: list[Step] = []
    links: list[Link] = []
    ends = ["t"]
    for block in plan.blocks:
        if block.kind == "call":
            steps.append(_step(block.calls[0]))
            links += [link(end, block.calls[0].id) for end in ends]
            ends = [block.calls[0].id]
        elif block.kind == "loop":
            steps += [step(block.id, "loop", repeat=Repeat(items="rows")), _step(block.calls[0], block.id)]
            links += [*(link(end, block.id) for end in ends), link(block.id, block.calls[0].id)]
            ends = [block.id]
        else:
            steps += [step(block.id, "decide"), *[_step(one) for one in block.calls]]
            links += [link(end, block.id) for end in ends]
            links += [link(block.id, one.id, "case", f"way {place}") for place, one in enumerate(block.calls)]
            ends = [one.id for one in block.calls]
    clock = Schedule(cron=f"0 {plan.hour} * * *", zone="UTC") if plan.hour is not None else None
    trigger = Trigger(id="t", kind="schedule" if clock else "webhook", schedule=clock)
    links = [one for one in links if not (one.source.startswith("loop") and one.target.endswith("i"))]
    return flow(steps, links, id=plan.id, name=plan.name, triggers=(trigger,))


def _step(call: Call, scope: str | None = None) -> Step:
    retry = Retry(call.retries) if call.retries else None
    kind = "agent" if call.turns else "model"
    made = ask(call.id, "Answer: ", name=call.model, kind=kind, scope=scope, retry=retry, on_fault="continue")
    assert made.model is not None
    prompt = Prompt(text="Answer: <letter>", refs=(Ref(step="t", text="<letter>"),))
    return structs.replace(made, model=structs.replace(made.model, prompts=(prompt,)))


def draw_estate(rng: random.Random) -> tuple[World, list[Blueprint]]:
    plans = [draw_blueprint(rng, number, title) for number, title in enumerate(rng.sample(TITLES, rng.randint(4, 8)))]
    card = RateCard(
        "EUR",
        model=tuple(
            ModelRate(name, price=(Price(since=dt.date(2026, 1, 1), input=Decimal(given), output=Decimal(got)),))
            for name, (given, got) in PRICES.items()
        ),
    )
    estate = Estate(flows=tuple(flow_of(plan) for plan in plans))
    return World(Basis(estate, card, Assumptions()), []), plans


def _poisson(rng: random.Random, mean: float) -> int:
    if mean > 60:
        return max(0, round(rng.gauss(mean, math.sqrt(mean))))
    limit, product, count = math.exp(-mean), rng.random(), 0
    while product > limit:
        product *= rng.random()
        count += 1
    return count


def _sizes(rng: random.Random) -> Sizes:
    """Draws log-normal sizes, from normal numbers that are made many at once: worlds take hundreds of thousands."""
    many = np.random.default_rng(rng.getrandbits(64))
    normal = (one for _ in repeat(None) for one in many.standard_normal(4096).tolist())

    def size(mean: float, spread: float) -> int:
        mu, sigma = _lognormal(mean, spread)
        return max(1, round(math.exp(mu + sigma * next(normal))))

    return size


@cache
def _lognormal(mean: float, spread: float) -> tuple[float, float]:
    sigma = math.sqrt(math.log(1 + spread * spread))
    return math.log(mean) - sigma * sigma / 2, sigma


def simulate(world: World, plans: list[Blueprint], rng: random.Random, days: list[dt.date] = DAYS) -> None:
    size = _sizes(rng)
    for plan in plans:
        for day in days:
            mean = plan.rate * (plan.weekend if day.weekday() > 4 else 1.0)
            many = 1 if plan.hour is not None else _poisson(rng, mean)
            for number in range(many):
                hour = plan.hour if plan.hour is not None else rng.randint(0, 23)
                moment = dt.datetime.combine(day, dt.time(hour, rng.randint(0, 50), rng.randint(0, 59)))
                _run(world, plan, rng, size, moment, f"{plan.id}-{day}-{number}")


def _run(world: World, plan: Blueprint, rng: random.Random, size: Sizes, moment: dt.datetime, run: str) -> None:
    for block in plan.blocks:
        if block.kind == "call":
            _make(world, plan, rng, size, moment, run, block.calls[0])
        elif block.kind == "loop":
            for _ in range(_poisson(rng, block.items)):
                _make(world, plan, rng, size, moment, run, block.calls[0])
        else:
            _make(world, plan, rng, size, moment, run, rng.choices(block.calls, block.shares)[0])


def _make(
    world: World, plan: Blueprint, rng: random.Random, size: Sizes, moment: dt.datetime, run: str, call: Call
) -> None:
    for _ in range(1 + call.retries):
        many = 1 + _poisson(rng, call.turns - 1) if call.turns else 1
        failed = rng.random() < call.failure
        for turn in range(many):
            tokens_in, tokens_out = size(call.tokens_in, call.spread), size(call.tokens_out, call.spread)
            line: dict[str, Any] = {
                "time": moment, "environment": "prod", "host": "harbour", "flow": plan.name, "run": run, "step": call.id, "model": call.model,
                "tokens_in": tokens_in, "tokens_out": tokens_out, "cost": price(call.model, tokens_in, tokens_out),
                "status": "failed" if failed and turn == many - 1 else "ok",
            }  # fmt: skip
            world.lines.append(line)
        if not failed:
            return
