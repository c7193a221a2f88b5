# The checks of all families, and what runs them: a check that breaks is one finding, and all others run.
"""All checks, and findings of an estate."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.rate_card import RateCard

from .estate_view import EstateView
from .families import (
    clock,
    copies,
    failure,
    labels,
    left_over,
    load,
    models,
    outside,
    ownership,
    prompts,
    reality,
    references,
    rights,
    silence,
)  # fmt: skip
from .records import SEVERITIES, Check, CheckAbout, CheckFinding, EstateFacts, Hit
from .views import FlowView

FAMILIES = (
    left_over,
    copies,
    labels,
    failure,
    silence,
    load,
    references,
    rights,
    outside,
    models,
    prompts,
    ownership,
    clock,
    reality,
)
CHECKS: dict[str, Check] = {row.code: row for family in FAMILIES for row in family.CHECKS}
OF_USAGE = frozenset(row.code for row in reality.CHECKS)  # say something only where usage logs were looked at
BROKEN = "check-failed"  # the code of a check that broke
# Checks whose answer another flow may change: of a flow alone they say nothing.
NEED_OTHERS = frozenset({"flow-missing", "never-started", "handler-missing", "failure-unhandled", "owner-alone"})
EXPIRED, IDLE = "accept-expired", "accept-idle"  # of exceptions of the workspace
# What `check` says of itself: no row looks for it in a flow.
OWN_CODES: dict[str, CheckAbout] = {row.code: row for row in (
    CheckAbout(BROKEN, "low", "a check that failed", "The flow was not looked at for it.", "A check raised an error.", "Nothing.", "Report it with the flow."),
    CheckAbout(EXPIRED, "low", "an exception that is out of date", "What it accepted counts again.", "The day of `until` against today.",
               "Exceptions without a day.", "Renew it, or mend what it accepts."),
    CheckAbout(IDLE, "low", "an exception that fits nothing", "It would accept the next finding that nobody has looked at.",
               "Exceptions against the findings, where all checks ran over all sources of the workspace.", "Patterns that are too wide.", "Take the exception out."),
)}  # fmt: skip


def check_flows(
    flows: Iterable[Flow],
    card: RateCard | None = None,
    checks: Iterable[Check] = tuple(CHECKS.values()),
    facts: EstateFacts | None = None,
) -> list[CheckFinding]:
    """What is found in the flows of an estate, the worst first; suspicions behind what is certain."""
    estate = EstateView(flows, card, facts)
    return order_findings(check_part(estate, list(checks), estate.flows))


def check_part(estate: EstateView, checks: Sequence[Check], flows: Iterable[Flow]) -> list[CheckFinding]:
    """What is found in some flows of an estate, flow by flow."""
    found: list[CheckFinding] = []
    for flow in flows:
        view = FlowView(flow, estate)
        for row in checks:
            if not row.kinds or row.kinds & view.kinds:
                found += _run_check(row, view)
    return found


def order_findings(found: Iterable[CheckFinding]) -> list[CheckFinding]:
    """The worst first, suspicions behind what is certain; among equals the flow that costs most in a month."""
    return sorted(found, key=lambda one: (SEVERITIES.index(one.severity), not one.certain, -(one.month or 0.0)))


def _run_check(row: Check, view: FlowView) -> list[CheckFinding]:
    flow = view.flow
    try:
        return [_finding(row, flow, hit) for hit in row.find(view)]
    except Exception as error:  # a check of another package may break in any way
        words = f"the check '{row.code}' failed with {type(error).__name__}: this flow was not looked at for it"
        hint = "report it with the flow"
        return [CheckFinding(BROKEN, "low", True, flow.title, flow.id, flow.state, words, hint, origin=flow.origin)]


def _finding(row: Check, flow: Flow, hit: Hit) -> CheckFinding:
    part = hit.part
    return CheckFinding(
        row.code, row.severity, hit.certain, flow.title, flow.id, flow.state, hit.message, row.remedy,
        part.title if part is not None else "", part.id if part is not None else "",
        part.origin if part is not None else flow.origin,
    )  # fmt: skip
