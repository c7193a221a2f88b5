# ruff: noqa: RUF012  (msgspec copies what stands as a default)
"""Rules of dialect files for files and flows: how files are recognised, where flows are and what stands in them."""

from __future__ import annotations

from typing import Literal

from .reshape_rules import DottedPath, Paths, QueryText, Rule


class Signature(Rule, frozen=True):
    """``all``: JSONPath queries (RFC 9535) of which each must select something in the document. ``noise``: dotted paths from the
    document to what stands around the flows and says nothing about them. ``suffixes``: files of other kinds that the builder writes
    (tables, JSON Lines, TOML), which are then looked into in folders, packages and revisions too. ``sequences``: names of elements of XML
    whose elements count in the order in which they stand. ``together``: the lines of a file of JSON Lines, and the documents of a YAML file,
    are rows of one document."""

    all: list[QueryText]
    noise: list[DottedPath] = []
    suffixes: list[Literal[".csv", ".tsv", ".jsonl", ".ndjson", ".toml"]] = []
    sequences: list[str] = []
    together: bool = False


class Items(Rule, frozen=True):
    """A list of named things: where it is (``at``, JSONPath from the flow; of variables that are ``shared`` from the document) and the
    dotted paths within one item."""

    at: QueryText
    id: Paths = ""
    name: Paths = ""
    value: Paths = ""
    service: Paths = ""
    account: Paths = ""
    description: Paths = ""
    shared: bool = False


class FlowRule(Rule, frozen=True):
    """Where the flows are (``at``, JSONPath from the document) and the dotted paths within one flow."""

    at: QueryText = "$"
    id: Paths = "id"
    name: Paths = "name"
    description: Paths = ""
    state: Paths = ""
    states: dict[str, Literal["on", "off", "draft"]] = {}
    owners: Paths = ""
    folder: Paths = ""
    environment: Paths = ""
    version: Paths = ""
    created: Paths = ""
    changed: Paths = ""
    fault_handlers: Paths = ""
    concurrency: Paths = ""
    first: Paths = ""
    model: Paths = ""
    variables: Items | None = None
    connections: Items | None = None
    noise: list[DottedPath] = []
