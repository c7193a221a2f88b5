# From passes and tokens to money and months, for every step, flow and the estate. Unknown prices and volumes stay
# unknown through every sum. Each figure keeps the share of its cost that rests on each class of evidence.
"""Estimates: calls, tokens and cost per run and per month."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

from msgspec import Struct, structs

from .assume import Assumptions, Book, Evidence, Value, weaker
from .metering import HostBill, Metered, MeterLine, metered, quantities_of
from .model import Estate, Flow
from .money import ZERO, Money, Shares, shares
from .passes import Pass, Passes
from .pricing import Counter, Prices
from .problems import Problem, ZeitbuchError
from .rates import RateCard
from .topology import Graph
from .usage import Usage, usage_of
from .volume import Month, Volume, flow_volume, month_text, parse_month

__all__ = ["EstateEstimate", "FlowEstimate", "Money", "Shares", "StepEstimate", "estimate", "totalled"]


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
    connection: str
    input_tokens: float
    output_tokens: float
    cost: Money
    evidence: Shares
    parts: tuple[Part, ...] = ()


class Spread(Struct, frozen=True):
    """A distribution: mean with its standard error, and percentiles; ``runs`` were drawn. ``course`` has the percentiles
    0, 5, 10 ... 100."""

    mean: float
    error: float
    p50: float
    p90: float
    p99: float
    runs: int
    course: tuple[float, ...] = ()


class FlowEstimate(Struct, frozen=True):
    """One flow. ``runs`` per month and the monthly figures are None when no volume is known. ``exact`` says whether the
    means come from exact passes; ``spread`` is of the cost of a run with the flows it calls, ``month_spread`` and
    ``year_spread`` (for an average month only) of the own model cost of a month and of twelve."""

    id: str
    name: str
    owners: tuple[str, ...]
    environment: str
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
    host: str = ""
    meters_month: Money | None = None
    exact: bool = True
    spread: Spread | None = None
    calls_spread: Spread | None = None
    month_spread: Spread | None = None
    year_spread: Spread | None = None
    notes: tuple[str, ...] = ()


class Total(Struct, frozen=True):
    """The estate in a month: models, meters, fees of hosts. ``unknown_volume`` names the flows that the sums leave out."""

    cost_month: Money
    calls_month: float
    runs: float
    evidence: Shares
    unknown_volume: tuple[str, ...]
    meters_month: Money = Money()
    fees_month: Money = Money()
    spread: Spread | None = None
    year_spread: Spread | None = None


class EstateEstimate(Struct, frozen=True):
    """The result: all flows for one month (or an average month of a year), in one currency."""

    month: str
    currency: str
    flows: tuple[FlowEstimate, ...]
    total: Total
    meters: tuple[MeterLine, ...] = ()
    hosts: tuple[HostBill, ...] = ()
    problems: tuple[Problem, ...] = ()


def step_estimate(graph: Graph, step_id: str, done: Pass, use: Usage | None, prices: Prices) -> StepEstimate:
    """One step's share in one run."""
    step = graph.steps[step_id]
    if use is None:
        return StepEstimate(
            step.id, graph.numbers.get(step.id, ""), step.title, step.kind, done.runs, 0.0, "", step.connection or "",
            0.0, 0.0, Money(), Shares(),
        )  # fmt: skip
    parts: list[Part] = []
    unknown: dict[str, None] = {}
    spent = ZERO
    for a in use.amounts:
        quantity = a.quantity * done.runs
        each = prices.each(use.model, a, use.batched)
        cost = None if each is None and quantity else (each or ZERO) * Decimal(quantity)
        parts.append(Part(a.unit, quantity, cost, weaker(a.evidence, done.evidence), a.why))
        if cost is None:
            unknown[use.model or f"the model of '{step.title}'"] = None
        else:
            spent += cost
    fee = prices.per_call(use.model)
    if fee:
        cost = fee * Decimal(use.calls * done.runs)
        parts.append(Part("call", use.calls * done.runs, cost, done.evidence, "price per call"))
        spent += cost
    return StepEstimate(
        id=step.id,
        number=graph.numbers.get(step.id, ""),
        name=step.title,
        kind=step.kind,
        passes=done.runs,
        calls=use.calls * done.runs,
        model=use.model,
        connection=step.connection or "",
        input_tokens=use.total("input", "cached") * done.runs,
        output_tokens=use.total("output") * done.runs,
        cost=Money(spent, tuple(unknown)),
        evidence=shares((p.cost, p.evidence) for p in parts if p.cost is not None),
        parts=tuple(parts),
    )


class Run(Struct):
    """A flow's own figures per run, with what they were made from."""

    flow: Flow
    book: Book
    graph: Graph
    passes: Passes
    uses: dict[str, Usage]
    steps: list[StepEstimate]
    cost: Money
    calls_of: dict[str, tuple[float, Evidence]]
    notes: list[str]
    volume: Volume
    entry: dict[str, tuple[Value, float]] | None = None
    metered: Metered | None = None

    def weighted(self) -> list[tuple[Decimal, Evidence]]:
        return [(p.cost, p.evidence) for s in self.steps for p in s.parts if p.cost is not None]


def entry_of(by: dict[str, Volume]) -> dict[str, tuple[Value, float]] | None:
    """Which share of the runs each trigger starts, from their volumes; None when one of them is unknown."""
    known = {t: v for t, v in by.items() if v.runs is not None}
    total = sum(v.runs or 0.0 for v in known.values())
    if len(known) < len(by) or not total:
        return None
    return {t: (Value((v.runs or 0.0) / total, v.evidence), v.items) for t, v in known.items()}


def one_run(flow: Flow, assumptions: Assumptions, prices: Prices, month: Month) -> Run:
    """A flow by itself: passes, tokens and cost of a run, and what its own triggers say of its volume."""
    graph = Graph(flow)
    book = Book(assumptions, flow)
    volume, entry = Volume(None, 0.0, "default"), None
    try:
        volume, by = flow_volume(flow, book, month, None)
        lead = {t: v for t, v in by.items() if graph.triggers[t].enabled}
        entry = entry_of(lead)
    except ZeitbuchError:
        pass  # said when the volumes are settled
    passes = Passes(graph, book, entry)
    run = Run(flow, book, graph, passes, {}, [], Money(), {}, [*passes.notes], volume, entry)
    run.notes += [f"the cycle at {c} was cut off at its cap of rounds" for c in passes.capped]
    for step in graph.in_order():
        done = passes.of.get(step.id)
        if step.kind == "note" or done is None:
            continue
        use = usage_of(graph, step, done, book, prices.counter(_model_name(graph, step.id))) if done.runs else None
        if use is not None:
            run.uses[step.id] = use
    return priced(run, prices, passes.of)


def _model_name(graph: Graph, step_id: str) -> str:
    step = graph.steps[step_id]
    if step.model is None:
        return ""
    if step.model.name is None:
        named = (
            h.model.name
            for h in graph.attached.get(step_id, [])
            if h.kind == "model" and h.model is not None and h.model.name
        )
        return next(named, "")
    return step.model.name


def priced(run: Run, prices: Prices, of: dict[str, Pass]) -> Run:
    """The run with the cost of its steps for the given passes (exact ones, or means of a sample)."""
    run.steps, run.cost, run.calls_of = [], Money(), {}
    for step in run.graph.in_order():
        done = of.get(step.id)
        if step.kind == "note" or done is None:
            continue
        entry = step_estimate(run.graph, step.id, done, run.uses.get(step.id), prices)
        run.steps.append(entry)
        if entry.parts:
            run.cost += entry.cost
        if step.calls:
            had = run.calls_of.get(step.calls, (0.0, "read"))
            run.calls_of[step.calls] = (had[0] + done.runs, weaker(had[1], done.evidence))
    if prices.card is not None and prices.card.host:
        run.metered = quantities_of(run.graph, of, run.uses, run.book)
    return run


def month_for(assumptions: Assumptions, card: RateCard | None, asked: str = "") -> Month:
    """The month of the estimate: asked for, or of the assumptions, or of the newest price; else 2026-01."""
    if asked or assumptions.month:
        return parse_month(asked or assumptions.month)
    newest = card.newest() if card is not None else None
    return (newest.year, newest.month) if newest is not None else (2026, 1)


class Runs(Struct):
    """All flows of an estate by key, ids and names they are called by, and what they were made with."""

    by: dict[str, Run]
    names: dict[str, str]
    prices: Prices
    month: Month
    volumes: dict[str, Volume]
    problems: list[Problem]


def runs_of(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    month: str = "",
    counters: dict[str, Counter] | None = None,
    progress: Callable[[int], None] | None = None,
) -> Runs:
    """Every flow by itself, then the volumes of all."""
    when = month_for(assumptions, card, month)
    prices = Prices(card, when, counters)
    by: dict[str, Run] = {}
    for at, flow in enumerate(estate.flows):
        key = flow.id if flow.id not in by else f"{flow.id}~{at}"
        by[key] = one_run(flow, assumptions, prices, when)
        if progress is not None:
            progress(at)
    names: dict[str, str] = {}
    for key, run in by.items():
        names.setdefault(run.flow.id, key)
        names.setdefault(run.flow.name, key)
    found = Runs(by, names, prices, when, {}, [])
    settle(found)
    return found


def estimate(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    month: str = "",
    counters: dict[str, Counter] | None = None,
) -> EstateEstimate:
    """Calls, tokens and cost of every flow of an estate in one month (YYYY-MM, or YYYY for an average month)."""
    return result_of(runs_of(estate, card, assumptions, month, counters))


def result_of(runs: Runs) -> EstateEstimate:
    """The estimate of settled runs."""
    card = runs.prices.card
    lines, bills = metered(
        card, runs.prices.days, [(k, r.flow, r.metered, runs.volumes[k]) for k, r in runs.by.items()]
    )
    flows = tuple(_flow_estimate(key, runs, bills.flow_cost.get(key), bills.host.get(key, "")) for key in runs.by)
    return EstateEstimate(
        month=month_text(runs.month),
        currency=card.currency if card is not None else "",
        flows=flows,
        total=_total(flows, bills.fees),
        meters=lines,
        hosts=bills.hosts,
        problems=tuple(runs.problems),
    )


def settle(runs: Runs) -> None:
    """Runs per month of every flow; callers are settled before the flows they call."""
    callers: dict[str, list[tuple[str, float, Evidence]]] = {}
    for key, run in runs.by.items():
        for name, (times, evidence) in run.calls_of.items():
            if name in runs.names:
                callers.setdefault(runs.names[name], []).append((key, times, evidence))
    volumes = runs.volumes
    volumes.clear()

    def of(key: str, seen: tuple[str, ...]) -> Volume:
        if key in volumes:
            return volumes[key]
        called: Value | None = None
        for caller, times, evidence in callers.get(key, []):
            if caller in seen:
                continue
            other = of(caller, (*seen, caller))
            if other.runs is None:
                called = None
                break
            had = called or Value(0.0, "read", "called by other flows")
            called = Value(had.amount + other.runs * times, weaker(had.evidence, other.evidence, evidence), had.why)
        run = runs.by[key]
        try:
            volume = (
                run.volume
                if called is None and run.volume.why
                else flow_volume(run.flow, run.book, runs.month, called)[0]
            )
        except ZeitbuchError as error:
            # A schedule that is none leaves this flow's volume unknown, and the others as they are.
            p = structs.replace(error.problem, origin=run.flow.origin)
            if p not in runs.problems:
                runs.problems.append(p)
            volume = Volume(None, 0.0, "default", p.message)
        if len(seen) == 1:
            volumes[key] = volume
        return volume

    for key in runs.by:
        of(key, (key,))


def with_called(key: str, runs: Runs, seen: tuple[str, ...]) -> tuple[Money, list[str]]:
    """Cost of a run with the flows it calls; a flow that calls itself is counted once and said."""
    run = runs.by[key]
    total, notes = run.cost, []
    for name, (times, _) in run.calls_of.items():
        other = runs.names.get(name)
        if other is None:
            notes.append(f"it calls '{name}', which is not among the flows read")
        elif other in seen:
            title = runs.by[other].flow.title
            notes.append(f"it calls itself again through '{title}'; counted without the repetition")
        else:
            inner, _more = with_called(other, runs, (*seen, other))
            total += inner.times(times)
    return total, notes


def _flow_estimate(key: str, runs: Runs, meters: Money | None, host: str) -> FlowEstimate:
    run, volume = runs.by[key], runs.volumes[key]
    calls = sum(s.calls for s in run.steps)
    all_in, notes = with_called(key, runs, (key,))
    known = volume.runs
    return FlowEstimate(
        id=run.flow.id,
        name=run.flow.title,
        owners=run.flow.owners,
        environment=run.flow.environment,
        calls=calls,
        input_tokens=sum(s.input_tokens for s in run.steps),
        output_tokens=sum(s.output_tokens for s in run.steps),
        cost=run.cost,
        with_called=all_in,
        evidence=shares(run.weighted()),
        runs=known,
        checks=volume.checks,
        runs_evidence=volume.evidence,
        runs_why=volume.why,
        calls_month=None if known is None else calls * known,
        cost_month=None if known is None else run.cost.times(known),
        steps=tuple(run.steps),
        host=host,
        meters_month=meters,
        exact=run.passes.exact,
        notes=tuple(run.notes + notes),
    )


def _total(flows: tuple[FlowEstimate, ...], fees: Money) -> Total:
    cost, meters = Money(), Money()
    weighted: list[tuple[Decimal, Evidence]] = []
    for flow in flows:
        if flow.meters_month is not None:
            meters += flow.meters_month
        if flow.cost_month is None or flow.runs is None:
            continue
        cost += flow.cost_month
        if not flow.cost_month.amount:
            continue
        factor = Decimal(flow.runs)
        for step in flow.steps:
            weighted += [(p.cost * factor, weaker(p.evidence, flow.runs_evidence)) for p in step.parts if p.cost]
    return Total(
        cost_month=cost,
        calls_month=sum(f.calls_month or 0.0 for f in flows),
        runs=sum(f.runs or 0.0 for f in flows),
        evidence=shares(weighted),
        unknown_volume=tuple(f.name for f in flows if f.runs is None),
        meters_month=meters,
        fees_month=fees,
    )


def totalled(result: EstateEstimate) -> EstateEstimate:
    """The result with its totals made anew from its flows (after some were left out). Fees of hosts belong to no flow."""
    return structs.replace(result, total=_total(result.flows, Money()))
