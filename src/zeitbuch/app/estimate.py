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
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Estate
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


def estimate_means(session: Session, estate: Estate, basis: EstimateBasis) -> EstateEstimate:
    """The exact means of an estate, without distributions. What is wrong goes to the session's problems."""
    basis.check_shares(estate)
    result = estimate_exactly(estate, basis.card, basis.assumptions, basis.month, basis.counters)
    session.problems += [*basis.problems, *result.problems]
    return result


def estimate_for_sheets(
    session: Session, estate: Estate, basis: EstimateBasis, names: Sequence[str] = ()
) -> EstateEstimate:
    """What first sheets say of some flows (ids or names; all without any): with the distributions that `estimate` shows, in estates of up to
    ``MOST_DRAWN`` flows; of larger ones the exact means."""
    if len(estate.flows) > MOST_DRAWN:
        return estimate_means(session, estate, basis)
    from zeitbuch.core.estimate.sampled_estate import estimate_flows

    basis.check_shares(estate)
    result = estimate_flows(
        estate.flows, basis.card, basis.assumptions, basis.month, Sampling(), True, basis.counters, share_work,
        wanted=_ids_of_flows(estate, names),
    )  # fmt: skip
    session.problems += [*basis.problems, *result.problems]
    return result


def estimate_estate(session: Session, estate: Estate, basis: EstimateBasis, request: EstimateRequest) -> EstateEstimate:
    """Means and distributions of an estate, narrowed to the flows asked for. Volumes of called flows need the whole estate:
    it is estimated first and narrowed then."""
    from zeitbuch.core.estimate.sampled_estate import estimate_flows  # brings NumPy, which the exact means do without

    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    sampling = None if request.runs == 0 else Sampling(request.runs)
    detail = request.steps or request.by in NEEDS_STEPS
    wanted = _ids_of_flows(estate, request.flows)
    with session.progress(len(estate.flows), "estimating") as advance:
        result = estimate_flows(
            estate.flows, basis.card, basis.assumptions, month_of_request(basis, request), sampling, detail,
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


def _ids_of_flows(estate: Estate, names: Sequence[str]) -> frozenset[str]:
    return frozenset(flow.id for flow in find_flows(estate, names)) if names else frozenset()


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


def runs_of_estate(session: Session, estate: Estate, basis: EstimateBasis, month: str = "") -> EstateFigures:
    """All flows with what their figures were made from."""
    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    with session.progress(len(estate.flows), "estimating") as advance:
        runs = runs_of(estate, basis.card, basis.assumptions, month or basis.month, basis.counters, advance)
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
    wanted = _ids_of_flows(estate, names)
    when = month_for(basis.assumptions, month or basis.month)
    prices = Prices(basis.card, when, basis.counters, change_days(basis.assumptions, when))
    text = month or basis.month

    def on_average() -> Decimal:
        """The bill that `estimate` shows."""
        found = estimate_flows(
            estate.flows,
            basis.card,
            basis.assumptions,
            text,
            Sampling(),
            False,
            basis.counters,
            share_work,
            None,
            wanted,
        )
        total = narrow_estimate(found, wanted).total
        return total.bill_month.amount

    with session.progress(len(estate.flows), "moving assumptions") as advance:
        return rank_drivers(estate.flows, prices, when, basis.assumptions, per, wanted, advance, on_average)


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
    # A name may hold a slash itself: the whole is tried first.
    flow = estate.flow(asked)
    step = ""
    if flow is None:
        name, _, step = asked.partition("/")
        flow = find_flow(estate, name.strip())
    return why_sheet(runs, runs.whole_key(runs.names.get(flow.id, flow.id)), step.strip())


def estimate_months(
    session: Session, runs: EstateFigures, estate: Estate, basis: EstimateBasis, names: Sequence[str]
) -> list[EstateEstimate]:
    """The twelve months from that of the runs on, each with its prices and hosts, for some flows (without any: for all)."""
    wanted = _ids_of_flows(estate, names)
    months = months_from(runs.month)
    results = []
    with session.progress(len(months), "estimating months") as advance:
        for place, month in enumerate(months):
            found = runs_of(estate, basis.card, basis.assumptions, month, basis.counters, like=runs)
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
