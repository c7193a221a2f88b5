# The one table of formats that are read directly: a new format is one module and one row. Readers of other packages
# stand in plugins.py, and are asked only for documents that nothing here recognises.
"""Formats read without a dialect."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from importlib import import_module
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin

Flows = Iterator[tuple[Flow, list[Problem]]]


class Format(NamedTuple):
    """One format. ``keys``: one of them must be at the root of a document (none for XML); ``module`` is imported when
    a document looks right, and offers ``recognises(document)`` and ``flows(document, origin, count)``."""

    name: str
    title: str
    module: str
    keys: frozenset[str]
    xml: bool = False


FORMATS: tuple[Format, ...] = (
    Format("bpmn", "BPMN 2.0 (OMG)", "zeitbuch.readers.standards.bpmn.reader", frozenset(), xml=True),
    Format("serverless", "Serverless Workflow DSL 1.0 (CNCF)", "zeitbuch.readers.standards.serverless.reader", frozenset({"document"})),
    Format("serverless-0.8", "Serverless Workflow 0.8 (CNCF)", "zeitbuch.readers.standards.serverless_states.reader", frozenset({"states"})),
    Format("arazzo", "Arazzo 1.0 and 1.1 (OpenAPI Initiative)", "zeitbuch.readers.standards.arazzo.reader", frozenset({"arazzo"})),
    Format("agent-spec", "Open Agent Specification", "zeitbuch.readers.standards.agentspec.reader", frozenset({"component_type", "agentspec_version"})),
)  # fmt: skip


def recognising_standard(document: Any) -> Format | None:
    """The format of a document; None when it is in none of them."""
    is_dict = isinstance(document, dict)
    for row in FORMATS:
        if row.xml == is_dict or (is_dict and row.keys.isdisjoint(document)):
            continue
        if import_module(row.module).recognises(document):
            return row
    return None


def flows_of(row: Format, document: Any, base: Origin, count: int) -> Flows:
    """The flows of a document in that format."""
    read: Callable[..., Flows] = import_module(row.module).flows
    return read(document, base, count)
