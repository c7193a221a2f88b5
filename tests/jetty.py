"""A builder whose dialect is written for the case at hand: its steps, what is read of them, and how often each runs."""

from __future__ import annotations

import json
from typing import Any

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.exact import Passes
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

HEAD = 'dialect = 1\nname = "jetty"\n[signature]\nall = ["$.jetty"]\n[flow]\n'
TREE = '[tree]\nbody = "inside"\nbranches = "ways"\nbranch_steps = "steps"\n'


def read(dialect: str, export: dict[str, Any], outline: bool = False) -> tuple[Flow, list[str]]:
    """The flow of an export, and what was told of it."""
    reader = Reader([parse_dialect(dialect, "jetty.toml")], outline=outline, texts=not outline)
    (flow,) = reader.flows_of([Held("export.json", json.dumps({"jetty": 1, "id": "f", **export}).encode())])
    return flow, [str(problem) for problem in reader.problems]


def step(key: str, does: str = "look", **more: Any) -> dict[str, Any]:
    return {"id": key, "name": key.upper(), "does": does, **more}


def passes(flow: Flow, *rules: Rule) -> dict[str, float]:
    """How often each step runs, by its id."""
    found = Passes(Graph(flow), AssumptionLookup(Assumptions(assume=rules), flow))
    return {key: float(one.runs) for key, one in found.of.items()}
