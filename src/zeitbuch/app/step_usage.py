# What usage logs have of the steps of flows, for maps, documents and explanations.
"""Steps as logs have them."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from zeitbuch.core.actuals.card_costs import CardCosts
from zeitbuch.core.actuals.case_shares import counted_shares
from zeitbuch.core.actuals.flow_actuals import StepIndex, flow_actuals
from zeitbuch.core.actuals.grouping import UsageSum
from zeitbuch.core.actuals.placing import Placing, place_all
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log, Sides, gather_sides
from zeitbuch.core.actuals.step_records import CaseShare, FlowActuals
from zeitbuch.core.actuals.step_times import StepPlace, TimedDays
from zeitbuch.core.actuals.usage_mapping import UsageMapping
from zeitbuch.core.calibrate.calibrate import ask_of, measure_sides
from zeitbuch.core.calibrate.fitted_shares import fitted_shares
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.usage.usage_log import Timing

from .basis import EstimateBasis
from .session import Session
from .usage import OpenLog, as_log, estimate_side, open_logs, refuse_unread


def actuals_of_flows(
    session: Session,
    estate: Estate,
    basis: EstimateBasis,
    mappings: Sequence[str],
    flows: Sequence[Flow],
    asked: Asked,
) -> dict[str, FlowActuals]:
    """What logs have of some flows of an estate, by id; flows without a line are not there. Without ``mappings`` those of the workspace are
    read. Raises ZeitbuchError where there are none, or no line has such a day."""
    side = estimate_side(session, estate, basis)
    opened = open_logs(session, [], mappings, step_timing(side, flows, asked))
    refuse_unread(opened)
    return actuals_of_logs(opened, side, flows, asked)


def step_timing(side: Basis, flows: Sequence[Flow], asked: Asked) -> Timing:
    """Which durations of a log are asked for: those of the steps of some flows."""
    index, card = StepIndex(flows), side.card

    def timing(sums: Sequence[UsageSum], mapping: UsageMapping) -> tuple[list[StepPlace], TimedDays]:
        placing = Placing(side.estate, mapping, CardCosts(card), card.currency if card is not None else "", side.former)
        placed = place_all(sums, placing, asked.first, asked.last)
        return index.places(placed), TimedDays(asked.first, asked.last, mapping.not_production)

    return timing


def actuals_of_logs(
    opened: Sequence[OpenLog], side: Basis, flows: Sequence[Flow], asked: Asked
) -> dict[str, FlowActuals]:
    """What logs that are read have of some flows, by id. Raises ZeitbuchError where no line has such a day."""
    logs = [as_log(one) for one in opened]
    sides = gather_sides(logs, side, asked)
    found = flow_actuals(sides, logs, [one.found.times for one in opened], flows)
    fitted = _fitted_by_calls(sides, logs, side, found)
    graphs = {flow.id: Graph(flow) for flow in flows}
    return {one.id: structs.replace(one, shares=_shares_of(graphs[one.id], one, fitted)) for one in found}


def _shares_of(graph: Graph, one: FlowActuals, fitted: dict[str, list[CaseShare]]) -> tuple[CaseShare, ...]:
    """Shares that are counted; of decisions that cannot be counted those that are fitted."""
    counted = counted_shares(graph, one.steps)
    known = {share.step for share in counted}
    return (*counted, *[share for share in fitted.get(one.id, ()) if share.step not in known])


def _fitted_by_calls(
    sides: Sides, logs: Sequence[Log], side: Basis, found: Sequence[FlowActuals]
) -> dict[str, list[CaseShare]]:
    """Shares of flows with cases, fitted to the calls that logs have of them."""
    telling = [log for log in logs if log.mapping.stands_for in ("call", "sum")]
    if not telling:
        return {}
    if len(telling) < len(logs):
        sides = gather_sides(telling, side, Asked(first=sides.days[0], last=sides.days[-1]))
    wanted = {one.id for one in found if any(step.calls is not None for step in one.steps)}
    cases = [case for case in sides.cases if case.id in wanted and Graph(case.flow).deciding]
    covered = sorted(sides.covered & set(sides.days))
    if not cases:
        return {}
    measured = measure_sides(sides._replace(cases=cases), covered, side, ask_of(telling, over_declared=False))
    return {case.id: fitted_shares(Graph(case.flow), measured.measured) for case in cases}
