# The one table of JSON Schemas: what Zeitbuch reads, and what its commands write. All are generated from the types.
"""JSON Schemas (2020-12) of files and results."""

from __future__ import annotations

import tomllib
from importlib import import_module
from typing import Any, NamedTuple

import msgspec

from zeitbuch.core.model.records import FORMAT_VERSION
from zeitbuch.writers.table.tables import JSON_VERSION


class SchemaRow(NamedTuple):
    """One schema: the type it is made from ('module:type'), and whether it is the result of a command."""

    name: str
    type: str
    words: str
    is_result: bool = False


SCHEMAS: tuple[SchemaRow, ...] = (
    SchemaRow("flow", "zeitbuch.core.model.records:NativeFile", "the native form"),
    SchemaRow("dialect", "zeitbuch.readers.dialects.rules:Dialect", "a dialect file (TOML)"),
    SchemaRow("answers", "zeitbuch.app.answers_file:Answers", "answers to the questions of a proposed dialect or mapping (TOML)"),
    SchemaRow("rates", "zeitbuch.core.pricing.rate_card:RateCard", "a rate card (TOML)"),
    SchemaRow("assumptions", "zeitbuch.core.assumptions.rules:Assumptions", "an assumptions file (TOML)"),
    SchemaRow("scenario", "zeitbuch.core.estimate.scenario:Scenario", "a scenario (TOML) for compare"),
    SchemaRow("mapping", "zeitbuch.core.diff.mapping:Mapping", "a mapping file (TOML) for diff"),
    SchemaRow("usage-mapping", "zeitbuch.core.actuals.usage_mapping:UsageMapping", "a usage mapping (TOML)"),
    SchemaRow("workspace", "zeitbuch.readers.config.workspace:Workspace", "zeitbuch.toml"),
    SchemaRow("house-rules", "zeitbuch.app.check_rows:RulesFile", "a file of rules (TOML) for check --try"),
    SchemaRow("brief-key", "zeitbuch.core.report.brief.brief:BriefKey", "the key of a brief (JSON)"),
    SchemaRow("inventory", "zeitbuch.core.report.inventory:InventoryResult", "output of inventory --format json", is_result=True),
    SchemaRow("estimate", "zeitbuch.core.estimate.estate:EstateEstimate", "output of estimate --format json", is_result=True),
    SchemaRow("groups", "zeitbuch.core.estimate.breakdown:GroupsResult", "output of estimate --by SIDE --format json", is_result=True),
    SchemaRow("drivers", "zeitbuch.core.estimate.records:DriversResult", "output of estimate --drivers --format json", is_result=True),
    SchemaRow("sheet", "zeitbuch.core.report.presentations:SheetResult", "output of estimate --why --format json, and other tables", is_result=True),
    SchemaRow("comparison", "zeitbuch.core.estimate.comparison:Comparison", "output of compare --format json", is_result=True),
    SchemaRow("proposals", "zeitbuch.core.estimate.proposals:ProposalsResult", "output of compare --propose --format json", is_result=True),
    SchemaRow("diff", "zeitbuch.core.report.change_tables:DiffResult", "output of diff --format json", is_result=True),
    SchemaRow("three-way", "zeitbuch.core.diff.three_way:ThreeWay", "output of diff --base --format json", is_result=True),
    SchemaRow("bill-changes", "zeitbuch.core.diff.bill_changes:BillComparison", "output of diff of bills of materials --format json", is_result=True),
    SchemaRow("checks", "zeitbuch.core.report.check_table:ChecksResult", "output of check --format json", is_result=True),
    SchemaRow("impact", "zeitbuch.core.report.impact.records:ImpactResult", "output of impact --format json", is_result=True),
    SchemaRow("usage-trial", "zeitbuch.core.report.usage_tables:UsageTrials", "output of usage test --format json", is_result=True),
    SchemaRow("reconcile", "zeitbuch.core.actuals.records:Reconciled", "output of reconcile --format json", is_result=True),
    SchemaRow("calibration", "zeitbuch.core.calibrate.records:Calibrated", "output of calibrate --format json", is_result=True),
    SchemaRow("calibration-check", "zeitbuch.core.calibrate.records:CalibrationCheck", "output of calibrate --check --format json", is_result=True),
    SchemaRow("review", "zeitbuch.core.report.review_states:ReviewStatus", "output of review status --format json", is_result=True),
    SchemaRow("brief", "zeitbuch.core.report.blocks:Page", "output of brief --format json", is_result=True),
    SchemaRow("clones", "zeitbuch.core.diff.clones:ClonesResult", "output of diff --clones --format json", is_result=True),
    SchemaRow("record", "zeitbuch.app.record:Taken", "output of record --format json", is_result=True),
    SchemaRow("preview", "zeitbuch.core.report.export_preview:PreviewResult", "output of dialect test --format json", is_result=True),
    SchemaRow("rules", "zeitbuch.core.report.export_preview:RulesResult", "output of dialect test --rules --format json", is_result=True),
    SchemaRow("dialects", "zeitbuch.app.dialects:DialectsResult", "output of dialect list --format json", is_result=True),
    SchemaRow("map", "zeitbuch.core.layout.map_record:MapRecord", "output of map --format json", is_result=True),
    SchemaRow("story", "zeitbuch.core.report.what_if:Story", "output of explain --case (--fails, --empty) --format json", is_result=True),
    SchemaRow("explain", "zeitbuch.core.report.blocks:Page", "output of explain --format json", is_result=True),
)  # fmt: skip


def describe_dialect(kind: str, root: dict[str, Any], parts: dict[str, Any]) -> None:
    """Adds what the reference says of each key."""
    from zeitbuch.readers.dialects.reference import keys_of

    for title, part in ((kind, root), *parts.items()):
        for name, key in keys_of(title).items():
            example = tomllib.loads(key.example)[name]
            part["properties"][name] |= {"description": key.words, "examples": [example]}


def schema_of(name: str) -> dict[str, Any]:
    """The schema of one row of the table. Raises KeyError for a name that is none."""
    row = {row.name: row for row in SCHEMAS}[name]
    module, _, kind = row.type.partition(":")
    record = getattr(import_module(module), kind)
    (made,), parts = msgspec.json.schema_components([record], ref_template="#/$defs/{name}")
    root = dict(parts.pop(kind)) if "$ref" in made else dict(made)
    if row.is_result:
        head = {"zeitbuch": {"const": name}, "version": {"const": JSON_VERSION}}
        root["properties"] = {**head, **root["properties"]}
        root["required"] = ["zeitbuch", "version", *root.get("required", [])]
    if name == "dialect":
        describe_dialect(kind, root, parts)
    if name == "flow":
        root["properties"] |= {"zeitbuch": {"const": FORMAT_VERSION}, "$schema": {"type": "string"}}
        root["additionalProperties"] = False
    if not row.is_result:
        for part in (root, *parts.values()):
            _allow_numbers(part)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"urn:zeitbuch:schema:{name}",
        **root,
        "title": f"Zeitbuch: {row.words}",
        "$defs": parts,
    }


def _allow_numbers(part: Any) -> None:
    """In files that people write an amount is a number as well as a text: both are read as decimals."""
    if isinstance(part, dict):
        if part.get("format") == "decimal" and part.get("type") == "string":
            part["type"] = ["number", "string"]
        for inner in part.values():
            _allow_numbers(inner)
    elif isinstance(part, list):
        for inner in part:
            _allow_numbers(inner)
