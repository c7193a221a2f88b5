# What checks need to know that stands in no flow: people, the day, copies, how often a poll finds something.
"""Facts around the flows for checks."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.volume import parse_month, schedule_runs
from zeitbuch.core.checks.records import Copied, EstateFacts
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow, Trigger
from zeitbuch.readers.config.people import people_of

from .basis import EstimateBasis
from .session import Session

MOST_COMPARED = 200  # flows that are held against each other for missed edits: the work grows with their square


def gather_facts(session: Session, estate: Estate, basis: EstimateBasis, today: str, copies: bool) -> EstateFacts:
    """The facts for an estate on a day (YYYY-MM-DD); with what copies left only where it is asked for."""
    people, problems = people_of(session.workspace)
    session.problems += problems
    return EstateFacts(
        today,
        tuple(people),
        session.workspace.check_limits,
        tuple(_missed_edits(estate)) if copies else (),
        dict(_idle_polls(estate, basis)),
        {one.name: tuple(one.own_operations) for one in session.dialects if one.own_operations},
    )


def _missed_edits(estate: Estate) -> Iterator[Copied]:
    from zeitbuch.core.diff.clones import detect_clones  # draws in NumPy
    from zeitbuch.core.diff.left_over import left_words

    if len(estate.flows) > MOST_COMPARED:
        return
    for group in detect_clones(estate.flows):
        for clone in group.copies:
            for left in clone.left:
                step = _step_at(estate, clone.b.flow, left.origin)
                yield Copied(clone.b.flow, step, f"in the copy {clone.b.title} {left_words(left)}")


def _step_at(estate: Estate, flow_id: str, origin: object) -> str:
    """The id of the step that stands at a place of the export."""
    flow = estate.flow(flow_id)
    steps = flow.steps if flow is not None and origin is not None else ()
    return next((step.id for step in steps if step.origin is origin), "")


def _idle_polls(estate: Estate, basis: EstimateBasis) -> Iterator[tuple[str, float]]:
    """Polls of which the assumptions say how often they find something: how many checks there are to one find."""
    for flow in estate.flows:
        for trigger in flow.triggers:
            if trigger.kind == "polling" and trigger.enabled and trigger.schedule is not None:
                often = _checks_to_a_find(flow, trigger, basis)
                if often is not None:
                    yield f"{flow.id}/{trigger.id}", often


def _checks_to_a_find(flow: Flow, trigger: Trigger, basis: EstimateBasis) -> float | None:
    lookup = AssumptionLookup(basis.assumptions, flow)
    names = (trigger.id, trigger.name)
    hits = lookup.find("hit_rate", trigger=names)
    if hits is not None:
        return 1 / hits.amount if hits.amount else None
    events = lookup.find("events", trigger=names)
    if events is None or not events.amount or trigger.schedule is None:
        return None
    try:
        return schedule_runs(trigger.schedule, parse_month(basis.month)) / float(events.amount)
    except ZeitbuchError:
        return None
