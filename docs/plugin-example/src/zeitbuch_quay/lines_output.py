"""An output: every table as lines of ``key=value``. It is offered by `--format lines` and the suffix .lines."""

from __future__ import annotations

from zeitbuch.core.report.presentations import TableResult
from zeitbuch.writers.outputs.rows import OutputRow
from zeitbuch.writers.theme.terminal import TextLook

OUTPUT = OutputRow("table", "lines", (".lines",), "zeitbuch_quay.lines_output:write_lines", "key=value, a line a row")


def write_lines(result: TableResult, look: TextLook) -> str:
    """All columns of all rows."""
    sheet = result.sheet(True)
    keys = [column.key for column in sheet.columns]
    return "".join(
        " ".join(f"{key}={value!r}" for key, value in zip(keys, row, strict=True)) + "\n" for row in sheet.rows
    )
