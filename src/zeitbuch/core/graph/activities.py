"""The steps of a flow that do work."""

from __future__ import annotations

from zeitbuch.core.model.bpmn_terms import EVENTS, GATEWAYS, MARKERS, NOTES, repeat_name
from zeitbuch.core.model.kinds import IDLE_KINDS
from zeitbuch.core.model.records import Flow, Step

_NO_ACTIVITIES = frozenset({*EVENTS, *GATEWAYS, *NOTES, *MARKERS})


def activities_of(flow: Flow) -> list[Step]:
    """The steps that do work: no decisions, joins, ends and notes, no loop that says of one step how often it is repeated, of BPMN no events
    either (OMG formal/2011-01-03, clause 10.3)."""
    held: dict[str | None, list[Step]] = {}
    for step in flow.steps:
        held.setdefault(step.scope, []).append(step)
    return [
        step
        for step in flow.steps
        if step.kind not in IDLE_KINDS
        and step.operation.partition(" ")[0] not in _NO_ACTIVITIES
        and not (step.kind == "loop" and stands_for_repeats(step, held.get(step.id, [])))
    ]


def stands_for_repeats(loop: Step, held: list[Step]) -> bool:
    """Whether a loop was made for the one step in it, which says itself how often it is repeated. Lists of flows know no names of steps."""
    if len(held) != 1:
        return False
    (step,) = held
    return loop.id.startswith(f"{step.id}.") and loop.name in ("", repeat_name(step.title))
