# Folders and packages hold more than flows. What a file is, when it is none, is told by its root, its keys or its first bytes: one row
# a kind. General kinds and open standards only.
"""Recognising what is no flow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.file_documents import LINES
from zeitbuch.readers.input.text_heads import NOTHING, ROWS, TextKind, kind_of_head
from zeitbuch.readers.input.xml_tree import Element


class OtherKind(NamedTuple):
    """What a file is: in words, and what takes it, where something of ours does."""

    words: str
    hint: str
    fits: Callable[[dict[str, Any]], bool]


def _any_of(*keys: str) -> Callable[[dict[str, Any]], bool]:
    return lambda value: any([key in value for key in keys])


def _is_described(value: dict[str, Any]) -> bool:
    return any([type(value.get(key)) is str and value[key][:1].isdigit() for key in ("openapi", "swagger", "asyncapi")])


def _is_schema(value: dict[str, Any]) -> bool:
    named = value.get("$schema")
    if type(named) is str and "json-schema.org" in named:
        return _any_of("properties", "$defs", "definitions", "type")(value)
    return "$defs" in value and "type" in value


def _is_old_serverless(value: dict[str, Any]) -> bool:
    return "states" in value and str(value.get("specVersion", "")).startswith("0.")


def _is_component(value: dict[str, Any]) -> bool:
    return type(value.get("component_type")) is str and "agentspec_version" in value


def _is_headless(value: dict[str, Any]) -> bool:
    head = value.get("document")
    return isinstance(head, dict) and "dsl" in head


def _is_manifest(value: dict[str, Any]) -> bool:
    """Names of packages with their versions, and no list of objects, which steps may be."""
    needed = value.get("dependencies", value.get("devDependencies"))
    if "lockfileVersion" not in value and not (
        isinstance(needed, dict) and all([type(item) is str for item in needed.values()])
    ):
        return False
    return not any(
        [isinstance(item, list) and any([isinstance(part, dict) for part in item]) for item in value.values()]
    )


def _is_row(words: str) -> Callable[[dict[str, Any]], bool]:
    """Rows of one kind. A flow holds more than single values, a row does not."""
    fits = dict(ROWS)[words]

    def is_row(value: dict[str, Any]) -> bool:
        if any([isinstance(item, list | dict) for item in value.values()]):
            return False
        return fits({str(key).lower() for key in value})

    return is_row


# Asked in turn; of a list its first object is asked. What a builder's flow may look like is none of these: it stays an error.
KINDS = (
    OtherKind("an API description", "Arazzo documents say how its operations are used as flows", _is_described),
    OtherKind("a JSON schema", NOTHING, _is_schema),
    OtherKind("a workflow of an older version of Serverless Workflow", "convert it to version 1.0, or have a dialect proposed", _is_old_serverless),
    OtherKind("a part of an Agent Spec configuration", "export the flow or agent that it belongs to", _is_component),
    OtherKind("an Arazzo description without workflows", "name the description that holds the workflows", lambda value: "arazzo" in value),
    OtherKind("a Serverless Workflow document without tasks", "export the workflow again", _is_headless),
    OtherKind("an output of Zeitbuch", "name the exports that it was made from", lambda value: type(value.get("zeitbuch")) is str),
    OtherKind("a trace (OpenTelemetry)", NOTHING, _any_of("resourceSpans", "resourceLogs", "resourceMetrics")),
    OtherKind("a package or build file", NOTHING, _is_manifest),
    OtherKind("a geographic file (GeoJSON)", NOTHING, lambda value: value.get("type") in ("FeatureCollection", "Feature") and _any_of("features", "geometry")(value)),
    *(OtherKind(words, NOTHING, _is_row(words)) for words, _ in ROWS),
)  # fmt: skip
# XML by the name of its root in lower case and what tells it beside that: part of its namespace, an attribute or a child.
ROOTS = (
    ("log", "trace", "an event log (XES)"), ("log", "xes.version", "an event log (XES)"), ("project", "modelVersion", "a package or build file"),
    ("svg", "svg", "a picture (SVG)"), ("html", "body", "a web page"), ("html", "xhtml", "a web page"), ("schema", "XMLSchema", "an XML schema"),
    ("rss", "channel", "a news feed"), ("feed", "Atom", "a news feed"), ("definitions", "wsdl", "an API description"),
    ("definitions", "DMN", "decision tables (DMN)"), ("definitions", "CMMN", "a case model (CMMN)"), ("definitions", "BPMN", "BPMN of another version"),
    ("package", "XPDL", "a process in XPDL"), ("process", "bpmn", "a part of a BPMN file"), ("process", "BPMN", "a part of a BPMN file"),
)  # fmt: skip
# The first bytes of files that are named as something else.
MAGIC = (
    (b"PK\x03\x04", "a zip archive", "rename it to .zip: packages are read as they are"),
    (b"\x1f\x8b", "a gzip archive", "rename it to .tar.gz, or unpack it"), (b"\x89PNG", "a picture", NOTHING), (b"\xff\xd8\xff", "a picture", NOTHING),
    (b"GIF8", "a picture", NOTHING), (b"%PDF", "a PDF document", NOTHING), (b"SQLite format 3\x00", "a SQLite database", "a book is named with --book"),
    (b"\xd0\xcf\x11\xe0", "an Office document", NOTHING),
)  # fmt: skip


def kind_of(value: Any) -> OtherKind | None:
    """The kind of a decoded document that is no flow; None when it is of none that is known."""
    if isinstance(value, Element):
        words = next((words for root, sign, words in ROOTS if value.tag.lower() == root and _bears(value, sign)), None)
        return OtherKind(words, NOTHING, lambda _: True) if words else None
    first = value[0] if isinstance(value, list) and value else value
    if not isinstance(first, dict):
        return None
    return next((kind for kind in KINDS if kind.fits(first)), None)


def _bears(root: Element, sign: str) -> bool:
    """Whether an element has a namespace, an attribute or a child by a name."""
    return sign in root.space or sign in root.attributes or any([child.tag == sign for child in root.children])


def kind_of_bytes(name: str, raw: bytes) -> tuple[str, str] | None:
    """What a file is by its first bytes or lines, and what to do; None when they say nothing."""
    known = next(((words, hint) for magic, words, hint in MAGIC if raw.startswith(magic)), None)
    return known or kind_of_head(name, raw)


def kind_of_lines(name: str, raw: bytes) -> TextKind | None:
    """What a file of JSON Lines is by its first line: where its lines are no flows, that is told once, and not for every line."""
    return kind_of_head(name, raw) if name.lower().endswith(LINES) else None


def is_row_of(kind: TextKind) -> bool:
    """Whether a kind of lines is one that is known to be no flow."""
    return any(words == kind.words for words, _ in ROWS)


def other_kind_problem(words: str, hint: str, origin: Origin) -> Problem:
    """That a file is something else: told where it was named itself, counted in a folder, package or revision."""
    return Problem("other-kind", "info", f"expected a flow definition, found {words}", origin, hint)
