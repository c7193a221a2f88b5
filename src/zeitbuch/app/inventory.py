# Which flows exist: rows read no further than they need, unless the texts of the flows are searched.
"""The inventory of an estate."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.report import inventory
from zeitbuch.core.report.inventory import Filter, InventoryResult, Row
from zeitbuch.core.report.presentations import TableResult

from .session import Session

READ_ORDER = "read-order"


def list_flows(session: Session, sources: Sequence[str], conditions: Filter, order: str = "name") -> list[Row]:
    """The rows of the flows that fit, in an order (a key of ``inventory.SORTS``, or ``READ_ORDER``)."""
    if conditions.text:
        rows = [
            row for flow in session.flows(sources) if (row := inventory.row_if_wanted(conditions, flow)) is not None
        ]
    else:
        rows = [row for row in session.rows(sources) if inventory.row_fits(row, conditions)]
    if order != READ_ORDER:
        rows.sort(key=inventory.SORTS[order])
    return rows


def inventory_result(rows: list[Row]) -> TableResult:
    """Rows as a result that every table format can show."""
    body = InventoryResult(tuple(rows), inventory.inventory_totals(rows))
    return TableResult("inventory", body, lambda full: inventory.inventory_sheet(rows, full=full))
