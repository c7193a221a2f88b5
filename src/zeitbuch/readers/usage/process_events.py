# XES event logs (IEEE 1849): each trace is a run, each event a line. An event that begins and one that ends the same work are one line with
# its duration. Other moments of its life (assigned, suspended ...) stay lines of their own, which the mapping passes over.
"""Reading event logs."""

from __future__ import annotations

import gzip
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Origin

NAME, TIME, MOMENT, INSTANCE = "concept:name", "time:timestamp", "lifecycle:transition", "concept:instance"
COLUMNS: dict[str, str] = {
    "start": "moment",
    "end": "moment",
    "log": "text",
    "run": "text",
    "step": "text",
    "moment": "text",
    "seconds": "number",
}
# Lifecycle extension, standard transitional model: those that end work, well or not, are lines; so is work that began and has no end.
NO_LINE = (
    "schedule",
    "assign",
    "reassign",
    "suspend",
    "resume",
    "enabled",
    "manualskip",
    "autoskip",
    "withdraw",
    "unknown",
)
FAILED = ("ate_abort", "pi_abort", "abort", "fail", "failed", "error")
_SINGLE = frozenset({"string", "date", "int", "float", "boolean", "id"})
_LONGEST = 200
_MOST_TOLD = 20
Line = tuple[dict[str, Any], dict[str, str]]


class EventReading:
    """Reads the events of one file; ``problems`` and ``rejected`` are filled while it is read."""

    def __init__(self, path: str, zone: str = "") -> None:
        self.path = path
        self.zone = ZoneInfo(zone) if zone else None
        self.problems: list[Problem] = []
        self.rejected = 0

    def lines(self) -> Iterator[Line]:
        """All lines. Raises ZeitbuchError where the file is no event log; one that breaks off is told in ``problems``."""
        with telling_missing():
            from lxml import etree
        log: dict[str, str] = {}
        traces = 0
        with _opened(self.path) as file:
            try:
                # Neither entities nor anything outside the file is looked at.
                for _, element in etree.iterparse(
                    file, events=("end",), resolve_entities=False, no_network=True, huge_tree=True
                ):
                    above = element.getparent()
                    tag = _tag(element)
                    if above is None:
                        if tag != "log":
                            raise self._no_log(f"an element '{tag}'")
                        if not traces and not log:
                            raise self._no_log("a log without traces")
                        continue
                    if above.getparent() is not None:
                        continue
                    if tag == "trace":
                        traces += 1
                        yield from self._trace(element, log)
                    elif tag in _SINGLE and element.get("key"):
                        log[element.get("key")] = element.get("value") or ""
                    element.clear()
                    while element.getprevious() is not None:
                        del above[0]
            except (etree.XMLSyntaxError, OSError, EOFError) as error:
                if not traces:
                    raise self._no_log(str(error)) from None
                line = getattr(error, "lineno", None)
                self._reject(line, f"a file that breaks off: {error}")

    def _no_log(self, found: str) -> Exception:
        return fail(
            "usage-unreadable", f"expected an event log (XES), found {found}", "export it again", Origin(self.path)
        )

    def _reject(self, line: int | None, found: str) -> None:
        self.rejected += 1
        if self.rejected <= _MOST_TOLD:
            hint = "what is behind it was not counted: export it again"
            self.problems.append(
                Problem("usage-line", "error", f"expected events, found {found}", Origin(self.path, line=line), hint)
            )

    def _trace(self, trace: Any, log: dict[str, str]) -> Iterator[Line]:
        shared = {f"log.{key}": value for key, value in log.items()}
        shared |= {f"trace.{key}": value for key, value in _values_of(trace).items()}
        run, name = shared.get(f"trace.{NAME}"), log.get(NAME)
        begun: dict[tuple[str, str], list[Line]] = {}
        made: list[Line] = []
        for event in trace:
            if not isinstance(event.tag, str) or _tag(event) != "event":
                continue
            values = _values_of(event)
            moment = values.get(MOMENT, "").casefold()
            at = self._time_of(values, event.sourceline)
            key = values.get(NAME, ""), values.get(INSTANCE, "")
            if moment != "start" and moment not in NO_LINE and begun.get(key):
                _end_work(begun[key].pop(0), at, moment, values)
                continue
            row = {"start": at, "end": at, "log": name, "run": run, "step": values.get(NAME), "moment": moment or None}
            made.append((row, shared | values))
            if moment == "start":
                begun.setdefault(key, []).append(made[-1])
        yield from made

    def _time_of(self, values: dict[str, str], line: int | None) -> int | None:
        """Microseconds since 1970; XML Schema's dateTime without a zone is in that of the mapping, else refused."""
        text = values.get(TIME, "")
        if not text:
            return None
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            moment = None
        if moment is not None and moment.tzinfo is None:
            moment = moment.replace(tzinfo=self.zone)
        if moment is None or moment.tzinfo is None:
            self._reject(
                line,
                f"the time '{text[:40]}', {'without a zone (set zone in the mapping)' if moment else 'which is none'}",
            )
            return None
        return int((moment - datetime(1970, 1, 1, tzinfo=UTC)).total_seconds() * 1_000_000)


def _end_work(line: Line, end: int | None, moment: str, values: dict[str, str]) -> None:
    """Adds to the line of a beginning what its end says."""
    row, more = line
    row["end"], row["moment"] = end, moment
    more.update(values)
    if row["start"] is not None and end is not None and end >= row["start"]:
        row["seconds"] = (end - row["start"]) / 1e6


def _values_of(element: Any) -> dict[str, str]:
    """Single values of a trace or event by their keys; those within others as OUTER/INNER."""
    found: dict[str, str] = {}
    waiting = [("", element)]
    while waiting:
        before, holder = waiting.pop()
        for one in holder:
            key = one.get("key") if isinstance(one.tag, str) else None
            if key is None:
                continue
            value = one.get("value")
            if _tag(one) in _SINGLE and value is not None and len(value) <= _LONGEST:
                found[before + key] = value
            if len(one):
                inner = [child for child in one if isinstance(child.tag, str) and _tag(child) == "values"] or [one]
                waiting += [(f"{before}{key}/", child) for child in inner]
    return found


def _tag(element: Any) -> str:
    return str(element.tag).rpartition("}")[2].casefold()


def _opened(path: str) -> BinaryIO:
    return gzip.open(path) if path.endswith(".gz") else open(path, "rb")  # type: ignore[return-value]  # noqa: PTH123
