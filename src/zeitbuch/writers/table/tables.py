# Sheets and typed results as text: terminal table, CSV, JSON, Markdown table. Nothing here touches a stream.
"""Writers for sheets and for typed results."""

from __future__ import annotations

import csv
import io
import re
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import msgspec

if TYPE_CHECKING:
    from zeitbuch.core.report.presentations import BodyResult, ClonesReport, PageResult, TableResult

from zeitbuch.core.model.sheet import Column, Sheet, cell_text
from zeitbuch.writers.escape.text import escape_json, formula_free, make_inert
from zeitbuch.writers.theme.links import link_place
from zeitbuch.writers.theme.terminal import TextLook

from . import grid
from .columns import fit_columns

JSON_VERSION = 1
_RIGHT = ("count", "number", "money", "percent")
_PLACES = ("place", "source")  # keys of columns that name a file


def _cell_text(value: Any, kind: str) -> str:
    return make_inert(cell_text(value, kind if value.__class__ is not str else "text"), keep_lines=False)  # type: ignore[arg-type]


def _row_texts(row: tuple[Any, ...], columns: tuple[Column, ...]) -> list[str]:
    return [_cell_text(value, column.kind) for value, column in zip(row, columns, strict=True)]


def _all_cells(sheet: Sheet) -> list[list[str]]:
    """The cells of all rows; what occurs often in a column is worded once."""
    if not sheet.rows:
        return []
    made: list[list[str]] = []
    for values, column in zip(zip(*sheet.rows, strict=True), sheet.columns, strict=True):
        kind = column.kind
        try:
            # 1 and True and 1.0 are one key: the class keeps them apart.
            once = (
                {(value.__class__, value): _cell_text(value, kind) for value in set(values)}
                if len(set(map(type, values))) == 1
                else {}
            )
        except TypeError:
            once = {}
        made.append(
            [once.get((value.__class__, value)) or _cell_text(value, kind) for value in values]
            if once
            else [_cell_text(value, kind) for value in values]
        )
    return [list(row) for row in zip(*made, strict=True)]


def cell_texts(sheet: Sheet, most: int) -> list[list[str]]:
    """The cells of the first rows as people read them."""
    return [_row_texts(row, sheet.columns) for row in sheet.rows[:most]]


def is_number_column(column: Column) -> bool:
    """Whether a column holds numbers, which stand to the right."""
    return column.kind in _RIGHT


def to_table(sheet: Sheet, width: int, colour: bool, links: bool = False) -> str:
    """A terminal table that fits ``width`` columns; with ``links`` its places lead to their files."""
    rows = _all_cells(sheet)
    total = [_row_texts(sheet.total, sheet.columns)] if sheet.total is not None else []
    to_right = [column.kind in _RIGHT for column in sheet.columns]
    kept, widths, gap = fit_columns(sheet, rows + total, width, to_right)
    right = [to_right[index] for index in kept]

    def lines(found: list[list[str]]) -> list[str]:
        return grid.align_rows([[row[index] for index in kept] for row in found], widths, right, gap)

    def styled(text: str, code: str) -> str:
        return f"\x1b[{code}m{text}\x1b[0m" if colour and text else text

    rule = "─" * (sum(widths) + len(gap) * (len(widths) - 1))
    out = [styled(make_inert(sheet.title, keep_lines=False), "1"), ""] if sheet.title else []
    if rows or total or not sheet.notes:  # over nothing, of which a note speaks, stands no head
        out += [styled(line, "1") for line in lines([[column.title for column in sheet.columns]])]
        told = lines(rows)
        out += [rule, *(_linked(told, rows, sheet.columns, kept) if links else told)]
    if total:
        out += [rule, *[styled(line, "1") for line in lines(total)]]
    dropped = [
        column.title
        for index, column in enumerate(sheet.columns)
        if column.title and index not in kept and any(row[index] for row in rows)
    ]
    notes = [*sheet.notes, *([f"left out for want of width: {', '.join(dropped)}"] if dropped else [])]
    if notes and out and out[-1]:
        out.append("")
    for note in notes:
        out += [styled(line, "2") for line in grid.wrap_cells(make_inert(note, keep_lines=False), width)]
    below = "\n" + to_table(sheet.below, width, colour, links) if sheet.below is not None else ""
    return "\n".join(out) + "\n" + below


def _linked(lines: list[str], rows: list[list[str]], columns: tuple[Column, ...], kept: list[int]) -> list[str]:
    """The lines with the places in them as links, as far as they were not broken over lines."""
    for index in kept:
        if columns[index].key in _PLACES:
            places = {row[index] for row in rows if row[index]}
            for place in places:
                linked = link_place(place)
                if linked != place:
                    end = re.compile(rf"(?<=  ){re.escape(place)}(?=\s|$)")
                    lines = [end.sub(lambda _, linked=linked: linked, line, count=1) for line in lines]  # type: ignore[misc]
    return lines


def write_table(result: TableResult, look: TextLook) -> str:
    """A table for the terminal."""
    return to_table(result.sheet(False), look.width, look.colour, look.links)


def write_csv(result: TableResult, look: TextLook) -> bytes:
    """All columns as CSV. It begins with a mark by which spreadsheets know its encoding, where it goes to a file."""
    return (("\ufeff" if look.file else "") + to_csv(result.sheet(True))).encode("utf-8", "replace")


def write_markdown(result: TableResult, look: TextLook) -> str:
    """A Markdown table."""
    return to_markdown(result.sheet(False))


def write_json(result: TableResult | PageResult | BodyResult | ClonesReport, look: TextLook) -> str:
    """The typed result behind a table, a page or words."""
    return to_json(result.kind, result.body)


def to_csv(sheet: Sheet) -> str:
    """CSV (RFC 4180) with the columns' keys as header; no totals; unknown is an empty cell."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow([column.key for column in sheet.columns])
    for row in sheet.rows:
        cells: list[Any] = []
        for value, column in zip(row, sheet.columns, strict=True):
            if value is None:
                cells.append("")
            elif column.kind == "list" and not isinstance(value, str):
                cells.append(formula_free("; ".join(make_inert(str(item)) for item in value)))
            elif isinstance(value, int | float | Decimal):
                cells.append(plain_number(value))
            else:
                cells.append(formula_free(make_inert(str(value))))
        writer.writerow(cells)
    return out.getvalue()


def plain_number(value: int | float | Decimal) -> str:
    """A number for machines: no separators, no exponent, at most ten decimals."""
    if isinstance(value, bool | int):
        return str(int(value))
    text = f"{value:.10f}".rstrip("0").rstrip(".")
    return "0" if text in ("", "-0") else text


def _encode_value(value: Any) -> Any:
    if isinstance(value, Decimal):
        return plain_number(value)
    raise NotImplementedError(f"cannot write {type(value).__name__}")


def to_json(kind: str, body: Any) -> str:
    """A typed result as JSON: ``{"zeitbuch": kind, "version": 1, ...body}``; money is decimal text."""
    plain = msgspec.to_builtins(body, enc_hook=_encode_value)
    document = {"zeitbuch": kind, "version": JSON_VERSION, **plain}
    return (
        escape_json(msgspec.json.format(msgspec.json.encode(document, enc_hook=_encode_value), indent=2).decode())
        + "\n"
    )


def markdown_text(text: str) -> str:
    """Text that Markdown shows as it is, on one line."""
    text = make_inert(text, keep_lines=False)
    for mark in "\\`*_{}[]<>#|~$":
        text = text.replace(mark, "\\" + mark)
    return text


def to_markdown(sheet: Sheet) -> str:
    """A Markdown table with the totals as its last row."""

    def line(cells: list[str]) -> str:
        return "| " + " | ".join(markdown_text(letter) for letter in cells) + " |"

    rules = ["--:" if column.kind in _RIGHT else "---" for column in sheet.columns]
    lines = [line([column.title for column in sheet.columns]), "| " + " | ".join(rules) + " |"]
    lines += [line(_row_texts(row, sheet.columns)) for row in sheet.rows]
    if sheet.total is not None:
        lines.append(
            "| "
            + " | ".join(
                f"**{markdown_text(letter)}**" if letter else "" for letter in _row_texts(sheet.total, sheet.columns)
            )
            + " |"
        )
    below = "\n" + to_markdown(sheet.below) if sheet.below is not None else ""
    return "\n".join(lines) + "\n" + below
