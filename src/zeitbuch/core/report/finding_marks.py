# Findings where flows are drawn and described: on the cards of maps, in the panel of a page, as open points of a document, as counts.
"""Findings in maps, documents and tables."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zeitbuch.core.checks.records import SEVERITIES, CheckFinding, Severity
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.report.blocks import Block, Heading, Paragraph, Table

_LENGTHS: dict[Severity, float] = {"high": 1.0, "medium": 0.6, "low": 0.3}
Meters = dict[str, tuple[str, float]]


def findings_by_flow(found: Iterable[CheckFinding]) -> dict[str, list[CheckFinding]]:
    """Flow id -> its findings that nobody accepted, the worst first."""
    return group_findings(one for one in found if not one.accepted)


def group_findings(found: Iterable[CheckFinding]) -> dict[str, list[CheckFinding]]:
    """Flow id -> its findings, those that somebody accepted too, in their order."""
    made: dict[str, list[CheckFinding]] = {}
    for one in found:
        made.setdefault(one.flow_id, []).append(one)
    return made


def severity_counts(found: Iterable[CheckFinding]) -> dict[Severity, int]:
    """How many findings of each severity."""
    found = list(found)
    return {severity: sum(one.severity == severity for one in found) for severity in SEVERITIES}


def counts_words(found: Sequence[CheckFinding]) -> str:
    """'1 high, 2 low'; 'nothing found' for none."""
    return (
        ", ".join(f"{number} {severity}" for severity, number in severity_counts(found).items() if number)
        or "nothing found"
    )


def step_marks(graph: Graph, found: Sequence[CheckFinding]) -> tuple[Meters, dict[str, tuple[str, ...]]]:
    """What the cards of a map show, and the sentences of the panel, by card: of a tool that of its agent."""
    cards: dict[str, list[CheckFinding]] = {}
    for one in found:
        if one.step_id in graph.steps or one.step_id in graph.triggers:
            cards.setdefault(graph.card_of(one.step_id) if one.step_id in graph.steps else one.step_id, []).append(one)
    meters = {key: (counts_words(rows), _LENGTHS[rows[0].severity]) for key, rows in cards.items()}
    return meters, {key: tuple(point_words(one) for one in rows) for key, rows in cards.items()}


def flow_marks(found: Iterable[CheckFinding]) -> Meters:
    """What the cards of an estate map show."""
    return {
        f"flow {key}": (counts_words(rows), _LENGTHS[rows[0].severity]) for key, rows in findings_by_flow(found).items()
    }


def point_words(one: CheckFinding) -> str:
    """'high: the agent ... What to do: ...'"""
    sure = "" if one.certain else ", suspected"
    return f"{one.severity}{sure}: {one.message}. {one.remedy}"


def open_points(found: Sequence[CheckFinding]) -> list[Block]:
    """The open points of a document: what is to be settled before anybody signs, and what was accepted, by whom and why."""
    blocks: list[Block] = [Heading(2, "Open points", "open-points")]
    rows = [one for one in found if not one.accepted]
    if rows:
        columns = (
            Column("severity", "severity"),
            Column("sure", "how sure"),
            Column("message", "what"),
            Column("remedy", "what to do"),
            Column("code", "check"),
        )
        cells = tuple(
            (one.severity, "certain" if one.certain else "suspected", one.message, one.remedy, one.code) for one in rows
        )
        blocks.append(Table(Sheet(columns, cells)))
    else:
        blocks.append(
            Paragraph(
                "No check found anything that is not accepted; docs/checks.md says what they look for, and what they miss."
            )
        )
    blocks += [Paragraph(f"Accepted: {one.message} ({one.accepted})", quiet=True) for one in found if one.accepted]
    return blocks
