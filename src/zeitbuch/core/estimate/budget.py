# Budgets: the answer is no when a figure is over its limit, and also when the figure is not known.
"""Budget gates."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from zeitbuch.core.model.name_patterns import pattern_fits

if TYPE_CHECKING:
    from zeitbuch.core.assumptions.money import Money

    from .records import EstateEstimate, FlowEstimate, Spread

Measure = Literal["mean", "p50", "p90", "p99"]


class Budget(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One `[[budget]]` of the workspace: limits for each flow that fits, or for the estate when no flow is named.

    Limits are in the rate card's currency. ``measure`` says which figure is held against them."""

    flow: str = ""
    max_per_run: float | None = None
    max_per_month: float | None = None
    measure: Measure = "mean"


MOST_MONEY = 1e15  # of a limit


def budget_faults(budgets: Iterable[Budget]) -> Iterator[tuple[str, str]]:
    """The place and the message of every limit that is none."""
    for place, budget in enumerate(budgets):
        for key in ("max_per_run", "max_per_month"):
            value = getattr(budget, key)
            if value is not None and not 0 <= value <= MOST_MONEY:
                yield f"/budget/{place}/{key}", f"expected a limit from 0 to {MOST_MONEY:g}, found {value:g}"


class Excess(Struct, frozen=True):
    """A figure over its limit; ``found`` is None when it is not known, ``why`` says what is missing."""

    flow: str
    per: Literal["run", "month"]
    measure: Measure
    limit: float
    found: float | None
    why: str = ""


def _measured_figure(money: Money | None, spread: Spread | None, measure: Measure) -> tuple[float | None, str]:
    if money is None:
        return None, "no volume is known"
    if money.unknown:
        return None, "no price is known for " + ", ".join(money.unknown)
    if measure == "mean":
        return float(money.amount), ""
    return (getattr(spread, measure), "") if spread is not None else (None, "runs were not sampled")


def budget_excesses(result: EstateEstimate, budgets: tuple[Budget, ...]) -> list[Excess]:
    """All figures that are over their limit or not known."""
    found: list[Excess] = []
    for budget in budgets:
        flows = [
            flow_estimate
            for flow_estimate in result.flows
            if not budget.flow or pattern_fits(budget.flow, flow_estimate.id, flow_estimate.name)
        ]
        if budget.max_per_run is not None:
            found += _excesses_per_run(flows, budget.measure, budget.max_per_run)
        if budget.max_per_month is not None:
            found += (
                _excesses_per_month(flows, budget.measure, budget.max_per_month)
                if budget.flow
                else _excess_of_estate(result, budget.measure, budget.max_per_month)
            )
    return found


def _excesses_per_run(flows: list[FlowEstimate], measure: Measure, limit: float) -> Iterator[Excess]:
    for flow in flows:
        figure, why = _measured_figure(flow.with_called, flow.spread, measure)
        if figure is None or figure > limit:
            yield Excess(flow.name, "run", measure, limit, figure, why)


def _excesses_per_month(flows: list[FlowEstimate], measure: Measure, limit: float) -> Iterator[Excess]:
    for flow in flows:
        figure, why = _measured_figure(flow.bill_month, flow.month_spread, measure)
        if figure is None or figure > limit:
            yield Excess(flow.name, "month", measure, limit, figure, why)


def _excess_of_estate(result: EstateEstimate, measure: Measure, limit: float) -> Iterator[Excess]:
    total = result.total
    whole = total.bill_month
    figure, why = _measured_figure(whole, total.spread, measure)
    if total.unknown_volume:
        figure, why = None, "no volume is known for " + ", ".join(total.unknown_volume)
    if figure is None or figure > limit:
        yield Excess("", "month", measure, limit, figure, why)
