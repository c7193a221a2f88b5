# OTLP JSON (OpenTelemetry protocol 1, JSON encoding; also one document a line): spans with what they hold. Messages and other long texts are
# left where they are: usage needs numbers and names.
"""Reading spans."""

from __future__ import annotations

import gzip
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

import msgspec

from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Origin

_LONGEST = 200  # letters of a value that may be a name
_SINGLE = frozenset({"stringValue", "intValue", "doubleValue", "string_value", "int_value", "double_value"})
_MOST_TOLD = 20  # lines that are named; all are counted


class Span(NamedTuple):
    """A span. Clock times in nanoseconds since 1970, None where it has none; ``resource`` is what it ran on."""

    trace: str
    id: str
    parent: str
    name: str
    start: int | None
    end: int | None
    error: bool
    values: Mapping[str, str]
    resource: Mapping[str, str]


class SpanReading:
    """Reads the spans of one file; ``problems`` and ``rejected`` are filled while it is read."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.problems: list[Problem] = []
        self.rejected = 0
        self.others = 0  # documents of metrics and logs

    def spans(self) -> Iterator[Span]:
        """All spans, in the order of the file. Raises ZeitbuchError when it holds none."""
        found = False
        for line, document in self._documents():
            for group in _list(document, "resourceSpans", "resource_spans"):
                found = True
                yield from self._group(group, line)
            self.others += any(
                key.startswith(("resourceM", "resourceL", "resource_m", "resource_l")) for key in document
            )
        if not found and not self.rejected:
            raise fail(
                "usage-unreadable",
                "expected spans as OTLP JSON (resourceSpans), found none",
                "export traces, or say another form in the mapping",
                Origin(self.path),
            )

    def _documents(self) -> Iterator[tuple[int | None, dict[str, Any]]]:
        """Documents of the file with their lines (None: the file is one document)."""
        with _opened(self.path) as file:
            first = _decoded(file.readline())
            file.seek(0)
            if first is None:
                whole = _decoded(file.read())
                if whole is None:
                    raise fail(
                        "usage-unreadable",
                        "expected OTLP JSON, found text that is no JSON",
                        "export it again",
                        Origin(self.path),
                    )
                yield from ((None, one) for one in _flat(whole))
                return
            for number, line in enumerate(file, 1):
                document = _decoded(line)
                if document is not None:
                    yield from ((number, one) for one in _flat(document))
                elif line.strip():
                    self._reject(number, "text that is no JSON")

    def _reject(self, line: int | None, found: str) -> None:
        self.rejected += 1
        if self.rejected <= _MOST_TOLD:
            hint = "export it again: what is broken was not counted"
            self.problems.append(
                Problem(
                    "usage-line",
                    "error",
                    f"expected spans as OTLP JSON, found {found}",
                    Origin(self.path, line=line),
                    hint,
                )
            )
        elif self.rejected == _MOST_TOLD + 1:
            self.problems.append(
                Problem(
                    "usage-line", "error", "expected spans as OTLP JSON, found more that are none", Origin(self.path)
                )
            )

    def _group(self, group: Any, line: int | None) -> Iterator[Span]:
        if not isinstance(group, dict):
            self._reject(line, f"{type(group).__name__} in place of resource spans")
            return
        resource = _attributes(group.get("resource"))
        scopes = _list(group, "scopeSpans", "scope_spans") or _list(group, "instrumentationLibrarySpans", "")
        for scope in scopes:
            for one in _list(scope, "spans", "spans") if isinstance(scope, dict) else ():
                try:
                    yield _span_of(one, resource)
                except (TypeError, ValueError, AttributeError):
                    self._reject(line, "a span whose times or ids are of the wrong type")


def _span_of(one: Any, resource: Mapping[str, str]) -> Span:
    status = one.get("status") or {}
    return Span(
        _text(one, "traceId", "trace_id"),
        _text(one, "spanId", "span_id"),
        _text(one, "parentSpanId", "parent_span_id"),
        _text(one, "name", "name"),
        _moment(one, "startTimeUnixNano", "start_time_unix_nano"),
        _moment(one, "endTimeUnixNano", "end_time_unix_nano"),
        status.get("code") in (2, "2", "STATUS_CODE_ERROR"),
        _attributes(one),
        resource,
    )


def _text(one: Mapping[str, Any], camel: str, snake: str) -> str:
    value = one.get(camel, one.get(snake)) or ""
    if not isinstance(value, str):
        raise TypeError(camel)
    return value


def _moment(one: Mapping[str, Any], camel: str, snake: str) -> int | None:
    value = one.get(camel, one.get(snake))
    return int(value) or None if value is not None else None


def _attributes(holder: Any) -> dict[str, str]:
    """Names and single values as texts; lists and messages are left out."""
    found = {}
    for one in _list(holder, "attributes", "attributes") if isinstance(holder, dict) else ():
        value = one.get("value") if isinstance(one, dict) else None
        if not isinstance(value, dict) or not isinstance(one.get("key"), str):
            continue
        for kind, held in value.items():
            if isinstance(held, bool):
                found[one["key"]] = str(held).lower()
            elif isinstance(held, str | int | float) and len(text := str(held)) <= _LONGEST and kind in _SINGLE:
                found[one["key"]] = text
    return found


def _list(holder: Any, camel: str, snake: str) -> list[Any]:
    held = holder.get(camel, holder.get(snake)) if isinstance(holder, dict) else None
    return held if isinstance(held, list) else []


def _flat(document: Any) -> Iterator[dict[str, Any]]:
    for one in document if isinstance(document, list) else [document]:
        if isinstance(one, dict):
            yield one


def _decoded(text: bytes) -> Any:
    try:
        return msgspec.json.decode(text.removeprefix(b"\xef\xbb\xbf"))
    except (msgspec.DecodeError, UnicodeDecodeError):
        return None


def _opened(path: str) -> BinaryIO:
    return gzip.open(path) if path.endswith(".gz") else Path(path).open("rb")  # type: ignore[return-value]


def holds_spans(path: str) -> bool:
    """Whether the beginning of a file says that it holds spans."""
    try:
        with _opened(path) as file:
            begin = file.read(4096)
    except (OSError, EOFError):
        return False
    return b'"resourceSpans"' in begin or b'"resource_spans"' in begin
