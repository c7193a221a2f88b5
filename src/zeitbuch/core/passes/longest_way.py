"""The longest way through a flow."""

from __future__ import annotations

from collections.abc import Container
from typing import NamedTuple

from zeitbuch.core.graph.topology import Edge

from .plan import Node, Plan, Stage


class _Chain(NamedTuple):
    """The longest way up to a step and with it: how many steps run on it, and over which step before it came."""

    length: int
    before: str | None
    passed_by: bool  # the step before does not run: it is skipped


def longest_way(plan: Plan, running: Container[str]) -> list[str]:
    """The steps that run on the longest way, contents of blocks once each (the critical path in steps). ``running``: the steps that some run
    comes to. Without any trigger that leads on everything counts as begun."""
    begun = {place for _, targets in plan.starts for place in targets}
    return _longest_in(plan.top, begun or plan.top.entries, running)


def _longest_in(stage: Stage, begun: Container[int], running: Container[str]) -> list[str]:
    nodes = {node.step.id: node for node in stage.nodes if not node.enabled or node.step.id in running}
    own = {key: _own_steps(node, running) for key, node in nodes.items()}
    leading: dict[str, list[Edge]] = {}
    for edge in stage.edges:
        if not edge.back and edge.source in nodes:
            leading.setdefault(edge.target, []).append(edge)
    chains: dict[str, _Chain] = {}
    starts = {node.step.id for place, node in enumerate(stage.nodes) if place in begun}
    for key, mine in own.items():
        ways = [_chain_over(edge, nodes[edge.source], chains, own) for edge in leading.get(key, ())]
        found = [one for one in ways if one is not None] + ([_Chain(0, None, False)] if key in starts else [])
        if found:
            best = max(found, key=lambda one: one.length)
            chains[key] = best._replace(length=best.length + len(mine))
    return _steps_of(chains, own)


def _own_steps(node: Node, running: Container[str]) -> list[str]:
    """A step with what it holds."""
    if not node.enabled:
        return []
    inner = _longest_in(node.inner, node.inner.entries, running) if node.inner is not None else []
    return [node.step.id, *inner]


def _chain_over(edge: Edge, source: Node, chains: dict[str, _Chain], own: dict[str, list[str]]) -> _Chain | None:
    """How long the way is over an edge; None where none can be taken."""
    chain = chains.get(edge.source)
    if chain is None:
        return None
    after = edge.link.after
    if not source.enabled and (after or edge.link.role == "error") and "skip" not in after:
        return None  # what is passed by neither succeeds nor fails
    skipped = after == ("skip",) and source.enabled
    return _Chain(chain.length - (len(own[edge.source]) if skipped else 0), edge.source, skipped)


def _steps_of(chains: dict[str, _Chain], own: dict[str, list[str]]) -> list[str]:
    place: str | None = max(chains, key=lambda key: chains[key].length, default=None)
    whole: list[str] = []
    passed_by = False
    while place is not None:  # from the end to the start
        whole += [] if passed_by else reversed(own[place])
        _, before, passed_by = chains[place]
        place = before
    return whole[::-1]
