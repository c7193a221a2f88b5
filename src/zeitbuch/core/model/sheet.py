# A table of results without any look: what terminal tables, CSV, Markdown and HTML tables and data frames share.
"""Sheets: columns with a meaning, rows with raw values."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any, Literal

from msgspec import Struct, structs

CellKind = Literal["text", "list", "count", "number", "money", "percent"]


class Column(Struct, frozen=True):
    """One column: ``key`` for machines, ``title`` for people. ``kind`` says how a value is shown."""

    key: str
    title: str
    kind: CellKind = "text"
    rank: int = 0  # left out of a narrow terminal: highest first, 0 never
    least: int = 0  # cells that it needs to be read with ease: narrower than that others are left out


class Sheet(Struct, frozen=True):
    """Rows of raw values under columns, with an optional last row of totals, and a table that stands ``below`` it (in CSV and JSON Lines
    it does not)."""

    columns: tuple[Column, ...]
    rows: tuple[tuple[Any, ...], ...]
    total: tuple[Any, ...] | None = None
    title: str = ""
    notes: tuple[str, ...] = ()
    below: Sheet | None = None


def with_column(sheet: Sheet, column: Column, value: Any) -> Sheet:
    """The sheet with one column more, which holds the same in every row."""
    return structs.replace(
        sheet,
        columns=(*sheet.columns, column),
        rows=tuple((*row, value) for row in sheet.rows),
        total=None if sheet.total is None else (*sheet.total, value),
    )


def without_columns(sheet: Sheet, *keys: str) -> Sheet:
    """The sheet without some columns."""
    kept = [place for place, column in enumerate(sheet.columns) if column.key not in keys]

    def cut(row: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple([row[place] for place in kept])

    total = None if sheet.total is None else cut(sheet.total)
    return structs.replace(sheet, columns=cut(sheet.columns), rows=tuple(map(cut, sheet.rows)), total=total)


def with_notes(sheet: Sheet, notes: Sequence[str]) -> Sheet:
    """The sheet with more notes below it."""
    return structs.replace(sheet, notes=(*sheet.notes, *notes)) if notes else sheet


def top_of(sheet: Sheet, most: int | None) -> Sheet:
    """The sheet with its first rows, and a note of how many there are besides; None keeps all."""
    left = 0 if most is None else len(sheet.rows) - most
    if left <= 0:
        return sheet
    note = f"{left:,} more of {len(sheet.rows):,} rows are not shown"
    return structs.replace(sheet, rows=sheet.rows[:most], notes=(note, *sheet.notes))


def cell_text(value: Any, kind: CellKind) -> str:
    """The one rounding and wording function for cells. Unknown is shown as '?', never as 0."""
    if value is None:
        return "?"
    if value == "":
        return ""
    if kind == "list":
        return ", ".join(str(item) for item in value)
    if kind == "percent":
        return percent_text(value)
    if kind == "money":
        return money_text(value)
    if kind == "count":
        return f"{round(value):,}"
    if kind == "number":
        return number_text(value)
    return str(value)


def percent_text(share: float) -> str:
    """0.957 -> '96 %'. Only a full share reads 100 %, only none reads 0 %."""
    number = round(share * 100)
    if number == 100 and share < 1:
        return f"{int(share * 1000) / 10:.1f} %"
    if number == 0 and share > 0:
        return "<1 %"
    return f"{number} %"


def number_text(value: float) -> str:
    """Three significant figures below 100, whole above, with thousands separators."""
    value = float(value)
    if value == round(value) or abs(value) >= 100:
        return f"{round(value):,}"
    if abs(value) < 0.001:
        return "<0.001" if value > 0 else ">-0.001"
    return f"{value:.3g}"


def money_text(value: Decimal | float) -> str:
    """Money without its currency: two decimals from 1 up, enough for two significant figures below."""
    if value == 0:
        return "0.00"
    value = value if isinstance(value, Decimal) else Decimal(repr(float(value)))
    size = abs(value)
    if size >= 1:
        return f"{value:,.2f}"
    places = min(8, max(2, 1 - size.adjusted()))
    return f"{value:.{places}f}"
