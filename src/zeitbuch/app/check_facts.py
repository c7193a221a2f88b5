# What checks need to know that stands in no flow: people, the day, copies, how often a poll finds something.
"""Facts around the flows for checks."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from zeitbuch.core.assumptions.lookup import AssumptionLookup, has_rules_for
from zeitbuch.core.assumptions.volume import parse_month, schedule_runs
from zeitbuch.core.checks.families.copies import MOST_COMPARED
from zeitbuch.core.checks.records import Copied, EstateFacts
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow, Trigger
from zeitbuch.core.model.words import join_words
from zeitbuch.readers.config.people import people_of

from .basis import EstimateBasis
from .session import Session

ALIKE = 0.95  # likeness from which two flows do the same
OF_COPIES = ("copy-edit-missed", "flows-alike")  # checks for which flows are held against each other


def gather_facts(session: Session, estate: Estate, basis: EstimateBasis, today: str, copies: bool) -> EstateFacts:
    """The facts for an estate on a day (YYYY-MM-DD); with what copies left only where it is asked for."""
    people, problems = people_of(session.workspace)
    session.problems += problems
    left_over, alike = _copies(estate) if copies else ([], [])
    return EstateFacts(
        today,
        tuple(people),
        session.workspace.check_limits,
        tuple(left_over),
        tuple(alike),
        dict(_idle_polls(estate, basis)),
        {one.name: tuple(one.own_operations) for one in session.dialects if one.own_operations},
    )


def copies_left_out(codes: Iterable[str], flows: Sequence[Flow]) -> list[str]:
    """What is told where flows are too many, or one too large, to be held against each other, and checks are asked for that do so."""
    asked = [code for code in codes if code in OF_COPIES]
    if asked and len(flows) > MOST_COMPARED:
        return [
            f"not looked for: {join_words(asked)}, since more than {MOST_COMPARED:,} flows are not held against each other; name folders or"
            " files of fewer"
        ]
    if OF_COPIES[0] not in asked or not flows:
        return []
    from zeitbuch.core.diff.clones import MOST_UNITS  # loads NumPy, as the check does

    large = [flow for flow in flows if len({step.scope for step in flow.steps if step.scope is not None}) > MOST_UNITS]
    return [
        f"{OF_COPIES[0]} was not looked for between all branches of {quote_name(flow.title)}: the first {MOST_UNITS} of one flow are held"
        " against each other"
        for flow in large
    ]


def _copies(estate: Estate) -> tuple[list[Copied], list[Copied]]:
    """What copies still say of their originals, and flows that are the same but for next to nothing."""
    if len(estate.flows) > MOST_COMPARED:
        return [], []
    from zeitbuch.core.diff.clones import detect_clones  # loads NumPy
    from zeitbuch.core.diff.left_over import left_words

    left_over: list[Copied] = []
    alike: list[Copied] = []
    for group in detect_clones(estate.flows, single=False):
        for clone in group.copies:
            for left in clone.left:
                step = _step_at(estate, clone.b.flow, left.origin)
                left_over.append(Copied(clone.b.flow, step, f"in the copy {clone.b.title} {left_words(left)}"))
            if clone.sort == "flow" and clone.likeness >= ALIKE and not clone.left:
                alike.append(
                    Copied(
                        clone.b.flow,
                        "",
                        f"it does what {quote_name(clone.a.flow_name)} does (likeness {clone.likeness:.0%})",
                    )
                )
    return left_over, alike


def _step_at(estate: Estate, flow_id: str, origin: object) -> str:
    """The id of the step that stands at a place of the export."""
    flow = estate.flow(flow_id)
    steps = flow.steps if flow is not None and origin is not None else ()
    return next((step.id for step in steps if step.origin is origin), "")


def _idle_polls(estate: Estate, basis: EstimateBasis) -> Iterator[tuple[str, float]]:
    """Polls of which the assumptions say how often they find something: how many checks there are to one find."""
    if not has_rules_for(basis.assumptions, "hit_rate", "events"):
        return
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
