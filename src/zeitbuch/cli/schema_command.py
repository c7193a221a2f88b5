"""Print the JSON Schema (2020-12) of a file that Zeitbuch reads, or of the JSON output of a command."""

from __future__ import annotations

import argparse
from typing import Any

SCHEMAS = {
    "flow": ("zeitbuch.core.report.results", "NativeFile", "the native form"),
    "dialect": ("zeitbuch.readers.dialects.rules", "Dialect", "a dialect file (TOML)"),
    "rates": ("zeitbuch.core.pricing.rate_card", "RateCard", "a rate card (TOML)"),
    "assumptions": ("zeitbuch.core.assumptions.rules", "Assumptions", "an assumptions file (TOML)"),
    "scenario": ("zeitbuch.core.estimate.scenario", "Scenario", "a scenario (TOML) for compare"),
    "workspace": ("zeitbuch.readers.config.workspace", "Workspace", "zeitbuch.toml"),
    "inventory": ("zeitbuch.core.report.results", "InventoryResult", "output of inventory --format json"),
    "estimate": ("zeitbuch.core.estimate.estate", "EstateEstimate", "output of estimate --format json"),
    "groups": ("zeitbuch.core.report.results", "GroupsResult", "output of estimate --by SIDE --format json"),
    "drivers": ("zeitbuch.core.report.results", "DriversResult", "output of estimate --drivers --format json"),
    "sheet": (
        "zeitbuch.core.report.results",
        "SheetResult",
        "output of estimate --why --format json, and other tables",
    ),
    "comparison": ("zeitbuch.core.estimate.comparison", "Comparison", "output of compare --format json"),
    "proposals": ("zeitbuch.core.report.results", "ProposalsResult", "output of compare --propose --format json"),
    "diff": ("zeitbuch.core.report.results", "DiffResult", "output of diff --format json"),
    "twins": ("zeitbuch.core.diff.clones", "TwinsResult", "output of diff --twins --format json"),
    "record": ("zeitbuch.cli.recording", "Taken", "output of record --format json"),
    "preview": ("zeitbuch.core.report.export_preview", "PreviewResult", "output of dialect test --format json"),
    "map": ("zeitbuch.core.layout.map_record", "MapRecord", "output of map --format json"),
    "story": ("zeitbuch.core.report.what_if", "Story", "output of explain --case (--fails, --empty) --format json"),
    "explain": ("zeitbuch.core.report.document", "Page", "output of explain --format json"),
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

    from zeitbuch.core.model.records import FORMAT_VERSION
    from zeitbuch.writers.table.tables import JSON_VERSION

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
