# One object a row, for tools that read a stream: the same keys and values as the rows of the JSON form.
"""Tables as JSON Lines."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING, Any

import msgspec

from zeitbuch.core.model.sheet import Sheet
from zeitbuch.writers.escape.text import escape_json
from zeitbuch.writers.theme.terminal import TextLook

from .tables import plain_number

if TYPE_CHECKING:
    from zeitbuch.core.report.presentations import TableResult


def write_json_lines(result: TableResult, look: TextLook) -> str:
    """All columns of all rows (https://jsonlines.org): one JSON object a line, with the columns' keys."""
    return to_json_lines(result.sheet(True))


def to_json_lines(sheet: Sheet) -> str:
    """One object a row; unknown is null, money is decimal text, totals and notes are left out."""
    keys = [column.key for column in sheet.columns]
    lines = [escape_json(_row_line(dict(zip(keys, row, strict=True)))) for row in sheet.rows]
    return "".join(f"{line}\n" for line in lines)


def _row_line(row: dict[str, Any]) -> str:
    return msgspec.json.encode(row, enc_hook=_encode_value).decode()


def _encode_value(value: Any) -> Any:
    if isinstance(value, Decimal):
        return plain_number(value)
    raise NotImplementedError(f"cannot write {type(value).__name__}")
