# Builders do not label every way out of a decision. The only one without a label is taken when no other fits; several are told apart by
# where they lead, as the arithmetic does.
"""What the cases of a step are called."""

from __future__ import annotations

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import is_bare, is_case
from zeitbuch.core.model.records import Link


def case_word(graph: Graph, link: Link) -> str:
    """The label of a case, its condition, or what tells it from the others of its step."""
    if not is_bare(link):
        return link.label or link.condition or "otherwise"
    cases = _cases_beside(graph, link)
    bare = {one.target for one in cases if is_bare(one)}
    if len(bare) > 1:
        return f"to {graph.names[link.target]}"
    return "one way" if len(cases) == 1 else "otherwise"


def _cases_beside(graph: Graph, link: Link) -> list[Link]:
    step = graph.steps.get(link.source)
    return [one for one in graph.leaving.get(link.source, ()) if step is not None and is_case(one, step.kind)]
