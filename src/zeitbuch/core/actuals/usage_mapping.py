# A usage log is a table of any layout. The mapping says which of its columns is what, how its numbers and clock times are written, and
# what its names are called in the estate. It is never guessed while a log is read.
"""The mapping of a usage log, and what is wrong with one."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from msgspec import Struct

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .columns import BY_NAME, Sort

Line = Literal["call", "step", "run", "sum", "bill"]
LogForm = Literal["", "csv", "xlsx", "jsonl", "parquet", "otlp", "xes", "focus"]
_NUMBER = re.compile(r"\d+(\.\d+)?")
_FIXED: dict[Sort, str] = {
    "time": "a column of the log", "day": "a column of the log", "count": "a number such as 1.5", "money": "a number such as 1.5",
    "seconds": "a number such as 1.5",
}  # fmt: skip


class ColumnRule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where a column of the record comes from: a ``column`` of the log, or one ``fixed`` value. Numbers are taken ``times`` so much;
    ``format`` is that of clock times (strptime's codes, 'iso', 'seconds' or 'milliseconds' since 1970); ``values`` replaces words. Only
    lines count ``where`` each column named holds one of some words (whatever the case of the letters)."""

    column: str = ""
    fixed: str = ""
    times: float = 1.0
    format: str = "iso"
    values: dict[str, str] = {}
    where: dict[str, list[str]] = {}


class PassedOver(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Lines that are no usage, such as totals: those whose ``column`` holds one of some words (whatever the case of the letters), or
    nothing at all (``empty``). They are counted, and told."""

    column: str
    equals: list[str] = []
    empty: bool = False
    reason: str = ""


EngineKind = Literal["duckdb", "postgresql", "spark"]
# What an address begins with -> the engine that it names.
ENGINES: dict[str, EngineKind] = {"postgresql": "postgresql", "postgres": "postgresql", "spark": "spark", "sc": "spark"}


class UsageMapping(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A usage mapping (TOML, ``usage = 1``).

    ``files``: patterns of the logs, from the folder of the mapping. ``form``: by the file's suffix where it is not said. ``separator``,
    ``encoding`` and ``skip`` (lines before the head) are of text tables, ``sheet`` of workbooks. ``decimal`` and ``thousands`` say how
    numbers are written. ``zone`` is that of clock times that name none, ``days_in`` the one in which days are counted. A ``line`` stands
    for one model call, one step, one run, a sum that says its calls, or a charge of a bill, which knows no calls. ``failed`` are words of the status, ``timed_out`` those
    that say that a time limit passed, ``not_production`` environments. ``flows``, ``steps`` (as FLOW/STEP) and ``models`` say what names of the log are called in the estate.
    """

    usage: Literal[1] = 1
    name: str = ""
    files: list[str] = []
    engine: str = ""
    table: str = ""
    form: LogForm = ""
    separator: str = ","
    encoding: str = "utf-8"
    skip: int = 0
    sheet: str = ""
    decimal: Literal[".", ","] = "."
    thousands: str = ""
    zone: str = ""
    days_in: str = ""
    line: Line | Literal[""] = ""
    currency: str = ""
    column: dict[str, str | ColumnRule] = {}
    without: list[PassedOver] = []
    failed: list[str] = []
    timed_out: list[str] = []
    not_production: list[str] = []
    flows: dict[str, str] = {}
    steps: dict[str, str] = {}
    models: dict[str, str] = {}

    def rule_of(self, name: str) -> ColumnRule | None:
        """The rule for a column of the record."""
        rule = self.column.get(name)
        return ColumnRule(column=rule) if isinstance(rule, str) else rule

    @property
    def engine_scheme(self) -> str:
        """What sort of engine is named: 'postgresql', 'spark' ..."""
        return self.engine.partition(":")[0].lower()

    @property
    def stands_for(self) -> Line:
        """What a line stands for: one call, where neither the mapping nor its form says otherwise."""
        return self.line or "call"

    @property
    def lines_are_passes(self) -> bool:
        """Whether a line is one pass of a step; of traces a step may have several spans."""
        return self.stands_for == "step" and self.form != "otlp"

    @property
    def tells_faults(self) -> tuple[str, ...]:
        """Which faults its lines tell: 'failure', 'timeout'."""
        if "status" not in self.column:
            return ()
        return tuple(name for name, words in (("failure", self.failed), ("timeout", self.timed_out)) if words)

    @property
    def day_zone(self) -> str:
        """The zone in which days are counted."""
        return self.days_in or self.zone or "UTC"


def mapping_faults(mapping: UsageMapping) -> list[Problem]:
    """What is wrong with a mapping, with its place as a pointer."""
    return [
        Problem("usage-mapping", "error", message, Origin("", pointer), hint)
        for pointer, message, hint in _faults(mapping)
    ]


def _column_faults(name: str, rule: ColumnRule | None) -> Iterator[tuple[str, str, str]]:
    known = ", ".join(BY_NAME)
    if name not in BY_NAME:
        yield f"/column/{name}", f"expected a column of usage records, found '{name}'", f"known are: {known}"
    elif rule is not None and bool(rule.column) == bool(rule.fixed):
        yield f"/column/{name}", f"expected either column or fixed for {name}", "name one of the two"
    elif rule is not None and rule.fixed and not _is_fixed(BY_NAME[name].sort, rule.fixed):
        yield (
            f"/column/{name}",
            f"expected {_FIXED[BY_NAME[name].sort]} for {name}, found '{rule.fixed}'",
            "correct it",
        )
    elif rule is not None and not 0 < rule.times < float("inf"):
        yield f"/column/{name}", f"expected times to be over 0 and finite, found {rule.times:g}", "correct it"


def _faults(mapping: UsageMapping) -> Iterator[tuple[str, str, str]]:
    for name in mapping.column:
        yield from _column_faults(name, mapping.rule_of(name))
    if "time" not in mapping.column and "day" not in mapping.column:
        yield "/column", "expected a column for time or for day, found neither", "say which column has them"
    if "cost" in mapping.column and not mapping.currency and "currency" not in mapping.column:
        yield "/column/cost", "expected the currency of the cost, found none", "set currency, or name its column"
    if mapping.line == "sum" and "calls" not in mapping.column:
        yield "/line", 'expected a column for calls where a line is a "sum", found none', "name it"
    both = {word.casefold() for word in mapping.failed} & {word.casefold() for word in mapping.timed_out}
    if both:
        yield "/timed_out", f"expected other words than those of failed, found '{min(both)}' in both", "keep it in one"
    yield from _engine_faults(mapping)
    if mapping.thousands == mapping.decimal:
        yield "/thousands", f"expected another sign than the decimal one, found '{mapping.thousands}'", "correct one"
    if len(mapping.thousands) > 1:
        yield "/thousands", f"expected one sign, found '{mapping.thousands}'", "give the sign alone"
    for key in ("zone", "days_in"):
        if (found := getattr(mapping, key)) and not is_zone(found):
            yield f"/{key}", f"expected a time zone, found '{found}'", "name one as Europe/Oslo or UTC"


def _is_address(engine: str) -> bool:
    """Whether an address is written as one; a password in it is never shown."""
    try:
        return engine == "spark:local" or bool(urlsplit(engine).scheme and "://" in engine)
    except ValueError:
        return False


def _engine_faults(mapping: UsageMapping) -> Iterator[tuple[str, str, str]]:
    """What does not go with records that lie in an engine."""
    if not mapping.engine:
        if mapping.table:
            yield "/table", "expected engine beside table, found none", "say in which engine the table lies"
        return
    if mapping.engine_scheme not in ENGINES or not _is_address(mapping.engine):
        hint = "one of postgresql://..., spark://HOST:PORT, spark:local, sc://HOST:PORT"
        yield "/engine", f"expected the address of PostgreSQL or Spark, found '{mapping.engine_scheme}:...'", hint
    elif not mapping.table and (ENGINES[mapping.engine_scheme] == "postgresql" or not mapping.files):
        yield "/engine", "expected the table of the records beside engine, found none", 'set table = "schema.table"'
    if mapping.form or mapping.skip or mapping.sheet:
        yield "/engine", "expected no form, skip or sheet beside engine, found one", "they are of files"
    for name, rule in ((name, mapping.rule_of(name)) for name in mapping.column):
        if rule is not None and rule.format not in ("iso", "seconds", "milliseconds"):
            hint = "make a view with a time stamp; iso texts, seconds and milliseconds are read too"
            yield f"/column/{name}", f"expected no format of its own in an engine, found '{rule.format}'", hint


def _is_fixed(sort: Sort, text: str) -> bool:
    """Whether one value can stand for a column of all lines."""
    return sort == "name" or (sort in ("count", "money", "seconds") and _NUMBER.fullmatch(text) is not None)


def is_zone(name: str) -> bool:
    """Whether a name is that of a time zone (IANA)."""
    try:
        ZoneInfo(name)
    except (ValueError, OSError, LookupError):
        return False
    return True
