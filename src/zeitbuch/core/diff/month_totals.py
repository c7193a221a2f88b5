# What all changes do to the month: calls and money of the estate before and after, with the flows that did not change themselves but
# call one that did, or are called by one.
"""The month before and after."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow

from .change_cost import Costing
from .estate_changes import versions_of
from .flow_matching import FlowMatching
from .records import AffectedFlow, EstateChanges, MonthSide, MonthTotals

MOST_STEPS = 20_000  # of both versions; beyond, the flows that changed and those around them are counted


def month_totals(
    found: EstateChanges, old: Costing, new: Costing, matching: FlowMatching, of_all: bool = True
) -> MonthTotals | None:
    """Calls and cost of a month before and after, ``of_all`` flows or of those that changed and those around them; None where they
    cannot be worked out."""
    pairs = versions_of(found, matching)
    whole = of_all and sum([len(flow.steps) for side in (old, new) for flow in side.estate.flows]) <= MOST_STEPS
    changed = [[flow for flow in side if flow is not None] for side in zip(*pairs, strict=True)] or [[], []]
    try:
        before = old.estimate(old.estate.flows if whole else _around(old, changed[0]))
        after = new.estimate(new.estate.flows if whole else _around(new, changed[1]))
    except ZeitbuchError:
        return None  # `estimate` says why
    return MonthTotals(
        "estate" if whole else "changed",
        after.month,
        _side(before, whole),
        _side(after, whole),
        tuple(_affected(before, after, matching, {id(flow) for flow in changed[1]})),
    )


def _around(costing: Costing, flows: Iterable[Flow]) -> list[Flow]:
    found: dict[int, Flow] = {}
    for flow in flows:
        found |= {id(one): one for one in costing.flows_around(flow)}
    return list(found.values())


def _side(result: EstateEstimate, whole: bool) -> MonthSide:
    total = result.total
    # Allowances of meters count all flows together: of some alone they would be wrong.
    metered = total.meters_month + total.fees_month if whole else Money()
    cost = total.cost_month + metered
    unknown = len(total.unknown_volume)
    known = len(result.flows) - unknown
    return MonthSide(total.calls_month, cost if result.currency else None, unknown, known, metered)


def _affected(
    before: EstateEstimate, after: EstateEstimate, matching: FlowMatching, changed: set[int]
) -> Iterable[AffectedFlow]:
    """Flows that are as they were and whose month is another all the same."""
    had = {flow.id: flow for flow in before.flows}
    now = {flow.id: flow for flow in after.flows}
    for pair in matching.pairs:
        first, second = had.get(pair.old.id), now.get(pair.new.id)
        if id(pair.new) in changed or first is None or second is None or not _is_other(first, second):
            continue
        yield AffectedFlow(
            second.id, second.name, first.calls_month, second.calls_month, first.cost_month, second.cost_month
        )


def _is_other(first: FlowEstimate, second: FlowEstimate) -> bool:
    if (first.calls_month is None) != (second.calls_month is None):
        return True
    if first.calls_month is None or second.calls_month is None:
        return False
    moved = abs(first.calls_month - second.calls_month) > 1e-9 * max(1.0, abs(first.calls_month))
    # Parts of meters move with every flow that shares an allowance: the total says that.
    one, other = first.cost_month, second.cost_month
    cost = (
        one is not None
        and other is not None
        and (one.unknown != other.unknown or round(one.amount - other.amount, 9) != 0)
    )
    return moved or cost
