# The first sheet: what an owner reads before signing. Every sentence follows from the export, or from a declared figure; what neither says is a
# gap, and stands there as one.
"""Assembling the first sheet."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from zeitbuch.core.assumptions.money import evidence_words, money_words
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate, Spread
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Trigger
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import join_words
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.blocks import Block, Bullets, Facts, Heading, Outline, Paragraph
from zeitbuch.core.report.finding_marks import open_points
from zeitbuch.core.report.sentences import when_words

from .deciding import deciding_lines
from .failing import failing_lines
from .reaching import reaching_lines
from .telling import course_lines

GAP = "To be filled in: "


class SheetFacts(Struct, frozen=True):
    """What stands beside the flow: its estimate, its findings, who calls it, whom it calls, and who takes its
    failures (names), the text that somebody drafted to it, and
    its fingerprint where the flow is shown with placeholders, since when the
    book has this state ('as version 3 since 2026-11-02'), and what usage logs say of it in sentences."""

    estimate: FlowEstimate | None = None
    result: EstateEstimate | None = None
    findings: Sequence[CheckFinding] | None = None
    callers: tuple[str, ...] = ()
    called: tuple[str, ...] = ()
    handlers: tuple[str, ...] = ()
    draft: tuple[Block, ...] = ()
    fingerprint: str = ""
    recorded: str = ""
    usage: tuple[str, ...] = ()


def first_sheet(graph: Graph, facts: SheetFacts) -> list[Block]:
    """The blocks of the first sheet."""
    blocks: list[Block] = [
        Paragraph(_head_line(graph, facts.fingerprint or fingerprint(graph.flow), facts.recorded), quiet=True),
        *told_blocks(graph, facts),
    ]
    blocks += _part("What it costs", _cost_lines(facts))
    blocks += _part("What the usage logs say", facts.usage) if facts.usage else []
    return [*blocks, *(open_points(facts.findings) if facts.findings is not None else [])]


def told_blocks(graph: Graph, facts: SheetFacts) -> list[Block]:
    """What the flow is for and what it does: the part of the sheet that says nothing of money and findings."""
    flow = graph.flow
    blocks = _part("What it is for", [flow.description or f"{GAP}the export does not say what the flow is for."])
    blocks += [*facts.draft, *_part("Starts", _start_lines(graph, facts))]
    blocks += [
        Heading(2, "How it goes", "course"),
        Outline(tuple(course_lines(graph)) or ((0, "The flow has no steps."),)),
    ]
    running = steps_that_may_run(graph)
    blocks += _part("Who decides what", deciding_lines(graph, running))
    blocks += _part("What it may do outside", reaching_lines(graph, running))
    blocks += _part(
        "When something fails",
        failing_lines(graph, running, facts.handlers or flow.fault_handlers)
        or ["The export says nothing of failures."],
    )
    return blocks


def _part(title: str, lines: Iterable[str]) -> list[Block]:
    lines = tuple(lines)
    anchor = title.casefold().replace(" ", "-")
    return [Heading(2, title, anchor), Paragraph(lines[0]) if len(lines) == 1 else Bullets(lines)]


def _head_line(graph: Graph, hashed: str, recorded: str) -> str:
    """'Version 14 of 2026-10-19, fingerprint 666c9bce. Owners A and B. In use.'"""
    flow = graph.flow
    when = f" of {flow.changed[:10]}" if flow.changed else ""
    version = f"Version {flow.version}{when}" if flow.version else f"The state{when or ' that was read'}"
    owners = (
        f"Owner{'s' if len(flow.owners) > 1 else ''} {join_words(list(flow.owners))}"
        if flow.owners
        else f"{GAP}an owner"
    )
    state = {
        "on": "In use",
        "off": "Switched off",
        "draft": "A draft",
        "unknown": "Whether it is in use the export does not say",
    }[flow.state]
    return f"{version}, fingerprint {hashed[:16]}{f', in the book {recorded}' if recorded else ''}. {owners}. {state}."


def _start_lines(graph: Graph, facts: SheetFacts) -> list[str]:
    lines = [_start_words(trigger) for trigger in graph.flow.triggers]
    lines = lines or [f"{GAP}the export names no trigger."]
    found = facts.estimate
    if found is not None and found.runs is not None:
        month = facts.result.month if facts.result is not None else "a month"
        lines.append(f"{number_text(found.runs)} runs in {month} ({found.runs_why}).")
    elif found is not None:
        lines.append(f"{GAP}how often; nobody has declared it.")
    if facts.callers:
        lines.append(f"It is called by {join_words(list(facts.callers))}.")
    if facts.called:
        lines.append(f"It calls {join_words(list(facts.called))}.")
    return lines


def _start_words(trigger: Trigger) -> str:
    """'When a form is sent (‘Repair request’).'"""
    words = when_words(trigger)
    named = f" ({quote_name(trigger.name)})" if trigger.name and trigger.name.casefold() not in words.casefold() else ""
    return f"{words}{named}{'' if trigger.enabled else ', switched off'}{_caller_words(trigger)}."


def _caller_words(trigger: Trigger) -> str:
    """How a caller from outside shows who it is."""
    if trigger.kind != "webhook":
        return ""
    if not trigger.authentication:
        return "; whether the caller must show who it is the export does not say"
    if trigger.authentication == "none":
        return "; the caller need not show who it is"
    return f"; the caller shows who it is: {trigger.authentication}"


def _cost_lines(facts: SheetFacts) -> list[str]:
    found, result = facts.estimate, facts.result
    if found is None or result is None or not result.currency:
        return [f"{GAP}no rate card was given."]
    unit = result.currency
    lines = [f"{money_words(found.with_called, unit)} a run{_range_words(found.spread, 'runs')}."]
    bill = found.bill_month
    if bill is not None:
        lines.append(f"{money_words(bill, unit)} in {result.month}{_range_words(found.month_spread, 'months')}.")
    of_run, of_month = evidence_words(found.evidence), evidence_words(found.evidence_month)
    if bill is None or of_run == of_month:
        return [*lines, f"This is based on {of_run}."]
    return [*lines, f"A run is based on {of_run}; the month on {of_month}."]


def _range_words(spread: Spread | None, things: str) -> str:
    """': low 6.20, likely 10.10, high 16.40 (of ten months eight lie between low and high)'."""
    if spread is None or spread.p90 <= spread.p10:
        return ""
    low, likely, high = (number_text(value) for value in (spread.p10, spread.p50, spread.p90))
    return f": low {low}, likely {likely}, high {high} (of ten {things} eight lie between low and high)"


def sheet_facts_pairs(graph: Graph) -> Facts:
    """Folder, environment and the place of the export, below the sheet."""
    flow = graph.flow
    pairs = [
        ("Folder", flow.folder),
        ("Environment", flow.environment),
        ("Export", flow.origin.file if flow.origin is not None else ""),
    ]
    return Facts(tuple((key, value) for key, value in pairs if value))
