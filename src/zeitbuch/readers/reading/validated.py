# The last stage of reading: a flow leaves it with its faults mended and told, so that everything behind may rely on its form and size.
"""Flows validated."""

from __future__ import annotations

from zeitbuch.core.graph.cycles import cycle_problems
from zeitbuch.core.model.bounds import mend_numbers, numbers_in_bounds
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.validation import in_plain_order, mend_flow
from zeitbuch.readers.input.limits import Limits, too_large


def validate_flow(flow: Flow, limits: Limits) -> tuple[Flow, list[Problem]]:
    """The flow with repeated ids, broken scopes and links to nowhere mended, and a problem for each of these and each cycle.

    Raises ZeitbuchError when it has more steps, links or scopes within scopes than the limits allow.
    """
    _check_size(flow, limits)
    odd: list[Problem] = []
    if not numbers_in_bounds(flow):
        flow, odd = mend_numbers(flow)
    if in_plain_order(flow):
        return flow, odd
    flow, problems = mend_flow(flow)
    return flow, [*odd, *problems, *cycle_problems(flow)]


def _check_size(flow: Flow, limits: Limits) -> None:
    where = f"the flow '{flow.title[:80]}'"
    for name, found in (("steps", len(flow.steps)), ("links", len(flow.links))):
        allowed = getattr(limits, name)
        if found > allowed:
            raise too_large(name, allowed, f"{found:,}", where)
    deepest = _deepest_scope(flow)
    if deepest > limits.scopes:
        raise too_large("scopes", limits.scopes, f"steps within steps {deepest:,} deep", where)


def _deepest_scope(flow: Flow) -> int:
    """How deep steps stand within steps; a circle of scopes, which is mended later, counts as often as it is met."""
    scopes = {step.id: step.scope for step in flow.steps if step.scope is not None}
    depths: dict[str, int] = {}
    for step_id in scopes:
        path: list[str] = []
        at: str | None = step_id
        while at is not None and at in scopes and at not in depths and len(path) <= len(scopes):
            path.append(at)
            at = scopes[at]
        depth = depths.get(at, 0) if at is not None else 0
        for name in reversed(path):
            depth += 1
            depths[name] = depth
    return max(depths.values(), default=0)
