# The way that most runs take: from the triggers on, at each decision the case with most runs. Where no log tells which case that is, the way
# ends: it is not guessed.
"""The busiest way through a flow."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.graph.topology import Edge, Graph, Level
from zeitbuch.core.model.outcomes import case_name, is_case, takes_faults

from .step_records import CaseShare, LinkKey


def busiest_way(graph: Graph, shares: Iterable[CaseShare]) -> frozenset[LinkKey]:
    """The links of the busiest way; none where no decision is told of."""
    known = {(one.step, one.target, one.label): one.share for one in shares}
    return frozenset(_links_of_level(graph, graph.levels[None], known)) if known else frozenset()


def _links_of_level(graph: Graph, level: Level, known: dict[LinkKey, float]) -> Iterable[LinkKey]:
    started = [edge.source for edge in level.edges if edge.source in graph.triggers]
    waiting = started or [step.id for step in level.entry_steps()]
    seen: set[str] = set()
    while waiting:
        at = waiting.pop()
        if at in seen:
            continue
        seen.add(at)
        if at in graph.levels:
            yield from _links_of_level(graph, graph.levels[at], known)
        for edge in _taken(graph, at, level.edges_from(at), known):
            yield edge.link.source, edge.link.target, edge.link.label
            waiting.append(edge.target)


def _taken(graph: Graph, at: str, edges: list[Edge], known: dict[LinkKey, float]) -> list[Edge]:
    """The edges that most runs take from a step."""
    onward = [edge for edge in edges if not edge.back and edge.link.role != "attach" and not takes_faults(edge.link)]
    if at not in graph.deciding:
        return onward
    step = graph.steps[at]
    cases = [edge for edge in onward if is_case(edge.link, step.kind)]
    beside = [edge for edge in onward if edge not in cases]
    shares = {edge: known.get((edge.link.source, edge.link.target, edge.link.label)) for edge in cases}
    told = {edge: share for edge, share in shares.items() if share is not None}
    if step.inclusive:
        return beside + [edge for edge, share in told.items() if share > 0.5]
    return beside + _most_taken(told, cases)


def _most_taken(told: dict[Edge, float], cases: list[Edge]) -> list[Edge]:
    """Of exclusive cases the one with most runs; none where one that is not told of may have more."""
    by_case = {case_name(edge.link): share for edge, share in told.items()}
    every = len(by_case) == len({case_name(edge.link) for edge in cases})
    most = max(by_case.values(), default=0.0)
    rest = 0.0 if every else 1.0 - sum(by_case.values())
    return [edge for edge, share in told.items() if share == most] if most and most >= rest else []
