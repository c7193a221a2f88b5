# From passes and tokens to money and months, for every step, flow and the estate. Unknown prices and volumes stay
# unknown through every sum. Each figure keeps the share of its cost that rests on each class of evidence.
"""Estimates: calls, tokens and cost per run and per month."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct, field, structs

from .assume import EVIDENCE, Assumptions, Book, Evidence, Value, weaker
from .metering import HostBill, Metered, MeterLine, metered, quantities_of
from .model import Estate, Flow, Step
from .money import ZERO, Money, Shares, shares
from .passes import Pass, Passes
from .pricing import Counter, Prices
from .problems import Problem, ZeitbuchError
from .rates import RateCard
from .topology import Graph
from .usage import USING, Usage, usage_of
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


def parts_of(step: Step, done: Pass, use: Usage, prices: Prices) -> tuple[list[Part], dict[str, None]]:
    """The components of a step's cost in one run, and the names of what has no price."""
    parts: list[Part] = []
    unknown: dict[str, None] = {}
    runs, evidence = done.runs, done.evidence
    for a in use.amounts:
        quantity = a.quantity * runs
        each = prices.each(use.model, a, use.batched)
        cost = None if each is None and quantity else (each or ZERO) * Decimal(quantity)
        parts.append(
            Part(a.unit, quantity, cost, a.evidence if a.evidence == evidence else weaker(a.evidence, evidence), a.why)
        )
        if cost is None:
            unknown[use.model or f"the model of '{step.title}'"] = None
    fee = prices.per_call(use.model)
    if fee:
        parts.append(Part("call", use.calls * runs, fee * Decimal(use.calls * runs), evidence, "price per call"))
    return parts, unknown


def step_estimate(graph: Graph, step_id: str, done: Pass, use: Usage | None, prices: Prices) -> StepEstimate:
    """One step's share in one run."""
    step = graph.steps[step_id]
    if use is None:
        return StepEstimate(
            step.id, graph.numbers.get(step.id, ""), step.title, step.kind, done.runs, 0.0, "", step.connection or "",
            0.0, 0.0, Money(), Shares(),
        )  # fmt: skip
    parts, unknown = parts_of(step, done, use, prices)
    spent = sum((p.cost for p in parts if p.cost), ZERO)
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


class Sums(Struct):
    """Sums over the steps of one run; cost by evidence."""

    calls: float = 0.0
    input_tokens: float = 0.0
    output_tokens: float = 0.0
    by: dict[Evidence, Decimal] = field(default_factory=dict)


class Run(Struct):
    """A flow's own figures per run, with what they were made from: Book, Graph and Passes, None where only the figures
    were kept."""

    flow: Flow
    book: Any
    graph: Any
    passes: Any
    uses: dict[str, Usage]
    steps: list[StepEstimate]
    cost: Money
    calls_of: dict[str, tuple[float, Evidence]]
    notes: list[str]
    volume: Volume
    entry: dict[str, tuple[Value, float]] | None = None
    metered: Metered | None = None
    sums: Sums = field(default_factory=Sums)
    exact: bool = True


def entry_of(by: dict[str, Volume]) -> dict[str, tuple[Value, float]] | None:
    """Which share of the runs each trigger starts, from their volumes; None when one of them is unknown."""
    known = {t: v for t, v in by.items() if v.runs is not None}
    total = sum(v.runs or 0.0 for v in known.values())
    if len(known) < len(by) or not total:
        return None
    return {t: (Value((v.runs or 0.0) / total, v.evidence), v.items) for t, v in known.items()}


def one_run(flow: Flow, assumptions: Assumptions, prices: Prices, month: Month, detail: bool = True) -> Run:
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
    run = Run(flow, book, graph, passes, {}, [], Money(), {}, [*passes.notes], volume, entry, exact=passes.exact)
    run.notes += [f"the cycle at {c} was cut off at its cap of rounds" for c in passes.capped]
    for step in graph.in_order() if detail else flow.steps:
        if step.kind in USING and (done := passes.of.get(step.id)) is not None and done.runs:
            use = usage_of(graph, step, done, book, prices.counter(_model_name(graph, step.id)))
            if use is not None:
                run.uses[step.id] = use
    return priced(run, prices, passes.of, detail)


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


def _summed(run: Run, parts: Sequence[Part], calls: float, given: float, got: float, unknown: tuple[str, ...]) -> None:
    """Adds one step to the sums of its flow."""
    sums = run.sums
    sums.calls += calls
    sums.input_tokens += given
    sums.output_tokens += got
    spent = run.cost.amount
    for part in parts:
        if part.cost:
            spent += part.cost
            sums.by[part.evidence] += part.cost
    run.cost = Money(spent, tuple(dict.fromkeys(run.cost.unknown + unknown)) if unknown else run.cost.unknown)


def priced(run: Run, prices: Prices, of: dict[str, Pass], detail: bool = True) -> Run:
    """The run with the cost of its steps for the given passes (exact ones, or means of a sample)."""
    run.steps, run.cost, run.calls_of = [], Money(), {}
    run.sums = Sums(by=dict.fromkeys(EVIDENCE, ZERO))
    if detail:
        for step in run.graph.in_order():
            done = of.get(step.id)
            if step.kind != "note" and done is not None:
                entry = step_estimate(run.graph, step.id, done, run.uses.get(step.id), prices)
                run.steps.append(entry)
                _summed(run, entry.parts, entry.calls, entry.input_tokens, entry.output_tokens, entry.cost.unknown)
    else:
        for step_id, use in run.uses.items():
            done = of.get(step_id)
            if done is not None:
                parts, unknown = parts_of(run.graph.steps[step_id], done, use, prices)
                tokens = use.total("input", "cached") * done.runs, use.total("output") * done.runs
                _summed(run, parts, use.calls * done.runs, *tokens, tuple(unknown))
    for step in run.flow.steps:
        if step.calls and (done := of.get(step.id)) is not None:
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
    assumptions: Assumptions


def gathered(by: dict[str, Run], prices: Prices, month: Month, assumptions: Assumptions) -> Runs:
    """Flows that were estimated by themselves, with the volumes of all settled."""
    names: dict[str, str] = {}
    for key, run in by.items():
        names.setdefault(run.flow.id, key)
        names.setdefault(run.flow.name, key)
    found = Runs(by, names, prices, month, {}, [], assumptions)
    settle(found)
    return found


def keys_of(flows: Sequence[Flow]) -> list[str]:
    """A key of its own for each flow: its id, and with its place where an id comes twice."""
    seen: set[str] = set()
    keys = []
    for at, flow in enumerate(flows):
        key = flow.id if flow.id not in seen else f"{flow.id}~{at}"
        seen.add(key)
        keys.append(key)
    return keys


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
    for at, (key, flow) in enumerate(zip(keys_of(estate.flows), estate.flows, strict=True)):
        by[key] = one_run(flow, assumptions, prices, when)
        if progress is not None:
            progress(at)
    return gathered(by, prices, when, assumptions)


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
            volume = _volume(run, runs, called)
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


def _volume(run: Run, runs: Runs, called: Value | None) -> Volume:
    if called is None and run.volume.why:
        return run.volume
    return flow_volume(run.flow, Book(runs.assumptions, run.flow), runs.month, called)[0]


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
    sums = run.sums
    all_in, notes = with_called(key, runs, (key,))
    known = volume.runs
    return FlowEstimate(
        id=run.flow.id,
        name=run.flow.title,
        owners=run.flow.owners,
        environment=run.flow.environment,
        calls=sums.calls,
        input_tokens=sums.input_tokens,
        output_tokens=sums.output_tokens,
        cost=run.cost,
        with_called=all_in,
        evidence=shares((amount, evidence) for evidence, amount in sums.by.items()),
        runs=known,
        checks=volume.checks,
        runs_evidence=volume.evidence,
        runs_why=volume.why,
        calls_month=None if known is None else sums.calls * known,
        cost_month=None if known is None else run.cost.times(known),
        steps=tuple(run.steps),
        host=host,
        meters_month=meters,
        exact=run.exact,
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
        whole = flow.cost_month.amount
        for evidence in EVIDENCE:
            share = getattr(flow.evidence, evidence)
            if share:
                weighted.append((whole * Decimal(share), weaker(evidence, flow.runs_evidence)))
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
