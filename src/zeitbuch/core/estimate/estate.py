# From single flows to the estate and its months: volumes of flows that call each other, meters, totals. Unknown prices and
# volumes stay unknown through every sum. Each figure keeps the share of its cost that rests on each class of evidence.
"""Estimates: calls, tokens and cost per run and per month."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct, structs

from zeitbuch.core.assumptions.days import Month, days_of, whole_month
from zeitbuch.core.assumptions.lookup import InWorlds
from zeitbuch.core.assumptions.money import ZERO, Money, Shares, evidence_shares
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Evidence, weakest_evidence
from zeitbuch.core.assumptions.volume import Volume, month_text, parse_month
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
from .day_parts import change_days, jobs_of, key_of_part, lookup_on
from .flow_figures import FlowFigures, one_run, price_run
from .joined_parts import amounts_of, join_estimates, weights_of_parts
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

    def whole_key(self, key: str) -> str:
        """The key of the flow that a key is of, or that it is a part of."""
        part = self.by[key].part
        return part.key if part is not None else key

    def whole_flows(self) -> dict[str, list[str]]:
        """The keys of what was estimated, by the keys of whole flows: a flow, or its parts."""
        found: dict[str, list[str]] = {}
        for key in self.by:
            found.setdefault(self.whole_key(key), []).append(key)
        return found

    def day_shares(self, keys: Sequence[str]) -> list[float]:
        """Which part of the days of the month each key is estimated for."""
        parts = [self.by[key].part for key in keys]
        return [part.days.share if part is not None else 1.0 for part in parts]

    def weights_in_run(self, keys: Sequence[str]) -> list[float]:
        """How the parts of a flow weigh in one run of it (see ``weights_of_parts``)."""
        volumes = [self.volumes[key].runs for key in keys]
        return weights_of_parts([None if v is None else float(v) for v in volumes], self.day_shares(keys))


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
        for name in (run.flow.id, run.flow.name):
            if run.part is not None:
                names.setdefault(key_of_part(name, run.part.number), key)
            names.setdefault(name, key)
    graph = call_graph_of(by, names)
    settling = VolumeSettling(graph, by, lambda run: lookup_on(run.part, assumptions, month, run.flow, worlds), month)
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
    by_day: bool = False,
    like: EstateFigures | None = None,
    detail: bool = True,
) -> EstateFigures:
    """Every flow by itself, then the volumes of all; ``by_day`` keeps how the runs lie over the single days. ``like``: figures of the
    same flows with the same rate card in another month, of which is taken over what would come out the same. Without ``detail`` only
    sums are made, no steps."""
    when = month_for(assumptions, month)
    days = days_of(whole_month(when)) if by_day else ()
    prices = Prices(card, when, counters, [*change_days(assumptions, when), *days])
    mapping: dict[str, FlowFigures] = {}
    for place, job in enumerate(jobs_of(keys_of(estate.flows), estate.flows, assumptions, when)):
        before = like.by.get(job.key) if like is not None else None
        mapping[job.key] = one_run(job.flow, assumptions, prices, when, detail, part=job.part, like=before)
        if progress is not None:
            progress(min(place, len(estate.flows) - 1))
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
    # Of a flow whose volume is known on some days only the month is not known.
    unknown = {runs.whole_key(key) for key in runs.by if runs.volumes[key].runs is None}
    for key, run in runs.by.items():
        volume, counts = runs.volumes[key], (drawn or {}).get(key)
        if runs.whole_key(key) in unknown:
            volume = structs.replace(volume, runs=None)
        if volume.runs is not None and counts is not None:
            volume = structs.replace(volume, runs=Uncertain(volume.runs, counts))
        metered.append(MeteredFlow(runs.whole_key(key), run.flow, run.metered, volume, runs.weights.get(key)))
    return bill_meters(runs.prices.card, runs.prices.calendar, metered, on_average=drawn is not None)


Finish = Callable[[str, list[str], FlowEstimate], FlowEstimate]


def result_of(runs: EstateFigures, billed: Billed | None = None, finish: Finish | None = None) -> EstateEstimate:
    """The estimate of settled runs. ``finish`` is given every flow, with its key and those of its parts, and gives back what stands in
    the result; it may drop what is asked for no more."""
    card = runs.prices.card
    lines, bills = billed or bill_runs(runs)
    costs, notes = costs_with_called(runs.graph, runs.by), notes_on_calls(runs.graph, runs.by)
    flows = []
    for whole, keys in runs.whole_flows().items():
        parts = [_flow_estimate(key, runs, costs[key], notes.get(key, ())) for key in keys]
        flow = join_estimates(parts, runs.day_shares(keys))
        billed_flow = _with_meters(
            flow, bills.flow_cost.get(whole), bills.host.get(whole, ""), bills.evidence.get(whole, [])
        )
        flows.append(billed_flow if finish is None else finish(whole, keys, billed_flow))
    return EstateEstimate(
        month=month_text(runs.month),
        currency=card.currency if card is not None else "",
        flows=tuple(flows),
        total=_total_of(flows, bills.fees),
        meters=lines,
        hosts=bills.hosts,
        problems=tuple(runs.problems),
    )


def bill_of(runs: EstateFigures) -> Decimal:
    """The bill of the month that ``result_of`` comes to, without what it says of each flow."""
    bills = bill_runs(runs)[1]
    whole = bills.fees.amount + sum((cost.amount for cost in bills.flow_cost.values()), ZERO)
    for keys in runs.whole_flows().values():
        volumes = [runs.volumes[key].runs for key in keys]
        known = [float(volume) for volume in volumes if volume is not None]
        if len(known) == len(keys):
            whole += sum((runs.by[key].cost.times(v).amount for key, v in zip(keys, known, strict=True)), ZERO)
    return whole


def _flow_estimate(
    key: str,
    runs: EstateFigures,
    with_called: Money,
    on_calls: Sequence[str],
) -> FlowEstimate:
    run, volume = runs.by[key], runs.volumes[key]
    sums = run.sums
    notes = [*(runs.volume_notes.get(key, ()) if volume.runs is not None else ()), *on_calls]
    if not run.exact and run.passes is not None:
        notes.append(
            f"the mean is not exact ({'; '.join(run.passes.inexact)}); `zeitbuch estimate` takes it from sampled runs"
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
        evidence_month=evidence_shares(_month_by_evidence(sums.by, volume)) if known is not None else Shares(),
        steps=tuple(run.steps),
        exact=run.exact,
        notes=tuple(run.notes + notes),
    )


def _month_by_evidence(by: Mapping[Evidence, Decimal], volume: Volume) -> Iterator[tuple[Decimal, Evidence]]:
    """The parts of what models cost in a month with their evidence: none is better than that of the volume."""
    runs = Decimal(float(volume.runs or 0.0))
    for evidence, amount in by.items():
        yield amount * runs, weakest_evidence(evidence, volume.evidence)


def _with_meters(
    flow: FlowEstimate, meters: Money | None, host: str, told: list[tuple[Decimal, Evidence]]
) -> FlowEstimate:
    """A flow with what its host bills, and with the evidence (``told``) of that."""
    if flow.cost_month is None or not told:
        return structs.replace(flow, host=host, meters_month=meters)
    parts = [*amounts_of(flow.evidence_month, flow.cost_month.amount), *told]
    return structs.replace(flow, host=host, meters_month=meters, evidence_month=evidence_shares(parts))


def _total_of(flows: Sequence[FlowEstimate], fees: Money) -> Total:
    cost, meters = Money(), Money()
    weighted: list[tuple[Decimal, Evidence]] = [(fees.amount, "declared")]
    for flow in flows:
        meters += flow.meters_month or Money()
        cost += flow.cost_month or Money()
        bill = (flow.cost_month or Money()).amount + (flow.meters_month or Money()).amount
        weighted += amounts_of(flow.evidence_month, bill)
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
