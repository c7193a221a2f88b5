# The same estimate seen from another side: who or what the month's money goes to.
"""Estimates by step, model, connection, owner, environment or meter."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any, Literal

from msgspec import Struct

from zeitbuch.core.assumptions.money import Money, Shares, evidence_shares
from zeitbuch.core.assumptions.values import Evidence, weakest_evidence
from zeitbuch.core.pricing.meters import MeterLine

from .records import EstateEstimate, FlowEstimate, StepEstimate

By = Literal["flow", "step", "model", "connection", "owner", "environment", "host", "meter"]
SIDES: tuple[By, ...] = ("flow", "step", "model", "connection", "owner", "environment", "host", "meter")
NONE = "(none)"


class GroupRow(Struct, frozen=True):
    """What one group uses in a month. ``unknown_volume`` names flows that it leaves out."""

    name: str
    flows: tuple[str, ...]
    calls: float
    input_tokens: float
    output_tokens: float
    cost: Money
    evidence: Shares
    units: float | None = None
    unknown_volume: tuple[str, ...] = ()


class _Group(Struct):
    name: str
    flows: dict[int, str]  # place of the flow -> its name: two flows may have one name
    calls: float
    given: float
    got: float
    cost: Money
    weighted: list[tuple[Decimal, Evidence]]
    unknown: dict[int, str]


def _group_names(flow: FlowEstimate, step: StepEstimate, by: By) -> list[str]:
    match by:
        case "step":
            return [f"{flow.name} / {step.name}"]
        case "model":
            return [step.model or NONE]
        case "connection":
            return [step.connection or NONE]
        case "owner":
            return list(flow.owners) or [NONE]
        case "environment":
            return [flow.environment or NONE]
        case "host":
            return [flow.host or NONE]
        case _:
            return [flow.name]


def group_estimate(result: EstateEstimate, by: By) -> tuple[GroupRow, ...]:
    """One row a group, dearest first, and a row for each meter and fee: together they are the bill. What several owners share is split
    in equal parts."""
    bills = tuple(_meter_rows(result))
    if by == "meter":
        return (*bills, _model_row(result))
    groups: dict[tuple[Any, ...], _Group] = {}
    for place, flow in enumerate(result.flows):
        for step in flow.steps:
            names = _group_names(flow, step, by) if step.parts else []
            for name in names:
                # Flows and steps are told by what they are, all else by its name.
                key = (place, step.id) if by == "step" else (place,) if by == "flow" else (name,)
                group = groups.setdefault(key, _Group(name, {}, 0.0, 0.0, 0.0, Money(), [], {}))
                group.flows[place] = flow.name
                if flow.runs is None:
                    group.unknown[place] = flow.name
                else:
                    _add_step(group, step, flow.runs / len(names), flow.runs_evidence)
    rows = [
        GroupRow(
            group.name,
            tuple(group.flows.values()),
            group.calls,
            group.given,
            group.got,
            group.cost,
            evidence_shares(group.weighted),
            None,
            tuple(group.unknown.values()),
        )
        for group in groups.values()
    ]
    return (*sorted(rows, key=lambda r: (-r.cost.amount, r.name)), *bills)


def _add_step(group: _Group, step: StepEstimate, runs: float, evidence: Evidence) -> None:
    group.calls += step.calls * runs
    group.given += step.input_tokens * runs
    group.got += step.output_tokens * runs
    group.cost += step.cost.times(runs)
    factor = Decimal(runs)
    group.weighted += [
        (part.cost * factor, weakest_evidence(part.evidence, evidence)) for part in step.parts if part.cost
    ]


def _meter_rows(result: EstateEstimate) -> Iterator[GroupRow]:
    """Bills of the hosts, meter by meter, and their fees, which belong to no flow."""
    lines: dict[tuple[str, str], list[MeterLine]] = {}
    for line in result.meters:
        lines.setdefault((line.host, line.meter), []).append(line)
    for (host, meter), some in lines.items():
        cost = sum((line.cost for line in some), Money())
        told = evidence_shares((line.cost.amount, line.evidence) for line in some)
        units = sum(line.units for line in some)
        flows = tuple(line.flow for line in some)
        yield GroupRow(f"{host}: {meter}", flows, 0.0, 0.0, 0.0, cost, told, units)
    fees = result.total.fees_month
    for bill in result.hosts if fees.amount or fees.unknown else ():
        if not bill.meter:
            paid = evidence_shares([(bill.fee.amount, "declared")])
            yield GroupRow(f"{bill.host}: fee", (), 0.0, 0.0, 0.0, bill.fee, paid)


def _model_row(result: EstateEstimate) -> GroupRow:
    """What the models of all flows cost together."""
    total = result.total
    spent = tuple(
        flow_estimate.name
        for flow_estimate in result.flows
        if flow_estimate.cost_month is not None
        and (flow_estimate.cost_month.amount or flow_estimate.cost_month.unknown)
    )
    given = sum(flow_estimate.input_tokens * (flow_estimate.runs or 0.0) for flow_estimate in result.flows)
    got = sum(flow_estimate.output_tokens * (flow_estimate.runs or 0.0) for flow_estimate in result.flows)
    return GroupRow(
        "models", spent, total.calls_month, given, got, total.cost_month, total.evidence, None, total.unknown_volume
    )


class GroupsResult(Struct, frozen=True):
    """`estimate --by SIDE --format json`."""

    month: str
    currency: str
    by: str
    groups: tuple[GroupRow, ...]
