# Sentences say of a step that it sends, asks or decides. That is true of no step that is switched off or that no run comes to: the rules by which
# passes are counted say which these are.
"""Which steps a run may come to."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow

from .exact import Passes
from .plan import Plan, Stage

# Every step may fail and may run out of time; cases, items and rounds are those of the defaults, none of which is 0.
_ANYTHING = Assumptions(assume=(Rule(failure=0.1, timeout=0.1),))


@lru_cache(maxsize=4)  # several parts of a page ask for the same flow
def steps_that_may_run(graph: Graph) -> frozenset[str]:
    """The ids of the steps that are executed in some run of a flow, whatever fails or is decided on the way. What is attached to a step runs
    with it, unless it is switched off. Without any trigger that leads on everything counts as begun. Where passes are no exact numbers (a
    step that waits for two triggers at once) it is every step that ways lead to: none is ever missing."""
    passes = Passes(graph, AssumptionLookup(_ANYTHING, graph.flow))
    found = {key for key, one in passes.of.items() if one.runs} if passes.exact else set(_led_to(passes.plan))
    found = {key for key in found if key in graph.steps and graph.steps[key].enabled}
    for step in graph.flow.steps:
        if step.enabled and any(host in found for host in graph.hosts_of(step.id)):
            found.add(step.id)
    return frozenset(found)


def acting_flow(flow: Flow) -> Flow:
    """The flow with those of its steps alone that some run comes to, and the triggers that are on."""
    running = steps_that_may_run(Graph(flow))
    return structs.replace(
        flow,
        steps=tuple([step for step in flow.steps if step.id in running]),
        triggers=tuple([trigger for trigger in flow.triggers if trigger.enabled]),
    )


def _led_to(plan: Plan) -> Iterator[str]:
    """The steps that a trigger leads to, by whatever ways, in no block that is switched off."""
    begun = [place for _, targets in plan.starts for place in targets]
    found = set(_led_to_in(plan.top, begun or plan.top.entries))
    yield from found
    yield from [frame for frame, inside in plan.frames.items() if not found.isdisjoint(inside)]


def _led_to_in(stage: Stage, begun: Iterable[int]) -> Iterator[str]:
    onward: dict[str, list[str]] = {}
    for edge in stage.edges:
        onward.setdefault(edge.source, []).append(edge.target)
    nodes = {node.step.id: node for node in stage.nodes}
    work = [stage.nodes[place].step.id for place in begun]
    seen = set(work)
    while work:
        node = nodes[work.pop()]
        if node.enabled:
            yield node.step.id
            yield from _led_to_in(node.inner, node.inner.entries) if node.inner is not None else ()
        fresh = [key for key in onward.get(node.step.id, ()) if key not in seen]
        seen.update(fresh)
        work += fresh
