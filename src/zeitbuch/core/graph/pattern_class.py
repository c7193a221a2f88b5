# Why a flow has its pattern class, in words: an owner wants to know whether a dispatcher or an agent is needed at all.
"""The reason for a flow's pattern class."""

from __future__ import annotations

from zeitbuch.core.model.kinds import NOT_TOOLS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import count_words, join_words

from .topology import Graph, pattern_of


def pattern_reason(graph: Graph) -> str:
    """The reason in one sentence without its full stop."""
    pattern = pattern_of(graph.flow)
    steps = [step for step in graph.in_order() if step.kind != "note"]
    models = [step for step in steps if step.kind in ("model", "embed") and step.id not in graph.host]
    agents = [step for step in steps if step.kind == "agent"]
    match pattern:
        case "plain":
            return "no step uses a model"
        case "assisted":
            return (
                f"{count_words(len(models), 'model call')} at fixed places and no agent: nothing chooses its own steps"
            )
        case "agent":
            return f"one agent with {_equipment_words(graph, agents[0])}: a dispatcher is not needed"
        case "ensemble":
            return f"{len(agents)} agents at fixed places ({join_words([f'‘{a.title}’' for a in agents])}): nothing chooses between them"
    leading = [first for first in agents if any(step.kind == "agent" for step in graph.attached.get(first.id, []))]
    if leading:
        parts = []
        for agent in leading:
            tools = [step for step in graph.attached[agent.id] if step.kind == "agent"]
            parts.append(f"‘{agent.title}’ chooses between {join_words([f'‘{t.title}’' for t in tools])}" if len(tools) > 1
                         else f"‘{agent.title}’ may hand over to ‘{tools[0].title}’")  # fmt: skip
        return "; ".join(parts)
    ids = {first.id for first in agents}
    for step in steps:
        if step.kind == "decide":
            chosen = [
                graph.names[link.target] for link in graph.flow.links if link.source == step.id and link.target in ids
            ]
            if len(chosen) > 1:
                return (
                    f"the decision ‘{step.title}’ chooses between the agents {join_words([f'‘{c}’' for c in chosen])}"
                )
    return "an agent chooses which other agent goes on"


def _equipment_words(graph: Graph, agent: Step) -> str:
    helpers = graph.attached.get(agent.id, [])
    tools = sum(step.kind not in NOT_TOOLS for step in helpers)
    memories = sum(step.kind == "memory" for step in helpers)
    return f"{count_words(tools, 'tool') if tools else 'no tools'} and {'a memory' if memories else 'no memory'}"
