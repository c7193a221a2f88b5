# Estimating: every flow by itself, volumes and months of all, distributions where they are asked for; and what is told about
# an estimate: breakdowns, drivers, months, where a number comes from, budgets.
"""Estimates of calls, tokens and cost."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.assumptions.months import months_from
from zeitbuch.core.estimate.breakdown import By, GroupsResult, group_estimate
from zeitbuch.core.estimate.budget import Budget, Excess, Measure, budget_excesses
from zeitbuch.core.estimate.day_parts import change_days
from zeitbuch.core.estimate.estate import EstateFigures, estimate_exactly, month_for, result_of, runs_of, total_anew
from zeitbuch.core.estimate.provenance import why_sheet
from zeitbuch.core.estimate.records import Driver, DriversResult, EstateEstimate, Sampling
from zeitbuch.core.estimate.related_flows import related_flows
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.sheet import Column, Sheet, top_of, with_column
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.report.estimate_tables import drivers_sheet, flows_sheet, groups_sheet, months_sheet, steps_sheet
from zeitbuch.core.report.presentations import TableResult

from .basis import EstimateBasis
from .flows import find_flow, find_flows
from .parallel_work import share_work
from .session import Session

__all__ = ["months_sheet"]

Per = Literal["", "run", "month", "year"]
SHOWN_DRIVERS = 20
MOST_DRAWN = 500  # flows of an estate whose sheets say low and high: drawing takes longer than writing the page
NEEDS_STEPS = frozenset({"step", "model", "connection", "owner", "environment", "host"})


class EstimateRequest(Struct, frozen=True):
    """What is asked of an estimate: only some flows (ids or names), one row for each ``by``, a row a step, a span with its
    distribution, how many runs are sampled (None: until figures stand to 1 %; 0: none), and how many rows are shown (None: all)."""

    flows: tuple[str, ...] = ()
    by: By | Literal["flow"] = "flow"
    steps: bool = False
    per: Per = ""
    runs: int | None = None
    top: int | None = None


def estimate_means(session: Session, estate: Estate, basis: EstimateBasis, names: Sequence[str] = ()) -> EstateEstimate:
    """The exact means of some flows (ids or names; all without any) and of all that theirs hang on, without distributions. What is wrong
    goes to the session's problems."""
    basis.check_shares(estate)
    related = _related(estate, basis, ids_of_flows(estate, names))
    result = estimate_exactly(related, basis.card, basis.assumptions, basis.month, basis.counters)
    session.problems += [*basis.problems, *result.problems]
    return result


def estimate_for_sheets(
    session: Session, estate: Estate, basis: EstimateBasis, names: Sequence[str] = ()
) -> EstateEstimate:
    """What first sheets say of some flows (ids or names; all without any): with the distributions that `estimate` shows, in estates of up to
    ``MOST_DRAWN`` flows; of larger ones the exact means."""
    if len(estate.flows) > MOST_DRAWN:
        return estimate_means(session, estate, basis, names)
    from zeitbuch.core.estimate.sampled_estate import estimate_flows

    basis.check_shares(estate)
    wanted = ids_of_flows(estate, names)
    result = estimate_flows(
        related_flows(estate.flows, wanted, basis.card), basis.card, basis.assumptions, basis.month,
        Sampling(among=len(estate.flows)), True, basis.counters, share_work, wanted=wanted,
    )  # fmt: skip
    session.problems += [*basis.problems, *result.problems]
    return result


def estimate_estate(session: Session, estate: Estate, basis: EstimateBasis, request: EstimateRequest) -> EstateEstimate:
    """Means and distributions of an estate, or of the flows asked for; what these hang on is estimated with them, and left out then."""
    from zeitbuch.core.estimate.sampled_estate import estimate_flows  # brings NumPy, which the exact means do without

    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    sampling = None if request.runs == 0 else Sampling(request.runs, among=len(estate.flows))
    detail = request.steps or request.by in NEEDS_STEPS
    wanted = ids_of_flows(estate, request.flows)
    flows = related_flows(estate.flows, wanted, basis.card)
    with session.progress(len(flows), "estimating") as advance:
        result = estimate_flows(
            flows, basis.card, basis.assumptions, month_of_request(basis, request), sampling, detail,
            basis.counters, share_work, advance, wanted,
        )  # fmt: skip
    session.problems += result.problems
    return narrow_estimate(result, wanted)


def month_of_request(basis: EstimateBasis, request: EstimateRequest) -> str:
    """The month asked for; a year of an average month where a year is wanted and no month is named."""
    return basis.month[:4] if request.per == "year" and not basis.asked else basis.month


def narrow_estimate(result: EstateEstimate, wanted: frozenset[str]) -> EstateEstimate:
    """The estimate of the flows with these ids; of all without any."""
    if not wanted:
        return result
    flows = tuple(flow for flow in result.flows if flow.id in wanted)
    meters = tuple(line for line in result.meters if line.flow_id in wanted)
    return total_anew(structs.replace(result, flows=flows, meters=meters))


def ids_of_flows(estate: Estate, names: Sequence[str]) -> frozenset[str]:
    """The ids of the flows with these ids, names or patterns; none without any. Raises ZeitbuchError for one that is not there."""
    return frozenset(flow.id for flow in find_flows(estate, names)) if names else frozenset()


def _related(estate: Estate, basis: EstimateBasis, wanted: frozenset[str]) -> Estate:
    """The estate, with those flows only that the figures of the wanted ones hang on."""
    return structs.replace(estate, flows=tuple(related_flows(estate.flows, wanted, basis.card))) if wanted else estate


def estimate_table(result: EstateEstimate, request: EstimateRequest) -> TableResult:
    """An estimate as the table that was asked for."""

    def shown(sheet: Sheet, full: bool) -> Sheet:
        sheet = top_of(sheet, request.top)
        return with_column(sheet, Column("currency", "currency"), result.currency) if full else sheet

    if request.steps:
        return TableResult("estimate", result, lambda full: shown(steps_sheet(result, full), full))
    if request.by != "flow":
        by = request.by
        rows = group_estimate(result, by)
        body = GroupsResult(result.month, result.currency, by, rows)
        return TableResult("groups", body, lambda full: shown(groups_sheet(result, rows, by, request.per), full))
    bare = structs.replace(result, flows=tuple(structs.replace(flow, steps=()) for flow in result.flows))
    return TableResult("estimate", bare, lambda full: shown(flows_sheet(result, request.per), full))


# -- what moves an estimate, where its numbers come from, how it goes on ---------------------------------------------


def runs_of_estate(
    session: Session, estate: Estate, basis: EstimateBasis, month: str = "", names: Sequence[str] = ()
) -> EstateFigures:
    """Some flows (ids or names; all without any), and all that theirs hang on, with what their figures were made from."""
    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    related = _related(estate, basis, ids_of_flows(estate, names))
    with session.progress(len(related.flows), "estimating") as advance:
        runs = runs_of(related, basis.card, basis.assumptions, month or basis.month, basis.counters, advance)
    session.problems += runs.problems
    return runs


def find_drivers(
    session: Session,
    estate: Estate,
    basis: EstimateBasis,
    per: Literal["run", "month"],
    names: Sequence[str],
    month: str = "",
) -> list[Driver]:
    """The assumptions of some flows (ids or names; without any: of all) that move the month or the run most."""
    from zeitbuch.core.estimate.sampled_estate import estimate_flows
    from zeitbuch.core.estimate.sensitivity import rank_drivers

    session.problems += [*basis.check_shares(estate), *basis.problems, *basis.idle_entries(estate)]
    wanted = ids_of_flows(estate, names)
    flows = related_flows(estate.flows, wanted, basis.card)
    when = month_for(basis.assumptions, month or basis.month)
    prices = Prices(basis.card, when, basis.counters, change_days(basis.assumptions, when))
    text = month or basis.month

    def on_average() -> Decimal:
        """The bill that `estimate` shows."""
        found = estimate_flows(
            flows, basis.card, basis.assumptions, text, Sampling(among=len(estate.flows)), False, basis.counters, share_work,
            wanted=wanted,
        )  # fmt: skip
        total = narrow_estimate(found, wanted).total
        return total.bill_month.amount

    with session.progress(len(flows), "moving assumptions") as advance:
        return rank_drivers(flows, prices, when, basis.assumptions, per, wanted, advance, on_average)


def drivers_table(found: list[Driver], currency: str, per: str, top: int | None = None) -> TableResult:
    """Drivers as a table: all in files for machines, the first of them for people."""
    body = DriversResult(per, currency, tuple(found))
    return TableResult(
        "drivers",
        body,
        lambda full: drivers_sheet(found, currency, per, top or (len(found) if full else SHOWN_DRIVERS)),
    )


def explain_figures(runs: EstateFigures, estate: Estate, asked: str) -> Sheet:
    """Where every number of a flow or of one of its steps comes from; ``asked`` is FLOW or FLOW/STEP. Raises ZeitbuchError for
    a flow or step that is not there."""
    flow, step = flow_and_step(estate, asked)
    return why_sheet(runs, runs.whole_key(runs.names.get(flow.id, flow.id)), step)


def flow_and_step(estate: Estate, asked: str) -> tuple[Flow, str]:
    """The flow, and the step (empty: none), that FLOW or FLOW/STEP means. Raises ZeitbuchError for a flow that is not there."""
    flow = estate.flow(asked)  # a name may hold a slash itself: the whole is tried first
    if flow is not None:
        return flow, ""
    name, _, step = asked.partition("/")
    return find_flow(estate, name.strip()), step.strip()


def estimate_months(
    session: Session, runs: EstateFigures, estate: Estate, basis: EstimateBasis, names: Sequence[str]
) -> list[EstateEstimate]:
    """The twelve months from that of the runs on, each with its prices and hosts, for some flows (without any: for all)."""
    wanted = ids_of_flows(estate, names)
    related = _related(estate, basis, wanted)
    months = months_from(runs.month)
    results = []
    with session.progress(len(months), "estimating months") as advance:
        for place, month in enumerate(months):
            found = runs_of(related, basis.card, basis.assumptions, month, basis.counters, like=runs)
            results.append(narrow_estimate(result_of(found), wanted))
            advance(place)
    return results


# -- budgets ---------------------------------------------------------------------------------------------------------


def budgets_of(
    budgets: Sequence[Budget],
    result: EstateEstimate,
    narrowed: bool,
    per_run: float | None = None,
    per_month: float | None = None,
    measure: Measure = "mean",
) -> tuple[Budget, ...]:
    """The limits to hold an estimate against: those of the workspace and those asked for. Of an estimate that is ``narrowed``
    to some flows, the month's limit holds for each of them, and a limit of the whole estate says nothing."""
    found = list(budgets)
    if per_run is not None or per_month is not None:
        if narrowed and per_month is not None:
            found += [
                Budget(literal_pattern(flow.id), max_per_month=per_month, measure=measure) for flow in result.flows
            ]
            per_month = None
        found.append(Budget("", per_run, per_month, measure))
    if narrowed:
        found = [budget for budget in found if budget.flow or budget.max_per_month is None]
    return tuple(found)


def find_excesses(result: EstateEstimate, budgets: tuple[Budget, ...]) -> list[Excess]:
    """Figures that are over their limit or not known."""
    return budget_excesses(result, budgets)
