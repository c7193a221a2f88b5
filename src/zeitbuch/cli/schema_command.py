"""Print the JSON Schema (2020-12) of a file that Zeitbuch reads, or of the JSON output of a command."""

from __future__ import annotations

import argparse
from typing import Any

SCHEMAS = {
    "flow": ("zeitbuch.core.results", "NativeFile", "the native form"),
    "dialect": ("zeitbuch.readers.dialect", "Dialect", "a dialect file (TOML)"),
    "rates": ("zeitbuch.core.rates", "RateCard", "a rate card (TOML)"),
    "assumptions": ("zeitbuch.core.assume", "Assumptions", "an assumptions file (TOML)"),
    "scenario": ("zeitbuch.core.scenario", "Scenario", "a scenario (TOML) for compare"),
    "workspace": ("zeitbuch.readers.workspace", "Workspace", "zeitbuch.toml"),
    "inventory": ("zeitbuch.core.results", "InventoryResult", "output of inventory --format json"),
    "estimate": ("zeitbuch.core.estimate", "EstateEstimate", "output of estimate --format json"),
    "groups": ("zeitbuch.core.results", "GroupsResult", "output of estimate --by SIDE --format json"),
    "drivers": ("zeitbuch.core.results", "DriversResult", "output of estimate --drivers --format json"),
    "sheet": ("zeitbuch.core.results", "SheetResult", "output of estimate --why --format json, and other tables"),
    "comparison": ("zeitbuch.core.side_by_side", "Comparison", "output of compare --format json"),
    "proposals": ("zeitbuch.core.results", "ProposalsResult", "output of compare --propose --format json"),
    "diff": ("zeitbuch.core.results", "DiffResult", "output of diff --format json"),
    "twins": ("zeitbuch.core.twins", "TwinsResult", "output of diff --twins --format json"),
    "record": ("zeitbuch.cli.recording", "Taken", "output of record --format json"),
    "preview": ("zeitbuch.core.preview", "PreviewResult", "output of dialect test --format json"),
    "map": ("zeitbuch.core.map_record", "MapRecord", "output of map --format json"),
    "story": ("zeitbuch.core.happens", "Story", "output of explain --case (--fails, --empty) --format json"),
    "explain": ("zeitbuch.core.document", "Page", "output of explain --format json"),
}
_RESULTS = (
    "inventory",
    "preview",
    "estimate",
    "groups",
    "drivers",
    "sheet",
    "comparison",
    "proposals",
    "diff",
    "twins",
    "record",
    "map",
    "story",
    "explain",
)
EXAMPLE = (
    "names:\n"
    + "\n".join(f"  {n:<12} {w}" for n, (_, _, w) in SCHEMAS.items())
    + "\n\nexample:\n  zeitbuch schema flow -o flow.schema.json"
)


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", choices=list(SCHEMAS), help="one of: " + ", ".join(SCHEMAS))
    parser.add_argument("-o", "--output", metavar="FILE", help="write to FILE instead of standard output")


def schema(name: str) -> dict[str, Any]:
    """The schema of one name, generated from the types."""
    import importlib

    import msgspec

    from zeitbuch.core.model import FORMAT_VERSION
    from zeitbuch.writers.tables import JSON_VERSION

    module, kind, words = SCHEMAS[name]
    record = getattr(importlib.import_module(module), kind)
    (made,), parts = msgspec.json.schema_components([record], ref_template="#/$defs/{name}")
    root = dict(parts.pop(kind)) if "$ref" in made else dict(made)
    if name in _RESULTS:
        head = {"zeitbuch": {"const": name}, "version": {"const": JSON_VERSION}}
        root["properties"] = {**head, **root["properties"]}
        root["required"] = ["zeitbuch", "version", *root.get("required", [])]
    if name == "flow":
        root["properties"]["zeitbuch"] = {"const": FORMAT_VERSION}
        root["additionalProperties"] = False
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **root,
        "title": f"Zeitbuch: {words}",
        "$defs": parts,
    }


def run(args: argparse.Namespace) -> int:
    import msgspec

    from . import stream

    text = msgspec.json.format(msgspec.json.encode(schema(args.name)), indent=2).decode() + "\n"
    stream.write(text, args.output)
    return 0
