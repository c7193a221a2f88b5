# Which way runs took. Logs with a line for each step that ran tell it by counting: so many passes of the first step of a way, of so many of
# the decision. A way that several lead to is not told by counting; where exactly one way is taken it is what the others leave.
"""Shares of cases by counting."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import is_case, leaves_rest_open
from zeitbuch.core.model.records import Link

from .step_records import CaseShare, StepActual

_FEW = 30  # passes of a decision, of which no share is said
_TOO_MANY = 1.001


def counted_shares(graph: Graph, steps: Iterable[StepActual]) -> list[CaseShare]:
    """The shares of all cases that can be counted. Decisions with fewer than 30 passes are left out."""
    passes = {one.id: one.passes for one in steps if one.passes is not None}
    found: list[CaseShare] = []
    for step in graph.in_order():
        total = passes.get(step.id, 0.0)
        ways = [link for link in graph.leaving.get(step.id, ()) if is_case(link, step.kind)]
        if step.id in graph.deciding and ways and total >= _FEW:
            found += _of_decision(graph, ways, passes, total)
    return found


def _of_decision(graph: Graph, ways: Sequence[Link], passes: Mapping[str, float], total: float) -> list[CaseShare]:
    step = graph.steps[ways[0].source]
    known = {
        place: passes.get(link.target, 0.0) / total
        for place, link in enumerate(ways)
        if _leads_alone(graph, link) and not _is_idle(graph, link.target, passes)
    }
    if max(known.values(), default=0.0) > _TOO_MANY or (not step.inclusive and sum(known.values()) > _TOO_MANY):
        return []  # lines of the log are tries, or items, and not passes
    left = [place for place in range(len(ways)) if place not in known]
    if len(left) == 1 and known and not step.inclusive and not leaves_rest_open(ways, step.kind):
        known[left[0]] = max(0.0, 1.0 - sum(known.values()))
    return [
        CaseShare(link.source, link.target, link.label, min(1.0, known[place]), total, True)
        for place, link in enumerate(ways)
        if place in known
    ]


def _leads_alone(graph: Graph, link: Link) -> bool:
    """Whether no other link leads to the step that a case leads to."""
    led = [one for one in graph.arriving.get(link.target, ()) if one.role != "attach"]
    return len(led) == 1 and link.target in graph.steps


def _is_idle(graph: Graph, key: str, passes: Mapping[str, float]) -> bool:
    """Whether the log has no line of a step though runs may have passed it: a log need not have all kinds of steps."""
    kind = graph.steps[key].kind
    return key not in passes and not any(graph.steps[one].kind == kind for one in passes if one in graph.steps)
