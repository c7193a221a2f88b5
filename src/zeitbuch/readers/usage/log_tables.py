# Logs are read by an embedded engine that streams them: text tables and Parquet larger than memory, JSON Lines, workbooks. Of text tables
# every value comes as it is written; what it means is the mapping's to say.
"""Opening usage logs."""

from __future__ import annotations

import contextlib
import csv
import gzip
import io
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zeitbuch.core.actuals.usage_mapping import LogForm, UsageMapping
from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin

from .line_tables import temporary_folder
from .standard_logs import STANDARD_OPENERS, OpenTable, with_tags
from .trace_spans import holds_spans

_BY_SUFFIX: dict[str, LogForm] = {
    ".csv": "csv", ".tsv": "csv", ".txt": "csv", ".gz": "csv", ".xlsx": "xlsx", ".jsonl": "jsonl", ".ndjson": "jsonl",
    ".json": "jsonl", ".parquet": "parquet", ".pq": "parquet", ".xes": "xes",
}  # fmt: skip
FILE = "zeitbuch_file"  # the column that says from which file a line is
_MOST_REJECTS = 1000  # lines that are named; all are counted
_GUESSED = frozenset(
    {"DATE", "TIME", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE", "TIMESTAMP_S", "TIMESTAMP_MS", "TIMESTAMP_NS", "UUID"}
)
_MEMORY = "1GB"  # of the engine; whole logs need no more, what is larger is written to disk
_BEGIN = 1_000_000  # bytes in which ends of lines are looked at


def import_engine() -> Any:
    """Ibis. Raises ZeitbuchError when it is not installed."""
    with telling_missing():
        import duckdb  # noqa: F401
        import ibis
    return ibis


def engine_errors() -> tuple[type[Exception], ...]:
    """What the engine raises when it cannot read what it is given."""
    import duckdb
    import ibis.common.exceptions as raised
    import pyarrow as pa

    return duckdb.Error, raised.IbisError, pa.ArrowException


def memory_errors() -> type[Exception]:
    """What the engine raises when it cannot hold what is asked for."""
    import duckdb

    return duckdb.OutOfMemoryException


def open_engine() -> Any:
    """A connection to the embedded engine, which fetches nothing from anywhere."""
    ibis = import_engine()
    engine = ibis.duckdb.connect()
    # What does not fit into memory goes to a folder of its own, not to where the caller stands.
    spilled = str(temporary_folder()).replace("'", "''")
    for setting in (
        "autoinstall_known_extensions=false",
        "autoload_known_extensions=false",
        "TimeZone='UTC'",
        f"memory_limit='{_MEMORY}'",
        f"temp_directory='{spilled}'",
    ):
        engine.raw_sql(f"SET {setting}")
    with contextlib.suppress(engine_errors()[0]):  # in a notebook without widgets it has none, and says so by an error
        engine.raw_sql("SET enable_progress_bar=false")  # it would stand among results
    return engine


def form_of(path: str, mapping: UsageMapping) -> LogForm:
    """How a log is written. Raises ZeitbuchError for a suffix that says nothing."""
    found = mapping.form or _form_by_name(path)
    if not mapping.form and found == "jsonl" and holds_spans(path):
        return "otlp"
    if not found:
        raise fail(
            "usage-form",
            f"expected a log as {', '.join(sorted(_BY_SUFFIX))}, found {Path(path).name}",
            "say form in the mapping",
            Origin(path),
        )
    return found


def _form_by_name(path: str) -> LogForm:
    ends = [suffix.lower() for suffix in Path(path).suffixes]
    if ends[-1:] == [".gz"] and ends[-2:-1] and ends[-2] in _BY_SUFFIX:
        return _BY_SUFFIX[ends[-2]]
    return _BY_SUFFIX.get(ends[-1], "") if ends else ""


def table_form(path: str, mapping: UsageMapping) -> LogForm:
    """The form of the table that holds a log: a billing table is a text table or another."""
    form = form_of(path, mapping)
    return form if form != "focus" else form_of(path, UsageMapping())


def open_tables(engine: Any, paths: Sequence[str], mapping: UsageMapping) -> list[OpenTable]:
    """The logs of some files; those of one form and one head as one table. Files that cannot be read become problems."""
    found: list[OpenTable] = []
    for path in paths:
        try:
            if not Path(path).exists():
                raise fail(
                    "usage-unreadable", "expected a usage log, found no such file", "check the path", Origin(path)
                )
            if Path(path).stat().st_size == 0:
                raise fail("usage-empty", "expected a usage log, found an empty file", "export it again", Origin(path))
            opened = _OPENERS[table_form(path, mapping)](engine, path, mapping)
            lines = with_tags(engine, opened.lines) if mapping.form == "focus" else opened.lines
            found.append(opened._replace(lines=lines.mutate(**{FILE: import_engine().literal(path)})))
        except ZeitbuchError as error:
            found.append(OpenTable(None, [error.problem]))
        except (OSError, EOFError, zlib.error) as error:
            found.append(OpenTable(None, [_unreadable(path, error).problem]))
    return found


def _open_csv(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    delimiter = mapping.separator.replace("\\t", "\t")
    head = _head_of(path, mapping, delimiter)
    options = {
        "auto_detect": False, "columns": dict.fromkeys(head, "VARCHAR"), "header": True, "delim": delimiter, "quote": '"', "escape": '"',
        "encoding": mapping.encoding, "skip": mapping.skip, "store_rejects": True, "rejects_limit": 0,
        "rejects_table": "rejected", "rejects_scan": "rejected_scans",
    }  # fmt: skip
    try:
        lines = engine.read_csv(_with_one_line_end(engine, path), **options)
        lines.schema()
    except engine_errors() as error:
        raise _unreadable(path, error) from None
    return OpenTable(lines, [])


def _head_of(path: str, mapping: UsageMapping, delimiter: str) -> list[str]:
    """The names of the columns. They are read here, as the engine would take a guess at what is head and what is not."""
    try:
        with text_of(path, mapping.encoding) as file:
            for _ in range(mapping.skip):
                file.readline()
            head = next(csv.reader(file, delimiter=delimiter), [])
    except (OSError, ValueError, LookupError, TypeError, csv.Error, EOFError, zlib.error) as error:
        raise _unreadable(path, error) from None
    if not any(name.strip() for name in head):
        raise fail(
            "usage-empty",
            "expected a line with the names of columns, found none",
            "set skip in the mapping",
            Origin(path),
        )
    return _unique([name.strip().removeprefix("\ufeff") or f"column {place}" for place, name in enumerate(head, 1)])


def text_of(path: str, encoding: str) -> io.TextIOBase:
    """A text table opened, unpacked where it is packed."""
    if path.endswith(".gz"):
        return io.TextIOWrapper(gzip.open(path), encoding=encoding, newline="")
    return open(path, encoding=encoding, newline="")  # noqa: PTH123


def _with_one_line_end(engine: Any, path: str) -> str:
    """The file, or a copy of it where lines end in two ways: of such the engine reads nothing, and says nothing."""
    if path.endswith(".gz"):
        return path
    with open(path, "rb") as file:  # noqa: PTH123
        begin = file.read(_BEGIN)
        if b"\r\n" not in begin or begin.count(b"\n") == begin.count(b"\r\n"):
            return path
        file.seek(0)
        copy = temporary_folder() / Path(path).name
        with copy.open("wb") as target:
            for line in file:
                target.write(line.removesuffix(b"\r\n").removesuffix(b"\n") + b"\n")
    copies(engine)[str(copy)] = path
    return str(copy)


def copies(engine: Any) -> dict[str, str]:
    """Copies that an engine reads -> the files they are of."""
    found: dict[str, str] = engine.__dict__.setdefault("zeitbuch_copies", {})
    return found


def rejected_lines(engine: Any) -> tuple[int, list[Problem]]:
    """How many lines of text tables the engine could not read, once it has read them, and a problem for each of the first of them."""
    lines = (
        "(SELECT s.file_path, r.line, any_value(r.error_message) AS words FROM rejected r JOIN rejected_scans s USING (scan_id, file_id) "
        "GROUP BY s.file_path, r.line)"
    )
    try:
        ((count,),) = engine.raw_sql(f"SELECT count(*) FROM {lines}").fetchall()
        rows = engine.raw_sql(f"SELECT * FROM {lines} ORDER BY file_path, line LIMIT {_MOST_REJECTS}").fetchall()
    except engine_errors():  # no such table: no text table was read
        return 0, []
    hint = "mend the log or export it again: the line was not counted"
    known = copies(engine)
    told = [
        Problem(
            "usage-line", "error", f"expected a line with all columns, found: {words.splitlines()[0]}",
            Origin(known.get(path, path), line=int(line)), hint,
        )
        for path, line, words in rows
    ]  # fmt: skip
    if count > len(told):
        last = told[-1].origin
        found = f"expected lines with all columns, found {count:,} that have not, in all files"
        told.append(Problem("usage-line", "error", found, Origin(last.source) if last is not None else None, hint))
    return count, told


def _open_json_lines(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    try:
        lines = engine.read_json(path, format="auto")
        described = engine.con.execute(f'DESCRIBE "{lines.get_name()}"').fetchall()
        # What the engine takes for times loses the zone that it names: texts stay texts.
        columns = {row[0]: "VARCHAR" if row[1] in _GUESSED else row[1] for row in described}
        lines = engine.read_json(path, format="auto", columns=columns)
        lines.schema()
    except engine_errors() as error:
        raise _unreadable(path, error) from None
    return OpenTable(lines, [])


def _open_parquet(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    try:
        lines = engine.read_parquet(path)
        lines.schema()
    except engine_errors() as error:
        raise _unreadable(path, error) from None
    return OpenTable(lines, [])


def _open_workbook(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    """One sheet of a workbook, each value as a text: a workbook is as large as a person can look through."""
    import pyarrow as pa

    with telling_missing():
        from python_calamine import CalamineWorkbook

    try:
        book = CalamineWorkbook.from_path(path)
        names = book.sheet_names
        if mapping.sheet and mapping.sheet not in names:
            raise fail(
                "usage-form",
                f"expected the sheet '{mapping.sheet}', found {', '.join(names)}",
                "name one of them in the mapping",
                Origin(path),
            )
        rows = book.get_sheet_by_name(mapping.sheet or names[0]).to_python()[mapping.skip :]
    except ZeitbuchError:
        raise
    except Exception as error:  # the reader has errors of its own
        raise _unreadable(path, error) from None
    if not rows:
        raise fail(
            "usage-empty", "expected lines below a head, found an empty sheet", "name another sheet", Origin(path)
        )
    head = [str(name) for name in rows[0]]
    columns = [[_cell_text(row[place], mapping) for row in rows[1:]] for place in range(len(head))]
    table = pa.table([pa.array(column, pa.string()) for column in columns], names=_unique(head))
    name = f"workbook {path}"
    engine.con.register(name, table)
    return OpenTable(engine.table(name), [])


def _cell_text(value: Any, mapping: UsageMapping) -> str:
    """A cell as the mapping says texts are written: numbers of workbooks have no sign for thousands."""
    if isinstance(value, float):
        text = f"{int(value)}" if value.is_integer() and abs(value) < 1e15 else repr(value)
        return text.replace(".", mapping.decimal)
    if isinstance(value, bool) or value is None:
        return "" if value is None else str(value).lower()
    return value.isoformat(" ") if hasattr(value, "hour") else str(value)


def _unique(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    made = []
    for name in names:
        seen[name] = seen.get(name, 0) + 1
        made.append(name if seen[name] == 1 else f"{name}_{seen[name]}")
    return made


def _unreadable(path: str, error: Exception) -> ZeitbuchError:
    words = str(error).strip().splitlines() or [type(error).__name__]
    return fail(
        "usage-unreadable",
        f"expected a usage log, found: {words[0]}",
        "say in the mapping how it is written",
        Origin(path),
    )


_OPENERS = {
    "csv": _open_csv,
    "jsonl": _open_json_lines,
    "parquet": _open_parquet,
    "xlsx": _open_workbook,
    **STANDARD_OPENERS,
}
