# The beginning and end of a log, to find out how it is written: encoding, separator, which line names the columns.
"""Samples of usage logs."""

from __future__ import annotations

import csv
import io
import json
import re
from collections import Counter
from pathlib import Path
from typing import Any, NamedTuple

from zeitbuch.core.actuals.usage_mapping import LogForm, UsageMapping
from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin

from .log_tables import form_of, open_engine, open_tables, text_of

MOST_ROWS = 2000
_SEPARATORS = (";", "\t", "|", ",")
_ENCODINGS = ("utf-8", "utf-16", "cp1252")
_LETTERS = re.compile(r"[^\W\d_]{2,}")
_MOST_SKIPPED = 30


class LogSample(NamedTuple):
    """A log's first rows as texts, the names of their columns, and how it is written. ``typed`` columns have values with a type of their
    own (Parquet, JSON): numbers and times need no form."""

    path: str
    form: LogForm
    head: tuple[str, ...]
    rows: list[tuple[str, ...]]
    encoding: str = "utf-8"
    separator: str = ","
    skip: int = 0
    sheet: str = ""
    typed: frozenset[str] = frozenset()

    def values(self, column: str) -> list[str]:
        """The texts of a column that hold something."""
        place = self.head.index(column)
        return [text for row in self.rows if len(row) > place and (text := row[place].strip())]


def sample_log(path: str) -> LogSample:
    """The sample of a log. Raises ZeitbuchError when it cannot be read."""
    if not Path(path).is_file():
        raise fail("usage-unreadable", "expected a usage log, found no such file", "check the path", Origin(path))
    form = form_of(path, UsageMapping())
    if form == "csv":
        return _sample_text(path)
    if form == "xlsx":
        return _sample_workbook(path)
    return _sample_typed(path, form)


def _sample_text(path: str) -> LogSample:
    text, encoding = "", ""
    for encoding in _ENCODINGS:
        try:
            with text_of(path, encoding) as file:
                text = file.read(4_000_000)
        except (UnicodeError, OSError, EOFError):
            continue
        if "\0" not in text:
            break
    lines = text.lstrip("\ufeff").splitlines()
    if not any(line.strip() for line in lines):
        raise fail("usage-empty", "expected a usage log, found an empty file", "export it again", Origin(path))
    separator = max(_SEPARATORS, key=lambda sign: _steadiness(lines[:200], sign))
    rows = list(csv.reader(io.StringIO(text.lstrip("\ufeff")), delimiter=separator))
    skip, head = _head_of(rows)
    body = [tuple(row) for row in rows[skip + 1 :] if len(row) == len(head)]
    return LogSample(path, "csv", head, _ends_of(body), encoding, separator, skip)


def _steadiness(lines: list[str], sign: str) -> tuple[float, int]:
    """How many lines have as many columns as most, and how many these are."""
    counts = Counter(len(row) for row in csv.reader(lines, delimiter=sign) if row)
    columns, often = max(counts.items(), key=lambda pair: (pair[1] * (pair[0] > 1), pair[0]))
    return (often / max(1, counts.total()) if columns > 1 else 0.0, columns)


def _head_of(rows: list[list[str]]) -> tuple[int, tuple[str, ...]]:
    """Which row names the columns: the first that has as many cells as most rows, each a text of its own."""
    width = Counter(len(row) for row in rows if len(row) > 1).most_common(1)
    columns = width[0][0] if width else 1
    for place, row in enumerate(rows[:_MOST_SKIPPED]):
        named = [cell.strip() for cell in row]
        if len(row) == columns and all(named) and len(set(named)) == columns and any(map(_LETTERS.search, named)):
            return place, tuple(named)
    first = rows[0]
    return 0, tuple(cell.strip() or f"column {place}" for place, cell in enumerate(first, 1))


def _ends_of(rows: list[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """The first rows and the last: totals stand at the end."""
    return rows if len(rows) <= MOST_ROWS else [*rows[: MOST_ROWS - 100], *rows[-100:]]


def _sample_workbook(path: str) -> LogSample:
    with telling_missing():
        from python_calamine import CalamineWorkbook

    try:
        book = CalamineWorkbook.from_path(path)
        sheets = {name: book.get_sheet_by_name(name).to_python() for name in book.sheet_names}
    except Exception as error:  # the reader has errors of its own
        raise fail(
            "usage-unreadable", f"expected a workbook, found: {error}", "export it again", Origin(path)
        ) from None
    name = max(sheets, key=lambda one: sum(map(len, sheets[one][:500])))
    texts = [[_text(cell) for cell in row] for row in sheets[name]]
    if not texts:
        raise fail("usage-empty", "expected a usage log, found an empty workbook", "export it again", Origin(path))
    skip, head = _head_of(texts)
    body = [tuple(row) for row in texts[skip + 1 :] if any(row)]
    named = "" if name == book.sheet_names[0] else name
    return LogSample(path, "xlsx", head, _ends_of(body), skip=skip, sheet=named)


def _text(cell: Any) -> str:
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return cell.isoformat(" ") if hasattr(cell, "hour") else str(cell)


def _sample_typed(path: str, form: LogForm) -> LogSample:
    (opened,) = open_tables(open_engine(), [path], UsageMapping(form=form))
    if opened.lines is None:
        raise fail("usage-unreadable", opened.problems[0].message, opened.problems[0].hint, Origin(path))
    columns = [name for name in opened.lines.columns if not name.startswith("zeitbuch_")]
    typed = frozenset(name for name in columns if not opened.lines[name].type().is_string())
    rows = opened.lines.select(columns).limit(MOST_ROWS).to_pyarrow().to_pylist()
    body = [tuple("" if row[name] is None else _plain(row[name]) for name in columns) for row in rows]
    return LogSample(path, form, tuple(columns), body, typed=typed)


def _plain(value: Any) -> str:
    if isinstance(value, dict | list):
        return json.dumps(value, default=str)
    return value.isoformat(" ") if hasattr(value, "isoformat") else str(value)
