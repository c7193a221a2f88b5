# Forms that are open standards say themselves what their columns are. A mapping that names such a form needs to say only what differs.
"""Usage logs in standard forms."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from typing import Any, NamedTuple

import msgspec
from msgspec import structs

from zeitbuch.core.actuals.usage_mapping import LogForm, PassedOver, UsageMapping
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from . import process_events, trace_calls
from .line_tables import LineTable
from .process_events import EventReading
from .trace_calls import SpanCounts, lines_of_trace
from .trace_spans import Span, SpanReading


class OpenTable(NamedTuple):
    """A log as it is written: an expression over its lines (None: it cannot be read), what could not be read of it, and how many lines
    that were, besides those that the engine counts."""

    lines: Any
    problems: list[Problem]
    rejected: int = 0


class StandardForm(NamedTuple):
    """A form: the standard, and the mapping that holds where the owner's says nothing."""

    standard: str
    mapping: UsageMapping


STANDARD_FORMS: dict[LogForm, StandardForm] = {
    "otlp": StandardForm(
        "OTLP JSON traces (OpenTelemetry, conventions for generative AI)",
        UsageMapping(
            line="step", failed=["error"],
            column={
                "time": "start", "environment": "environment", "host": "host", "flow": "flow", "run": "trace", "step": "step", "feature": "service",
                "model": "model", "status": "status", "calls": "calls", "tokens_in": "tokens_in", "tokens_out": "tokens_out",
                "tokens_cached": "tokens_cached", "tokens_reasoning": "tokens_reasoning", "duration": "seconds",
            },
        ),
    ),
    "xes": StandardForm(
        "XES event logs (IEEE 1849)",
        UsageMapping(
            line="step", failed=list(process_events.FAILED),
            column={
                "time": "start", "flow": "log", "run": "run", "step": "step", "status": "moment", "duration": "seconds",
                "cost": "cost:total", "currency": "cost:currency", "feature": "org:group",
            },
            without=[PassedOver("moment", list(process_events.NO_LINE), reason="moments that end no work")],
        ),
    ),
    "focus": StandardForm(
        "FOCUS billing tables (1.0 to 1.2)",
        UsageMapping(
            line="bill",
            column={
                "time": "ChargePeriodStart", "host": "SubAccountName", "meter": "SkuMeter", "cost": "BilledCost", "currency": "BillingCurrency",
                "feature": "ServiceName",
            },
            without=[PassedOver("ChargeCategory", ["Tax", "Credit", "Purchase", "Adjustment"], reason="charges that are no usage")],
        ),
    ),
}  # fmt: skip


def settled_mapping(mapping: UsageMapping, there: Collection[str] | None = None) -> UsageMapping:
    """The mapping with what its form says of itself, for columns that the log has (None: for all that it may have)."""
    standard = STANDARD_FORMS.get(mapping.form)
    if standard is None:
        return mapping
    own = standard.mapping
    columns = {
        name: rule
        for name, rule in own.column.items()
        if there is None or (rule if isinstance(rule, str) else rule.column) in there
    }
    if mapping.currency:
        columns.pop("currency", None)
    elif "currency" not in {**columns, **mapping.column}:
        columns.pop("cost", None)  # money without a currency says nothing
    without = [one for one in own.without if there is None or one.column in there]
    return structs.replace(
        mapping,
        line=mapping.line or own.line,
        column={**columns, **mapping.column},
        without=[*without, *mapping.without],
        failed=mapping.failed or own.failed,
    )


def open_traces(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    """The lines of traces. Spans of one trace may stand anywhere in the file: the engine brings them together."""
    reading, counts = SpanReading(path), SpanCounts()
    held = LineTable(
        {**dict.fromkeys(("trace", "id", "parent", "name", "values", "resource"), "text"), "first": "number", "start": "text", "end": "text", "error": "number"}
    )  # fmt: skip
    for number, span in enumerate(reading.spans()):
        held.add(
            {
                # A span that names no trace is one by itself.
                **span._asdict(), "trace": span.trace or f"\0{number}", "first": float(number), "error": float(span.error),
                "start": None if span.start is None else str(span.start), "end": None if span.end is None else str(span.end),
                "values": msgspec.json.encode(span.values).decode(), "resource": msgspec.json.encode(span.resource).decode(),
            },
            {},
        )  # fmt: skip
    held.close()
    table = LineTable(trace_calls.COLUMNS)
    for spans in _traces(engine, str(held.path)):
        for values, more in lines_of_trace(spans, counts):
            table.add(values, more)
    return OpenTable(table.table(engine), [*reading.problems, *_trace_remarks(path, counts)], reading.rejected)


def _traces(engine: Any, path: str) -> Iterator[list[Span]]:
    """The spans of each trace, in the order of the file."""
    batches = engine.read_parquet(path).order_by(["trace", "first"]).to_pyarrow_batches(chunk_size=20_000)
    spans: list[Span] = []
    for batch in batches:
        for row in batch.to_pylist():
            values, resource = msgspec.json.decode(row.pop("values")), msgspec.json.decode(row.pop("resource"))
            start, end = row.pop("start"), row.pop("end")
            texts = {name: row[name] or "" for name in ("trace", "id", "parent", "name")}
            if spans and spans[0].trace != texts["trace"]:
                yield spans
                spans = []
            spans.append(
                Span(
                    **texts, start=None if start is None else int(start), end=None if end is None else int(end), error=bool(row["error"]),
                    values=values, resource=resource,
                )
            )  # fmt: skip
    if spans:
        yield spans


_REMARKS: tuple[tuple[str, str], ...] = (
    ("repeated", "spans whose tokens those below them have, too: they are counted once"),
    ("rest", "spans with more tokens than those below them: only the rest is counted at them"),
    ("twice", "spans that stand there twice: they are counted once"),
    (
        "agents",
        "spans of agents with tokens and no model call below: their tokens count, how many calls they are nobody knows",
    ),
    ("silent", "model calls that say no tokens: they count as calls alone"),
    ("unreadable", "numbers of tokens that are none: they are left out"),
)


def _trace_remarks(path: str, counts: SpanCounts) -> list[Problem]:
    return [
        Problem(
            "usage-spans",
            "warning" if key in ("silent", "unreadable") else "info",
            f"found {counts[key]:,} {words}",
            Origin(path),
        )
        for key, words in _REMARKS
        if counts[key]
    ]


def open_events(engine: Any, path: str, mapping: UsageMapping) -> OpenTable:
    """The lines of an event log."""
    reading, table = EventReading(path, mapping.zone), LineTable(process_events.COLUMNS)
    for values, more in reading.lines():
        table.add(values, more)
    return OpenTable(table.table(engine), reading.problems, reading.rejected)


def with_tags(engine: Any, lines: Any) -> Any:
    """A billing table with a column Tags.KEY for each key of its tags (FOCUS 1.2, 2.59: Tags is a map, as JSON in text tables)."""
    if "Tags" not in lines.columns:
        return lines
    tags = lines["Tags"]
    if tags.type().is_map():
        keys = [row["key"] for row in lines.select(key=tags.keys().unnest()).distinct().to_pyarrow().to_pylist()]
        return lines.mutate(**{f"Tags.{key}": tags.get(key) for key in sorted(keys) if key})
    if not tags.type().is_string():
        return lines
    name = engine.compile(lines.select("Tags"))
    found = engine.con.execute(
        f'SELECT DISTINCT unnest(json_keys("Tags")) FROM ({name}) WHERE json_valid("Tags") AND json_type("Tags") = \'OBJECT\''
    ).fetchall()
    parsed = tags.try_cast("json")
    return lines.mutate(**{f"Tags.{key}": parsed[key].str for (key,) in sorted(found)})


Opener = Callable[[Any, str, UsageMapping], OpenTable]
STANDARD_OPENERS: Mapping[str, Opener] = {"otlp": open_traces, "xes": open_events}
