# The engines that add usage up: one that is embedded, and those in which records lie already. What is asked is the same; a few words, Ibis has
# none for or the engines say differently, are here, one class for each engine.
"""Engines of usage records."""

from __future__ import annotations

from functools import cached_property
from typing import Any

from zeitbuch.core.actuals.usage_mapping import EngineKind

_FIGURES = {
    "float64": r"^\s*[+-]?([0-9]+([.][0-9]*)?|[.][0-9]+)([eE][+-]?[0-9]{1,2})?\s*$",
    "int64": r"^\s*[+-]?[0-9]{1,18}\s*$",
    "date": r"^\s*[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])\s*$",
    "timestamp": r"^\s*[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])[ T]([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9]([.][0-9]+)?)?"
    r"\s*(Z|UTC|[+-][0-9]{2}:?([0-9]{2})?)?\s*$",
}


def _of_one(text):  # type: ignore[no-untyped-def]
    ...


def _of_two(first, second):  # type: ignore[no-untyped-def]
    ...


def _builtin(name: str, inputs: tuple[str, ...], output: str) -> Any:
    """A function of the engine; Ibis knows its name and types only."""
    import ibis
    import ibis.expr.datatypes as dt

    signature = tuple(dt.dtype(kind) for kind in inputs), dt.dtype(output)
    return ibis.udf.scalar.builtin(_of_one if len(inputs) == 1 else _of_two, name=name, signature=signature)


class EngineWords:
    """The embedded engine's words (DuckDB)."""

    kind: EngineKind = "duckdb"

    def fetch_rows(self, expression: Any) -> list[dict[str, Any]]:
        """What an expression comes to."""
        # Asked by its SQL: Ibis's own way to a table loads pandas first, for half a second.
        engine = expression.get_backend()
        found = engine.con.sql(engine.compile(expression)).to_arrow_table()
        rows: list[dict[str, Any]] = found.cast(expression.schema().to_pyarrow()).to_pylist()
        return rows

    def small_table(self, table: Any, connection: Any) -> Any:
        """A few rows (Arrow) as a table that records can be held against."""
        import ibis

        name = ibis.util.gen_name("zeitbuch")
        connection.con.register(name, table)
        return connection.table(name)

    @cached_property
    def _digest(self) -> Any:
        return _builtin("md5", ("string",), "string")

    def digest(self, text: Any) -> Any:
        """A digest of a text."""
        return self._digest(text)

    def try_cast(self, value: Any, kind: str) -> Any:
        """A value as another kind; nothing where it is none."""
        return value.try_cast(kind)

    @cached_property
    def _strptime(self) -> Any:
        return _builtin("try_strptime", ("string", "string"), "timestamp")

    def read_clock(self, text: Any, form: str) -> Any:
        """A clock time in a format of its own, without a zone."""
        return self._strptime(text, form)

    @cached_property
    def _local(self) -> Any:
        return _builtin("timezone", ("string", "timestamp('UTC')"), "timestamp")

    def to_local(self, zone: str, moment: Any) -> Any:
        """What clocks of a zone show at a moment."""
        return self._local(zone, moment)

    @cached_property
    def _moment(self) -> Any:
        return _builtin("timezone", ("string", "timestamp"), "timestamp('UTC')")

    def to_moment(self, zone: str, naive: Any) -> Any:
        """The moment at which clocks of a zone show a time."""
        return self._moment(zone, naive)


class PostgresWords(EngineWords):
    """PostgreSQL's words: it has no cast that gives nothing, so that a text is looked at before."""

    kind: EngineKind = "postgresql"

    def small_table(self, table: Any, connection: Any) -> Any:
        import ibis

        return connection.create_table(ibis.util.gen_name("zeitbuch"), table, temp=True)

    def fetch_rows(self, expression: Any) -> list[dict[str, Any]]:
        # Sums come as the server's numbers, which are of other types than Ibis awaits.
        engine = expression.get_backend()
        with engine.begin() as cursor:
            cursor.execute(engine.compile(expression))
            names = [column.name for column in cursor.description]
            return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]

    def try_cast(self, value: Any, kind: str) -> Any:
        import ibis

        if not value.type().is_string():
            return value.cast(kind)
        form = _FIGURES["float64" if kind.startswith("decimal") else kind.partition("(")[0]]
        return ibis.ifelse(value.re_search(form), value, ibis.null("string")).cast(kind)


class SparkWords(EngineWords):
    """Spark's words; its session counts in UTC."""

    kind: EngineKind = "spark"

    def fetch_rows(self, expression: Any) -> list[dict[str, Any]]:
        rows: list[dict[str, Any]] = expression.to_pyarrow().to_pylist()
        return rows

    def small_table(self, table: Any, connection: Any) -> Any:
        import ibis

        return ibis.memtable(table)

    def try_cast(self, value: Any, kind: str) -> Any:
        import ibis

        if not value.type().is_string() or not kind.startswith(("date", "timestamp")):
            return value.try_cast(kind)
        form = _FIGURES[kind.partition("(")[0]]  # Spark takes a year alone for a day
        return ibis.ifelse(value.rlike(form), value, ibis.null("string")).try_cast(kind)

    @cached_property
    def _local(self) -> Any:
        return _builtin("from_utc_timestamp", ("timestamp('UTC')", "string"), "timestamp")

    def to_local(self, zone: str, moment: Any) -> Any:
        return self._local(moment, zone)

    @cached_property
    def _moment(self) -> Any:
        return _builtin("to_utc_timestamp", ("timestamp", "string"), "timestamp('UTC')")

    def to_moment(self, zone: str, naive: Any) -> Any:
        return self._moment(naive, zone)


EMBEDDED = EngineWords()
ENGINE_WORDS: dict[EngineKind, EngineWords] = {one.kind: one for one in (EMBEDDED, PostgresWords(), SparkWords())}
