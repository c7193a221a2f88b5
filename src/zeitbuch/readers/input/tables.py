# A table is read as a list of rows, each an object with the names of the columns as keys. An empty cell is no value.
"""Tables (CSV) as plain values."""

from __future__ import annotations

import csv
import io
from typing import Any

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large

TABLES = (".csv", ".tsv")
ROWS = "rows"
_DIVIDERS = ",;\t|"


def decode_table(raw: bytes, limits: Limits) -> dict[str, Any]:
    """The rows of a table under the key ``rows``. Raises ZeitbuchError when a row does not fit the head or a limit is passed."""
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        message = f"expected UTF-8 text, found the byte 0x{raw[error.start]:02x} in line {line}"
        raise fail("utf8", message, "save the table as UTF-8", Origin("", line=line)) from None
    head = text.split("\n", 1)[0]
    divider = max(_DIVIDERS, key=head.count)
    csv.field_size_limit(limits.text)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=divider, strict=True)
    rows: list[dict[str, str]] = []
    names: list[str] = []
    left = limits.values
    try:
        for cells in reader:
            if not cells:
                continue
            if not names:
                names = _names_of(cells)
                continue
            if len(cells) > len(names):
                raise _wrong_row(len(names), len(cells), reader.line_num)
            row = {name: cell for name, cell in zip(names, cells, strict=False) if cell}
            left -= len(row)
            if left < 0:
                raise too_large("values", limits.values, "a table with more cells")
            rows.append(row)
    except csv.Error as error:
        message = f"expected a table (CSV), found {error} in line {reader.line_num}"
        raise fail("table", message, "export it again", Origin("", line=reader.line_num)) from None
    return {ROWS: rows}


def _names_of(cells: list[str]) -> list[str]:
    names = [cell.strip() for cell in cells]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice or "" in names:
        found = f"'{twice[0]}' twice" if twice else "a column without one"
        raise fail(
            "table",
            f"expected a name for each column in the first line, found {found}",
            "name the columns",
            Origin("", line=1),
        )
    return names


def _wrong_row(wanted: int, found: int, line: int) -> Exception:
    message = f"expected {wanted} cells as in the first line, found {found} in line {line}"
    return fail("table", message, "a cell with a divider in it stands in quotes", Origin("", line=line))
