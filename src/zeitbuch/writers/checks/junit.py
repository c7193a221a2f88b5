# Findings as JUnit XML, which every pipeline shows: a suite for each flow, a case for each finding that counts.
"""Findings as JUnit XML."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET

from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.report.check_table import ChecksResult
from zeitbuch.writers.theme.terminal import TextLook

_NOT_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2


def write_junit(result: ChecksResult, look: TextLook) -> str:
    """One suite a flow with findings; accepted ones, and those of drafts and flows that are off, are skipped cases."""
    flows: dict[tuple[str, str], list[CheckFinding]] = {}
    for one in result.findings:
        flows.setdefault((one.flow_id, one.flow), []).append(one)
    root = ET.Element("testsuites", name="zeitbuch check")
    for (_, name), found in flows.items():
        failures = sum(one.counts for one in found)
        skipped = len(found) - failures
        counts = {"tests": str(len(found)), "failures": str(failures), "skipped": str(skipped), "errors": "0"}
        suite = ET.SubElement(root, "testsuite", {"name": _clean(name), **counts})
        for one in found:
            _add_case(suite, one)
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def _add_case(suite: ET.Element, one: CheckFinding) -> None:
    case = ET.SubElement(
        suite, "testcase", classname=_clean(one.flow_id), name=_clean(f"{one.code} {one.step}".strip())
    )
    where = f" ({one.origin})" if one.origin is not None else ""
    if one.counts:
        sure = "" if one.certain else "suspected: "
        part = ET.SubElement(case, "failure", type=one.severity, message=_clean(f"{sure}{one.message}"))
        part.text = _clean(f"{one.remedy}{where}")
    else:
        ET.SubElement(case, "skipped", message=_clean(one.accepted or f"the flow is {one.state}: {one.message}"))


def _clean(text: str) -> str:
    return _NOT_XML.sub("?", text)
