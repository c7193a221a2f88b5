# A table for spreadsheets: numbers stay numbers, whatever a flow is called stays text, and the head stays in sight.
"""Tables as XLSX workbooks (Office Open XML, ECMA-376)."""

from __future__ import annotations

import io
from datetime import datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import xlsxwriter
from xlsxwriter.format import Format
from xlsxwriter.worksheet import Worksheet

from zeitbuch.core.model.sheet import CellKind, Column, Sheet, cell_text
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

from . import grid

if TYPE_CHECKING:
    from zeitbuch.core.report.presentations import TableResult

LONGEST = 32_767  # characters of a cell (ECMA-376 part 1, 18.18.11, as spreadsheets read it)
CUT = " … (cut: a cell holds 32,767 characters; CSV and JSON have the whole)"
NUMBER_FORMATS: dict[CellKind, str] = {
    "count": "#,##0", "number": "#,##0.###", "money": "#,##0.00######", "percent": "0.0%",
}  # fmt: skip
_MADE = datetime(2000, 1, 1)  # the same input gives the same bytes
_WIDEST = 60


def write_workbook(result: TableResult, look: TextLook) -> bytes:
    """All columns of a table as a workbook."""
    return to_workbook(result.sheet(True))


def to_workbook(sheet: Sheet) -> bytes:
    """A workbook with the table on its first worksheet, what stands below it and its notes on further ones. Unknown is the text '?', so that sums
    leave it out visibly; a total is a row of its own in bold."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"created": _MADE, "title": make_inert(sheet.title, keep_lines=False)[:250]})
    _fill_page(book, book.add_worksheet("table"), sheet)
    if sheet.below is not None:
        _fill_page(book, book.add_worksheet("below"), sheet.below)
    if sheet.notes:
        notes = book.add_worksheet("notes")
        notes.set_column(0, 0, 120)
        for line, note in enumerate(sheet.notes):
            notes.write_string(line, 0, _cell_content(note), book.add_format({"text_wrap": True}))
    book.close()
    return out.getvalue()


def _fill_page(book: Any, page: Worksheet, sheet: Sheet) -> None:
    bold = {"bold": True}
    for place, column in enumerate(sheet.columns):
        page.write_string(0, place, column.title, book.add_format({**bold, "bottom": 1}))
    plain = [_cell_format(book, column, {}) for column in sheet.columns]
    for line, row in enumerate(sheet.rows, 1):
        _write_row(page, line, row, sheet.columns, plain)
    if sheet.total is not None:
        strong = [_cell_format(book, column, {**bold, "top": 1}) for column in sheet.columns]
        _write_row(page, len(sheet.rows) + 1, sheet.total, sheet.columns, strong)
    page.freeze_panes(1, 0)
    if sheet.rows:
        page.autofilter(0, 0, len(sheet.rows), len(sheet.columns) - 1)
    for place, column in enumerate(sheet.columns):
        page.set_column(place, place, _column_width(sheet, place, column))


def _cell_format(book: Any, column: Column, style: dict[str, Any]) -> Format:
    number_format = NUMBER_FORMATS.get(column.kind)
    return book.add_format({**style, "num_format": number_format} if number_format else style)


def _write_row(
    page: Worksheet, line: int, row: tuple[Any, ...], columns: tuple[Column, ...], formats: list[Format]
) -> None:
    for place, (value, column) in enumerate(zip(row, columns, strict=True)):
        if value is None:
            page.write_string(line, place, "?", formats[place])
        elif isinstance(value, int | float | Decimal) and not isinstance(value, bool):
            page.write_number(line, place, float(value), formats[place])
        elif value != "":
            kind: CellKind = column.kind if not isinstance(value, str) else "text"
            page.write_string(line, place, _cell_content(cell_text(value, kind)), formats[place])


def _cell_content(text: str) -> str:
    text = make_inert(text)
    return text if len(text) <= LONGEST else text[: LONGEST - len(CUT)] + CUT


def _column_width(sheet: Sheet, place: int, column: Column) -> float:
    texts = [
        cell_text(row[place], column.kind if not isinstance(row[place], str) else "text") for row in sheet.rows[:500]
    ]
    return min(_WIDEST, 3 + max([grid.cell_width(text) for text in (column.title, *texts)]))
