# Findings as SARIF 2.1.0 (OASIS), for programs that show them beside the file: physical places with lines where they are known, logical ones
# with flow and step, and a fingerprint by which a finding is the same in the next run.
"""Findings as SARIF."""

from __future__ import annotations

import hashlib
from typing import Any
from urllib.parse import quote

import msgspec

from zeitbuch.core.checks.records import CheckAbout, CheckFinding
from zeitbuch.core.report.check_table import ChecksResult
from zeitbuch.version import __version__
from zeitbuch.writers.theme.terminal import TextLook

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS = {"high": "error", "medium": "warning", "low": "note"}


def write_sarif(result: ChecksResult, look: TextLook) -> str:
    """One run with its rules and results."""
    rules = [_rule(row) for row in result.checks]
    log = {
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": {"name": "Zeitbuch", "semanticVersion": __version__, "rules": rules}},
                "columnKind": "unicodeCodePoints",
                "results": [_result(one) for one in result.findings],
            }
        ],
    }
    return msgspec.json.format(msgspec.json.encode(log), indent=2).decode() + "\n"


def _rule(row: CheckAbout) -> dict[str, Any]:
    help_text = f"{row.why}\n\nHow it is found: {row.how}\n\nWhat it misses: {row.misses}\n\nWhat to do: {row.remedy}"
    return {
        "id": row.code,
        "shortDescription": {"text": row.title},
        "fullDescription": {"text": row.why},
        "help": {"text": help_text},
        "defaultConfiguration": {"level": _LEVELS[row.severity]},
    }


def _result(one: CheckFinding) -> dict[str, Any]:
    made: dict[str, Any] = {
        "ruleId": one.code,
        "level": _LEVELS[one.severity],
        "kind": "fail" if one.certain else "review",
        "message": {"text": f"{one.flow}: {one.message}. {one.remedy}"},
        "locations": [_location(one)],
        "partialFingerprints": {"zeitbuch/v1": _fingerprint(one)},
    }
    if not one.certain:
        made["level"] = "none"  # the standard: a result of another kind than fail has no level
    if one.accepted:
        made["suppressions"] = [{"kind": "external", "justification": one.accepted}]
    return made


def _location(one: CheckFinding) -> dict[str, Any]:
    name = f"{one.flow_id}/{one.step_id}" if one.step_id else one.flow_id
    found: dict[str, Any] = {"logicalLocations": [{"fullyQualifiedName": name, "name": one.step or one.flow}]}
    if one.origin is not None:
        place: dict[str, Any] = {"artifactLocation": {"uri": quote(one.origin.source.replace("\\", "/"))}}
        if one.origin.line is not None:
            place["region"] = {"startLine": one.origin.line, "startColumn": one.origin.column or 1}
        found["physicalLocation"] = place
    return found


def _fingerprint(one: CheckFinding) -> str:
    """The same finding has the same in every run: by code, flow and step, not by its place or words."""
    return hashlib.sha256("\0".join((one.code, one.flow_id, one.step_id)).encode()).hexdigest()[:32]
