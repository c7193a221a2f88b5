# Findings as a table: the worst first, each with what to do.
"""The table of findings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec import Struct

from zeitbuch.core.assumptions.money import money_cell
from zeitbuch.core.checks.records import SEVERITIES, CheckAbout, CheckFinding
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.sheet import Column, Sheet, without_columns
from zeitbuch.core.model.words import count_words


class ChecksResult(Struct, frozen=True):
    """`check --format json`: the findings, how many flows were looked at, why the answer is no, the currency of the
    months, the state since which they are new, what is said of the checks that found something, in words what was not looked at
    since the estate is too large for it, and the errors of inputs: what could not be read was not checked."""

    findings: tuple[CheckFinding, ...]
    flows: int
    refused: str = ""
    currency: str = ""
    since: str = ""
    checks: tuple[CheckAbout, ...] = ()
    left_out: tuple[str, ...] = ()
    not_read: tuple[Problem, ...] = ()


def checks_sheet(result: ChecksResult, accepted: bool = False, full: bool = True) -> Sheet:
    """One row a finding; those that were accepted only where they are asked for. Without ``full`` what people need."""
    columns = (
        Column("severity", "severity"),
        Column("sure", "", rank=2),
        Column("flow", "flow"),
        Column("id", "id", rank=4),
        Column("step", "step", rank=3),
        Column("message", "what", least=40),
        Column("remedy", "what to do", rank=1, least=24),
        Column("code", "check", least=24),
        Column("month", f"{result.currency} a month".strip(), "money", rank=4),
        Column("place", "where", rank=5),
    )
    rows = tuple(
        (
            one.severity,
            "" if one.certain else "suspected",
            one.flow,
            one.flow_id,
            one.step,
            f"{one.message} (accepted: {one.accepted})" if one.accepted else one.message,
            one.remedy,
            one.code,
            money_cell(one.month, one.unpriced),
            _place(one, full),
        )
        for one in result.findings
        if accepted or not one.accepted
    )
    notes = (checks_summary(result.findings, result.flows, result.since), *result.left_out)
    whole = Sheet(columns, rows, notes=notes)
    return whole if full else without_columns(whole, "id")


def _place(one: CheckFinding, full: bool) -> str:
    """Where a finding stands: file and line for people, for machines with the pointer."""
    origin = one.origin
    if origin is None:
        return ""
    return str(origin) if full or origin.line is None else f"{origin.file}:{origin.line}"


def checks_summary(found: Sequence[CheckFinding], flows: int, since: str = "") -> str:
    """'17 flows checked: 2 high, 3 medium, 6 low; 1 suspected, 1 accepted.'"""
    if not flows:
        return "No flow was read; nothing was checked."
    open_ones = [one for one in found if not one.accepted]
    counts = Counter(one.severity for one in open_ones)
    said = ", ".join(f"{counts[severity]} {severity}" for severity in SEVERITIES if counts[severity]) or "nothing found"
    if since:
        said = f"new since {since}: {said}"
    more = [
        f"{number} {word}"
        for number, word in (
            (sum(not one.certain for one in open_ones), "suspected"),
            (len(found) - len(open_ones), "accepted"),
            (sum(one.state in ("off", "draft") for one in open_ones), "in drafts or flows that are off"),
        )
        if number
    ]
    return f"{count_words(flows, 'flow')} checked: {said}{'; ' if more else ''}{', '.join(more)}."
