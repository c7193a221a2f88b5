# Findings as SARIF 2.1.0 (OASIS), for programs that show them beside the file: physical places with lines where they are known, logical ones
# with flow and step, and a fingerprint by which a finding is the same in the next run.
"""Findings as SARIF."""

from __future__ import annotations

import hashlib
from typing import Any
from urllib.parse import quote

import msgspec

from zeitbuch.core.checks.records import CheckAbout, CheckFinding
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
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
                "invocations": [_invocation(result)],
                "columnKind": "unicodeCodePoints",
                "results": [_result(one) for one in result.findings],
            }
        ],
    }
    return msgspec.json.format(msgspec.json.encode(log), indent=2).decode() + "\n"


def _invocation(result: ChecksResult) -> dict[str, Any]:
    """How the run went (3.20): without what could not be read it would look as if nothing was wrong there."""
    notices = [_notification(one) for one in result.not_read]
    notices += [{"level": "warning", "message": {"text": words}} for words in result.left_out]
    return {"executionSuccessful": not result.not_read, "toolExecutionNotifications": notices}


def _notification(one: Problem) -> dict[str, Any]:
    text = f"{one.message}. {one.hint}" if one.hint else one.message
    made: dict[str, Any] = {"level": "error", "descriptor": {"id": one.code}, "message": {"text": text}}
    if one.origin is not None and one.origin.source:
        made["locations"] = [{"physicalLocation": _physical(one.origin)}]
    return made


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
        found["physicalLocation"] = _physical(one.origin)
    return found


def _physical(origin: Origin) -> dict[str, Any]:
    place: dict[str, Any] = {"artifactLocation": {"uri": quote(origin.source.replace("\\", "/"))}}
    if origin.line is not None:
        place["region"] = {"startLine": origin.line, "startColumn": origin.column or 1}
    return place


def _fingerprint(one: CheckFinding) -> str:
    """The same finding has the same in every run: by code, flow and step, not by its place or words."""
    return hashlib.sha256("\0".join((one.code, one.flow_id, one.step_id)).encode()).hexdigest()[:32]
