# From single flows to the estate and its months: volumes of flows that call each other, meters, totals. Unknown prices and
# volumes stay unknown through every sum. Each figure keeps the share of its cost that rests on each class of evidence.
"""Estimates: calls, tokens and cost per run and per month."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct, structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup, InWorlds
from zeitbuch.core.assumptions.money import Money, Shares, evidence_shares
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import EVIDENCE, Evidence, weakest_evidence
from zeitbuch.core.assumptions.volume import Month, Volume, month_text, parse_month
from zeitbuch.core.graph.call_graph import CallGraph
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.meters import Bills, MeteredFlow, MeterLine, bill_meters
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.pricing.spans import Weights

from .called_flows import (
    VolumeSettling,
    call_graph_of,
    costs_with_called,
    notes_on_calls,
    unknown_callees,
    weights_of_flows,
)
from .flow_figures import FlowFigures, one_run, price_run
from .records import EstateEstimate, FlowEstimate, Total


def month_for(assumptions: Assumptions, asked: str = "") -> Month:
    """The month of the estimate: asked for, or of the assumptions. Raises ZeitbuchError when there is none: what day it is only the
    caller knows."""
    if not asked and not assumptions.month:
        raise fail("month", "expected the month of the estimate, found none", "name one as YYYY-MM")
    return parse_month(asked or assumptions.month)


class EstateFigures(Struct):
    """All flows of an estate by key, ids and names they are called by, and what they were made with."""

    by: dict[str, FlowFigures]
    names: dict[str, str]
    prices: Prices
    month: Month
    volumes: dict[str, Volume]
    problems: list[Problem]
    assumptions: Assumptions
    graph: CallGraph
    volume_notes: dict[str, list[str]]
    weights: dict[
        str, Weights | None
    ] = {}  # of flows: how their runs, those by calls too, lie over the spans of the month


def gather_runs(
    by: dict[str, FlowFigures],
    prices: Prices,
    month: Month,
    assumptions: Assumptions,
    worlds: InWorlds | None = None,
) -> EstateFigures:
    """Flows that were estimated by themselves, with the volumes of all settled. A flow that others call on certain days is priced
    anew, where what it was estimated with is still at hand."""
    names: dict[str, str] = {}
    for key, run in by.items():
        names.setdefault(run.flow.id, key)
        names.setdefault(run.flow.name, key)
    graph = call_graph_of(by, names)
    books = {key: AssumptionLookup(assumptions, run.flow, worlds) for key, run in by.items()}
    settling = VolumeSettling(graph, by, books, month)
    settling.settle_volumes()
    weights = weights_of_flows(graph, by, settling.volumes, prices.calendar)
    by = {key: _priced_by_days(run, weights.get(key), prices) for key, run in by.items()} if weights else by
    return EstateFigures(
        by, names, prices, month, settling.volumes, settling.problems, assumptions, graph, settling.notes, weights
    )


def _priced_by_days(run: FlowFigures, weights: Weights | None, prices: Prices) -> FlowFigures:
    if run.passes is None or weights == run.weights:
        return run
    anew = structs.replace(run, weights=weights)
    return price_run(anew, prices, run.passes.of, bool(run.steps))


def keys_of(flows: Sequence[Flow]) -> list[str]:
    """A key of its own for each flow: its id, and with its place where an id comes twice."""
    seen: set[str] = set()
    keys = []
    for place, flow in enumerate(flows):
        key = flow.id if flow.id not in seen else f"{flow.id}~{place}"
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
) -> EstateFigures:
    """Every flow by itself, then the volumes of all."""
    when = month_for(assumptions, month)
    prices = Prices(card, when, counters)
    mapping: dict[str, FlowFigures] = {}
    for place, (key, flow) in enumerate(zip(keys_of(estate.flows), estate.flows, strict=True)):
        mapping[key] = one_run(flow, assumptions, prices, when)
        if progress is not None:
            progress(place)
    return gather_runs(mapping, prices, when, assumptions)


def estimate_exactly(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    month: str = "",
    counters: dict[str, Counter] | None = None,
) -> EstateEstimate:
    """Calls, tokens and cost of every flow of an estate in one month (YYYY-MM, or YYYY for an average month)."""
    return result_of(runs_of(estate, card, assumptions, month, counters))


Billed = tuple[tuple[MeterLine, ...], Bills]


def bill_runs(runs: EstateFigures, drawn: Mapping[str, Any] | None = None) -> Billed:
    """What hosts bill for all runs. ``drawn``: the runs of flows in every world, arrays of shape (W,)."""
    metered = []
    for key, run in runs.by.items():
        volume, counts = runs.volumes[key], (drawn or {}).get(key)
        if volume.runs is not None and counts is not None:
            volume = structs.replace(volume, runs=Uncertain(volume.runs, counts))
        metered.append(MeteredFlow(key, run.flow, run.metered, volume, runs.weights.get(key)))
    return bill_meters(runs.prices.card, runs.prices.calendar, metered, on_average=drawn is not None)


def result_of(runs: EstateFigures, billed: Billed | None = None) -> EstateEstimate:
    """The estimate of settled runs."""
    card = runs.prices.card
    lines, bills = billed or bill_runs(runs)
    costs, notes = costs_with_called(runs.graph, runs.by), notes_on_calls(runs.graph, runs.by)
    flows = tuple(
        _flow_estimate(
            key,
            runs,
            costs[key],
            notes[key],
            bills.flow_cost.get(key),
            bills.host.get(key, ""),
            bills.evidence.get(key, []),
        )
        for key in runs.by
    )
    return EstateEstimate(
        month=month_text(runs.month),
        currency=card.currency if card is not None else "",
        flows=flows,
        total=_total_of(flows, bills.fees),
        meters=lines,
        hosts=bills.hosts,
        problems=tuple(runs.problems),
    )


def _flow_estimate(
    key: str,
    runs: EstateFigures,
    with_called: Money,
    on_calls: list[str],
    meters: Money | None,
    host: str,
    told: list[tuple[Decimal, Evidence]],
) -> FlowEstimate:
    run, volume = runs.by[key], runs.volumes[key]
    sums = run.sums
    notes = [*(runs.volume_notes.get(key, ()) if volume.runs is not None else ()), *on_calls]
    if not run.exact and run.passes is not None:
        notes.append(
            f"the mean is near, not exact ({'; '.join(run.passes.inexact)}); `zeitbuch estimate` takes it from sampled runs"
        )
    known = None if volume.runs is None else float(volume.runs)
    return FlowEstimate(
        id=run.flow.id,
        name=run.flow.title,
        owners=run.flow.owners,
        environment=run.flow.environment,
        calls=float(sums.calls),
        input_tokens=float(sums.input_tokens),
        output_tokens=float(sums.output_tokens),
        cost=run.cost,
        with_called=with_called,
        evidence=evidence_shares((amount, evidence) for evidence, amount in sums.by.items()),
        runs=known,
        checks=volume.checks,
        runs_evidence=volume.evidence,
        runs_why=volume.why,
        calls_month=None if known is None else float(sums.calls) * known,
        cost_month=None if known is None else (run.cost + unknown_callees(key, runs.graph, runs.by)).times(known),
        evidence_month=evidence_shares(_month_by_evidence(sums.by, volume, told)) if known is not None else Shares(),
        steps=tuple(run.steps),
        host=host,
        meters_month=meters,
        exact=run.exact,
        notes=tuple(run.notes + notes),
    )


def _month_by_evidence(
    by: Mapping[Evidence, Decimal], volume: Volume, meters: list[tuple[Decimal, Evidence]]
) -> Iterator[tuple[Decimal, Evidence]]:
    """The parts of a month's bill with their evidence: none is better than that of the volume."""
    runs = Decimal(float(volume.runs or 0.0))
    for evidence, amount in by.items():
        yield amount * runs, weakest_evidence(evidence, volume.evidence)
    yield from meters


def _total_of(flows: tuple[FlowEstimate, ...], fees: Money) -> Total:
    cost, meters = Money(), Money()
    weighted: list[tuple[Decimal, Evidence]] = [(fees.amount, "declared")]
    for flow in flows:
        meters += flow.meters_month or Money()
        cost += flow.cost_month or Money()
        bill = (flow.cost_month or Money()).amount + (flow.meters_month or Money()).amount
        weighted += [(bill * Decimal(getattr(flow.evidence_month, name)), name) for name in EVIDENCE if bill]
    return Total(
        cost_month=cost,
        calls_month=sum(flow_estimate.calls_month or 0.0 for flow_estimate in flows),
        runs=sum(flow_estimate.runs or 0.0 for flow_estimate in flows),
        evidence=evidence_shares(weighted),
        unknown_volume=tuple(flow_estimate.name for flow_estimate in flows if flow_estimate.runs is None),
        meters_month=meters,
        fees_month=fees,
    )


def total_anew(result: EstateEstimate) -> EstateEstimate:
    """The result with its totals made anew from its flows (after some were left out). Fees of hosts belong to no flow."""
    had = result.total
    total = _total_of(result.flows, Money())
    drawn = {name: getattr(had, name) for name in ("spread", "year_spread", "spread_of_known", "uses_month")}
    total = structs.replace(total, **drawn)
    return structs.replace(result, total=total)
