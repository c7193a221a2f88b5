# From passes and tokens to money and months, for every step, flow and the estate. Unknown prices and volumes stay
# unknown through every sum. Each figure keeps the share of its cost that rests on each class of evidence.
"""Estimates: calls, tokens and cost per run and per month."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from msgspec import Struct, structs

from . import tokens
from .assume import EVIDENCE, Assumptions, Book, Evidence, Value, weaker
from .model import Estate, Flow
from .passes import Pass, Passes
from .problems import Problem, ZeitbuchError
from .rates import UNITS, RateCard
from .topology import Graph
from .usage import Usage, usage_of
from .volume import Volume, flow_volume, parse_month

ZERO = Decimal(0)


class Money(Struct, frozen=True):
    """An amount in the rate card's currency; ``unknown`` names what has no price. Adds; unknown survives."""

    amount: Decimal = ZERO
    unknown: tuple[str, ...] = ()

    def __add__(self, other: Money) -> Money:
        return Money(self.amount + other.amount, tuple(dict.fromkeys(self.unknown + other.unknown)))

    def times(self, factor: float) -> Money:
        return Money(self.amount * Decimal(factor), self.unknown if factor else ())


class Shares(Struct, frozen=True):
    """Shares (0..1) of a figure that rest on defaults, declared assumptions, measurement, or the export itself."""

    default: float = 0.0
    declared: float = 0.0
    measured: float = 0.0
    read: float = 0.0


class Part(Struct, frozen=True):
    """One component of a step's cost per run."""

    unit: str
    quantity: float
    cost: Decimal | None
    evidence: Evidence
    why: str


class StepEstimate(Struct, frozen=True):
    """One step in one run: expected passes and model calls, tokens, cost."""

    id: str
    number: str
    name: str
    kind: str
    passes: float
    calls: float
    model: str
    input_tokens: float
    output_tokens: float
    cost: Money
    evidence: Shares
    parts: tuple[Part, ...] = ()


class FlowEstimate(Struct, frozen=True):
    """One flow. ``runs`` per month and the monthly figures are None when no volume is known."""

    id: str
    name: str
    calls: float
    input_tokens: float
    output_tokens: float
    cost: Money
    with_called: Money
    evidence: Shares
    runs: float | None
    checks: float
    runs_evidence: Evidence
    runs_why: str
    calls_month: float | None
    cost_month: Money | None
    steps: tuple[StepEstimate, ...]
    notes: tuple[str, ...] = ()


class Total(Struct, frozen=True):
    """The estate in a month. ``unknown_volume`` names the flows that the sums leave out."""

    cost_month: Money
    calls_month: float
    runs: float
    evidence: Shares
    unknown_volume: tuple[str, ...]


class EstateEstimate(Struct, frozen=True):
    """The result: all flows for one month, in one currency."""

    month: str
    currency: str
    flows: tuple[FlowEstimate, ...]
    total: Total
    problems: tuple[Problem, ...] = ()


def _shares(parts: list[tuple[Decimal, Evidence]]) -> Shares:
    whole = sum((p[0] for p in parts), ZERO)
    if not whole:
        return Shares()
    by = {e: float(sum((p[0] for p in parts if p[1] == e), ZERO) / whole) for e in EVIDENCE}
    return Shares(**by)


class Prices:
    """Prices of one rate card on one day."""

    def __init__(self, card: RateCard | None, on: date) -> None:
        self.card = card
        self.on = on

    def cost(self, use: Usage, unit: str, quantity: float) -> Decimal | None:
        """Cost of a quantity, or None when the card has no price for it."""
        if not quantity:
            return ZERO
        price = self.card.price(use.model, self.on) if self.card is not None and use.model else None
        value = getattr(price, unit) if price is not None else None
        if value is None:
            # A vision model may bill its images as tokens only: no image price is then no unknown.
            return ZERO if unit == "image" and price is not None and price.input is not None else None
        return Decimal(quantity) * Decimal(value) / UNITS[unit][1]

    def per_call(self, use: Usage) -> Decimal:
        price = self.card.price(use.model, self.on) if self.card is not None and use.model else None
        return price.call if price is not None and price.call is not None else ZERO


def step_estimate(graph: Graph, step_id: str, done: Pass, book: Book, prices: Prices) -> StepEstimate:
    """One step's share in one run."""
    step = graph.steps[step_id]
    use = usage_of(graph, step, done, book, tokens.count) if done.runs else None
    parts: list[Part] = []
    money = Money()
    weighted: list[tuple[Decimal, Evidence]] = []
    if use is not None:
        fee = prices.per_call(use)
        amounts = list(use.amounts)
        for a in amounts:
            quantity = a.quantity * done.runs
            cost = prices.cost(use, a.unit, quantity)
            evidence = weaker(a.evidence, done.evidence)
            parts.append(Part(a.unit, quantity, cost, evidence, a.why))
            if cost is None:
                money += Money(ZERO, (use.model or f"the model of '{step.title}'",))
            else:
                money += Money(cost)
                weighted.append((cost, evidence))
        if fee:
            cost = fee * Decimal(use.calls * done.runs)
            parts.append(Part("call", use.calls * done.runs, cost, done.evidence, "price per call"))
            money += Money(cost)
            weighted.append((cost, done.evidence))
    return StepEstimate(
        id=step.id,
        number=graph.numbers.get(step.id, ""),
        name=step.title,
        kind=step.kind,
        passes=done.runs,
        calls=use.calls * done.runs if use is not None else 0.0,
        model=use.model if use is not None else "",
        input_tokens=use.total("input") * done.runs if use is not None else 0.0,
        output_tokens=use.total("output") * done.runs if use is not None else 0.0,
        cost=money,
        evidence=_shares(weighted),
        parts=tuple(parts),
    )


class _Run(Struct):
    """A flow's own figures per run, before volumes are known."""

    flow: Flow
    book: Book
    steps: list[StepEstimate]
    cost: Money
    weighted: list[tuple[Decimal, Evidence]]
    calls_of: dict[str, tuple[float, Evidence]]
    notes: list[str]


def _one(flow: Flow, assumptions: Assumptions, prices: Prices) -> _Run:
    graph = Graph(flow)
    book = Book(assumptions, flow)
    passes = Passes(graph, book)
    steps: list[StepEstimate] = []
    called: dict[str, tuple[float, Evidence]] = {}
    cost = Money()
    weighted: list[tuple[Decimal, Evidence]] = []
    for step in graph.in_order():
        done = passes.of.get(step.id)
        if step.kind == "note" or done is None:
            continue
        entry = step_estimate(graph, step.id, done, book, prices)
        steps.append(entry)
        cost += entry.cost
        weighted += [(p.cost, p.evidence) for p in entry.parts if p.cost is not None]
        if step.calls:
            had = called.get(step.calls, (0.0, "read"))
            called[step.calls] = (had[0] + done.runs, weaker(had[1], done.evidence))
    notes = [*passes.notes]
    notes += [f"the cycle at {c} was cut off at its cap of rounds" for c in passes.capped]
    return _Run(flow, book, steps, cost, weighted, called, notes)


def _with_called(
    key: str, runs: dict[str, _Run], names: dict[str, str], seen: tuple[str, ...]
) -> tuple[Money, list[str]]:
    """Cost of a run with the flows it calls; a flow that calls itself is counted once and said."""
    run = runs[key]
    total, notes = run.cost, []
    for name, (times, _) in run.calls_of.items():
        other = names.get(name)
        if other is None:
            notes.append(f"it calls '{name}', which is not among the flows read")
        elif other in seen:
            notes.append(f"it calls itself again through '{runs[other].flow.title}'; counted without the repetition")
        else:
            inner, _more = _with_called(other, runs, names, (*seen, other))
            total += inner.times(times)
    return total, notes


def month_for(assumptions: Assumptions, card: RateCard | None, asked: str = "") -> tuple[int, int]:
    """The month of the estimate: asked for, or of the assumptions, or of the newest price; else 2026-01."""
    if asked or assumptions.month:
        return parse_month(asked or assumptions.month)
    newest = card.newest() if card is not None else None
    return (newest.year, newest.month) if newest is not None else (2026, 1)


def estimate(estate: Estate, card: RateCard | None, assumptions: Assumptions, month: str = "") -> EstateEstimate:
    """Calls, tokens and cost of every flow of an estate in one month."""
    year, number = month_for(assumptions, card, month)
    prices = Prices(card, date(year, number, 1))
    runs: dict[str, _Run] = {}
    for at, flow in enumerate(estate.flows):
        key = flow.id if flow.id not in runs else f"{flow.id}~{at}"
        runs[key] = _one(flow, assumptions, prices)
    names: dict[str, str] = {}
    for key, run in runs.items():
        names.setdefault(run.flow.id, key)
        names.setdefault(run.flow.name, key)
    problems: list[Problem] = []
    volumes = _volumes(runs, names, (year, number), problems)
    flows = tuple(_flow_estimate(key, run, volumes[key], runs, names) for key, run in runs.items())
    return EstateEstimate(
        month=f"{year:04d}-{number:02d}",
        currency=card.currency if card is not None else "",
        flows=flows,
        total=_total(flows),
        problems=tuple(problems),
    )


def _volumes(
    runs: dict[str, _Run], names: dict[str, str], month: tuple[int, int], problems: list[Problem]
) -> dict[str, Volume]:
    """Runs per month of every flow; callers are settled before the flows they call."""
    callers: dict[str, list[tuple[str, float, Evidence]]] = {}
    for key, run in runs.items():
        for name, (times, evidence) in run.calls_of.items():
            if name in names:
                callers.setdefault(names[name], []).append((key, times, evidence))
    volumes: dict[str, Volume] = {}

    def settle(key: str, seen: tuple[str, ...]) -> Volume:
        if key in volumes:
            return volumes[key]
        called: Value | None = None
        for caller, times, evidence in callers.get(key, []):
            if caller in seen:
                continue
            other = settle(caller, (*seen, caller))
            if other.runs is None:
                called = None
                break
            had = called or Value(0.0, "read", "called by other flows")
            called = Value(had.amount + other.runs * times, weaker(had.evidence, other.evidence, evidence), had.why)
        run = runs[key]
        try:
            volume = flow_volume(run.flow, run.book, month, called)
        except ZeitbuchError as error:
            # A schedule that is none leaves this flow's volume unknown, and the others as they are.
            p = structs.replace(error.problem, origin=run.flow.origin)
            if p not in problems:
                problems.append(p)
            volume = Volume(None, 0.0, "default", p.message)
        if len(seen) == 1:
            volumes[key] = volume
        return volume

    for key in runs:
        settle(key, (key,))
    return volumes


def _flow_estimate(key: str, run: _Run, volume: Volume, runs: dict[str, _Run], names: dict[str, str]) -> FlowEstimate:
    calls = sum(s.calls for s in run.steps)
    with_called, notes = _with_called(key, runs, names, (key,))
    known = volume.runs
    return FlowEstimate(
        id=run.flow.id,
        name=run.flow.title,
        calls=calls,
        input_tokens=sum(s.input_tokens for s in run.steps),
        output_tokens=sum(s.output_tokens for s in run.steps),
        cost=run.cost,
        with_called=with_called,
        evidence=_shares(run.weighted),
        runs=known,
        checks=volume.checks,
        runs_evidence=volume.evidence,
        runs_why=volume.why,
        calls_month=None if known is None else calls * known,
        cost_month=None if known is None else run.cost.times(known),
        steps=tuple(run.steps),
        notes=tuple(run.notes + notes),
    )


def _total(flows: tuple[FlowEstimate, ...]) -> Total:
    cost = Money()
    weighted: list[tuple[Decimal, Evidence]] = []
    for flow in flows:
        if flow.cost_month is None or flow.runs is None:
            continue
        cost += flow.cost_month
        factor = Decimal(flow.runs)
        for step in flow.steps:
            for part in step.parts:
                if part.cost is not None:
                    weighted.append((part.cost * factor, weaker(part.evidence, flow.runs_evidence)))
    return Total(
        cost_month=cost,
        calls_month=sum(f.calls_month or 0.0 for f in flows),
        runs=sum(f.runs or 0.0 for f in flows),
        evidence=_shares(weighted),
        unknown_volume=tuple(f.name for f in flows if f.runs is None),
    )


def totalled(result: EstateEstimate) -> EstateEstimate:
    """The result with its totals made anew from its flows (after some were left out)."""
    return structs.replace(result, total=_total(result.flows))
