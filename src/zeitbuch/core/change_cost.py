# What a change does to calls and cost: both versions are estimated with the same rates and assumptions.
"""Difference of two estimates, flow by flow."""

from __future__ import annotations

from msgspec import Struct

from .changes import EstateChanges
from .estimate import EstateEstimate, FlowEstimate, Money
from .match import match_flows
from .model import Estate


class CostChange(Struct, frozen=True):
    """Calls and cost per run and per month of a flow before and after; None where there is none or it is unknown."""

    id: str
    name: str
    calls_before: float | None
    calls_after: float | None
    cost_before: Money | None
    cost_after: Money | None
    month_before: Money | None
    month_after: Money | None


def cost_changes(
    old: Estate, new: Estate, before: EstateEstimate, after: EstateEstimate, found: EstateChanges
) -> tuple[CostChange, ...]:
    """The cost of every changed flow, before and after."""
    pairs, _, _ = match_flows(old.flows, new.flows)
    old_id = {b.id: a.id for a, b in pairs}
    was = {f.id: f for f in before.flows}
    now = {f.id: f for f in after.flows}
    rows = []
    for flow in found.flows:
        a: FlowEstimate | None = was.get(flow.id if flow.status == "removed" else old_id.get(flow.id, ""))
        b: FlowEstimate | None = None if flow.status == "removed" else now.get(flow.id)
        rows.append(
            CostChange(
                flow.id, flow.name, a.calls if a else None, b.calls if b else None, a.cost if a else None, b.cost if b else None,
                a.cost_month if a else None, b.cost_month if b else None,
            )
        )  # fmt: skip
    return tuple(rows)
