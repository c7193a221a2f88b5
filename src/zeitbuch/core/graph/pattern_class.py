# Why a flow has its pattern class, in words: an owner wants to know whether a dispatcher or an agent is needed at all.
"""The reason for a flow's pattern class."""

from __future__ import annotations

from zeitbuch.core.model.records import NOT_TOOLS, Step
from zeitbuch.core.model.words import joined, plural

from .topology import Graph, pattern_of


def pattern_reason(graph: Graph) -> str:
    """The reason in one sentence without its full stop."""
    pattern = pattern_of(graph.flow)
    steps = [s for s in graph.in_order() if s.kind != "note"]
    models = [s for s in steps if s.kind in ("model", "embed") and s.id not in graph.host]
    agents = [s for s in steps if s.kind == "agent"]
    match pattern:
        case "plain":
            return "no step uses a model"
        case "assisted":
            return f"{plural(len(models), 'model call')} at fixed places and no agent: nothing chooses its own steps"
        case "agent":
            return f"one agent with {_equipped(graph, agents[0])}: a dispatcher is not needed"
        case "ensemble":
            return f"{len(agents)} agents at fixed places ({joined([f'‘{a.title}’' for a in agents])}): nothing chooses between them"
    leading = [a for a in agents if any(t.kind == "agent" for t in graph.attached.get(a.id, []))]
    if leading:
        parts = []
        for agent in leading:
            tools = [t for t in graph.attached[agent.id] if t.kind == "agent"]
            parts.append(f"‘{agent.title}’ chooses between {joined([f'‘{t.title}’' for t in tools])}" if len(tools) > 1
                         else f"‘{agent.title}’ may hand over to ‘{tools[0].title}’")  # fmt: skip
        return "; ".join(parts)
    ids = {a.id for a in agents}
    for step in steps:
        if step.kind == "decide":
            chosen = [graph.names[k.target] for k in graph.flow.links if k.source == step.id and k.target in ids]
            if len(chosen) > 1:
                return f"the decision ‘{step.title}’ chooses between the agents {joined([f'‘{c}’' for c in chosen])}"
    return "an agent chooses which other agent goes on"


def _equipped(graph: Graph, agent: Step) -> str:
    helpers = graph.attached.get(agent.id, [])
    tools = sum(h.kind not in NOT_TOOLS for h in helpers)
    memories = sum(h.kind == "memory" for h in helpers)
    return f"{plural(tools, 'tool') if tools else 'no tools'} and {'a memory' if memories else 'no memory'}"
