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
    if result.not_read or result.left_out:
        _add_estate(root, result)
    for (_, name), found in flows.items():
        failures = sum(one.counts for one in found)
        skipped = len(found) - failures
        counts = {"tests": str(len(found)), "failures": str(failures), "skipped": str(skipped), "errors": "0"}
        suite = ET.SubElement(root, "testsuite", {"name": _clean(name), **counts})
        for one in found:
            _add_case(suite, one)
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def _add_estate(root: ET.Element, result: ChecksResult) -> None:
    """A suite for what could not be read, and for what was not looked at: without it a pipeline would show that all is well there."""
    errors, skipped = len(result.not_read), len(result.left_out)
    counts = {"tests": str(errors + skipped), "failures": "0", "skipped": str(skipped), "errors": str(errors)}
    suite = ET.SubElement(root, "testsuite", {"name": "what is checked", **counts})
    for one in result.not_read:
        where = str(one.origin) if one.origin is not None else "the run"
        case = ET.SubElement(suite, "testcase", classname=_clean(where), name=one.code)
        ET.SubElement(case, "error", type=one.code, message=_clean(one.message)).text = _clean(one.hint)
    for words in result.left_out:
        case = ET.SubElement(suite, "testcase", classname="the estate", name="left out")
        ET.SubElement(case, "skipped", message=_clean(words))


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
