# Which flows exist: rows read no further than they need, unless the texts of the flows are searched, or a condition is asked of them.
"""The inventory of an estate."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import structs

from zeitbuch.core.model.sheet import top_of
from zeitbuch.core.report import inventory
from zeitbuch.core.report.inventory import Filter, InventoryResult, Row
from zeitbuch.core.report.presentations import TableResult

from .session import Session

if TYPE_CHECKING:
    from zeitbuch.core.assumptions.money import Money
    from zeitbuch.core.model.records import Estate

    from .basis import EstimateBasis

READ_ORDER = "read-order"
_MONEY = {"cost": "what it costs in a month, in the currency of the rate card", "calls": "its model calls in a month"}


def list_flows(session: Session, sources: Sequence[str], conditions: Filter, order: str = "name") -> list[Row]:
    """The rows of the flows that fit, in an order (a key of ``inventory.SORTS``, or ``READ_ORDER``)."""
    if conditions.needs_flows:
        rows = [
            row for flow in session.flows(sources) if (row := inventory.row_if_wanted(conditions, flow)) is not None
        ]
    else:
        rows = [row for row in session.rows(sources) if inventory.row_fits(row, conditions)]
    return order_rows(rows, order)


def order_rows(rows: list[Row], order: str) -> list[Row]:
    """The rows in an order."""
    if order != READ_ORDER:
        rows.sort(key=inventory.SORTS[order])
    return rows


def flows_where(
    session: Session, estate: Estate, basis: EstimateBasis, where: str, conditions: Filter, today: str
) -> list[Row]:
    """The rows of the flows that fit and for which a condition holds: over the facts of flows in rules, and what they cost. Raises
    ZeitbuchError for a condition that is none."""
    from zeitbuch.core.checks.estate_view import EstateView
    from zeitbuch.core.checks.records import EstateFacts
    from zeitbuch.core.checks.rule_facts import Subject, known_facts, look_up
    from zeitbuch.core.checks.views import FlowView
    from zeitbuch.core.model.conditions import Fact, parse_condition

    money = {name: Fact(about) for name, about in _MONEY.items()}
    condition = parse_condition(
        where, known_facts("flow") | {f"month.{name}": fact for name, fact in money.items()} | {"cost": money["cost"]}
    )
    view = EstateView(estate.flows, basis.card, EstateFacts(today))
    months = _months(estate, basis) if any(word in where for word in _MONEY) else {}

    def asker(view_of_flow: FlowView) -> Callable[[str, tuple[Any, ...]], Any]:
        def ask(name: str, given: tuple[Any, ...]) -> Any:
            word = name.removeprefix("month.")
            if word in _MONEY and (name != word or word == "cost"):
                return months.get(view_of_flow.flow.id, {}).get(word)
            return look_up("flow", Subject(view_of_flow), name, given)

        return ask

    found = [flow for flow in estate.flows if condition.holds(asker(FlowView(flow, view)))]
    return [row for flow in found if (row := inventory.row_if_wanted(conditions, flow)) is not None]


def _months(estate: Estate, basis: EstimateBasis) -> dict[str, dict[str, float | None]]:
    from zeitbuch.core.estimate.estate import estimate_exactly
    from zeitbuch.core.model.conditions import AtLeast

    def amount(cost: Money | None) -> float | None:
        """The cost; where something has no price, it is known not to be less only."""
        return None if cost is None else AtLeast(cost.amount) if cost.unknown else float(cost.amount)

    result = estimate_exactly(estate, basis.card, basis.assumptions, basis.month, basis.counters)
    return {
        flow.id: {
            "cost": amount(flow.bill_month),
            "calls": flow.calls_month,
        }
        for flow in result.flows
    }


def with_findings(
    session: Session, sources: Sequence[str], basis: EstimateBasis, rows: list[Row], today: str
) -> list[Row]:
    """The rows with how many findings of each severity the checks have for their flows."""
    from zeitbuch.core.report.finding_marks import findings_by_flow, severity_counts

    from .check import findings_of_estate

    found = findings_by_flow(findings_of_estate(session, session.estate(sources), basis, today))
    return [structs.replace(row, **severity_counts(found.get(row.id, ()))) for row in rows]


def estate_bill(session: Session, sources: Sequence[str]) -> dict[str, Any]:
    """The bill of materials of all flows."""
    from zeitbuch.core.checks.estate_view import EstateView
    from zeitbuch.core.report.bill import bill_of
    from zeitbuch.version import __version__

    return bill_of(EstateView(session.estate(sources).flows), __version__)


def inventory_result(rows: list[Row], top: int | None = None) -> TableResult:
    """Rows as a result that every table format can show."""
    body = InventoryResult(tuple(rows), inventory.inventory_totals(rows))
    return TableResult("inventory", body, lambda full: top_of(inventory.inventory_sheet(rows, full=full), top))
