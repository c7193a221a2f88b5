# A change is judged by what is wrong after it, too: the checks of the flows that changed, before and after.
"""Findings of both versions."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.checks.registry import NEED_OTHERS, check_part
from zeitbuch.core.diff.estate_changes import versions_of
from zeitbuch.core.diff.flow_matching import FlowMatching
from zeitbuch.core.diff.records import EstateChanges
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.finding_changes import FindingChanges, changed_findings

from .basis import EstimateBasis
from .check import accepted_findings
from .check_facts import gather_facts
from .check_rows import all_checks
from .session import Session

MOST_FLOWS = 300  # of an estate for which checks of the whole estate are run in a comparison: they look at every flow


def findings_between(
    session: Session,
    sides: tuple[Estate, Estate],
    found: EstateChanges,
    matching: FlowMatching,
    basis: EstimateBasis,
    today: str,
) -> FindingChanges:
    """What came and went with the changes; what the workspace accepts is no finding."""
    rows = list(all_checks(session).values())
    left_out: list[str] = []
    if found.flows and max(len(side.flows) for side in sides) > MOST_FLOWS:
        left_out = [row.code for row in rows if row.of_estate]
        rows = [row for row in rows if not row.of_estate]
    facts = gather_facts(session, Estate(), basis, today, copies=False)
    views = [EstateView(side.flows, basis.card, facts) for side in sides]

    def look(view: EstateView, flow: Flow | None) -> list[CheckFinding]:
        told = check_part(view, rows, [flow]) if flow is not None else []
        return [one for one in accepted_findings(session, told, today) if not one.accepted]

    pairs = [(look(views[0], old), look(views[1], new)) for old, new in versions_of(found, matching)]
    return structs.replace(changed_findings(pairs), left_out=tuple(left_out))


def findings_of_flow(
    session: Session, estate: Estate, flow: Flow, basis: EstimateBasis, today: str
) -> list[CheckFinding]:
    """The findings of one flow by checks that look at it alone; what the workspace accepts is none."""
    rows = [row for row in all_checks(session).values() if not row.of_estate and row.code not in NEED_OTHERS]
    facts = gather_facts(session, Estate(), basis, today, copies=False)
    told = check_part(EstateView(estate.flows, basis.card, facts), rows, [flow])
    return [one for one in accepted_findings(session, told, today) if not one.accepted]


def finding_marks(old: list[CheckFinding], new: list[CheckFinding]) -> list[str]:
    """'+high placeholder-text' for what came, '−low zone-missing' for what went."""
    changes = changed_findings([(old, new)])
    return [
        f"{sign}{one.severity} {one.code}" for sign, rows in (("+", changes.new), ("−", changes.gone)) for one in rows
    ]
