# The last stage of reading: a flow leaves it with its faults mended and told, so that everything behind may rely on its form.
"""Flows validated."""

from __future__ import annotations

from zeitbuch.core.graph.cycles import cycle_problems
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.validation import in_plain_order, mend_flow


def validate_flow(flow: Flow) -> tuple[Flow, list[Problem]]:
    """The flow with repeated ids, broken scopes and links to nowhere mended, and a problem for each of these and each cycle."""
    if in_plain_order(flow):
        return flow, []
    flow, problems = mend_flow(flow)
    return flow, [*problems, *cycle_problems(flow)]
