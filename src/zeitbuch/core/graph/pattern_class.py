# Why a flow has its pattern class, in words: an owner wants to know whether a dispatcher or an agent is needed at all.
"""The reason for a flow's pattern class."""

from __future__ import annotations

from zeitbuch.core.model.kinds import NOT_TOOLS
from zeitbuch.core.model.outcomes import deciding_steps
from zeitbuch.core.model.records import Flow, PatternClass, Step
from zeitbuch.core.model.words import count_words, join_words

from .answers import models_deciding
from .topology import Graph

_NO_CHOICE = "nothing chooses its own steps"


def pattern_of(flow: Flow) -> PatternClass:
    """The pattern class of a flow: plain, assisted, agent, dispatcher or ensemble."""
    agents: set[str] = set()
    flag = False
    for step in flow.steps:
        kind = step.kind
        if kind == "agent":
            agents.add(step.id)
        elif kind == "model" or kind == "embed":
            flag = True
    if not agents:
        return "assisted" if flag else "plain"
    return _pattern_with_agents(flow, agents)


def _pattern_with_agents(flow: Flow, agents: set[str]) -> PatternClass:
    decisions = deciding_steps(flow)
    chosen: dict[str, set[str]] = {}
    for link in flow.links:
        if link.source in agents and link.role == "attach":
            return "dispatcher"
        if link.target in agents and link.source in decisions:
            chosen.setdefault(link.source, set()).add(link.target)
    if any(len(group) > 1 for group in chosen.values()):
        return "dispatcher"
    return "agent" if len(agents) == 1 else "ensemble"


def pattern_reason(graph: Graph) -> str:
    """The reason in one sentence without its full stop."""
    steps = [step for step in graph.in_order() if step.kind != "note"]
    agents = [step for step in steps if step.kind == "agent"]
    match pattern_of(graph.flow):
        case "plain":
            return _plain_words(steps)
        case "assisted":
            models = sum(step.kind in ("model", "embed") and step.id not in graph.host for step in steps)
            chosen = [step for step in steps if step.enabled and models_deciding(graph, step)]
            goes = "goes" if len(chosen) == 1 else "go"
            said = f"an answer decides which way {_quoted_list(chosen)} {goes}, and nothing else chooses its own steps"
            return f"{count_words(models, 'model call')} at fixed places and no agent: {said if chosen else _NO_CHOICE}"
        case "agent":
            return f"one agent with {_equipment_words(graph, agents[0])}: a dispatcher is not needed"
        case "ensemble":
            return f"{len(agents)} agents at fixed places ({_quoted_list(agents)}): nothing chooses between them"
    return _dispatching_agents(graph, agents) or _dispatching_decision(graph, steps, agents)


def _plain_words(steps: list[Step]) -> str:
    """That no model is used, as far as that is known: documents may be read by one, and what no rule classifies may use any."""
    reading = [step for step in steps if step.kind == "parse" and step.model is not None and step.model.name]
    unknown = [step for step in steps if step.kind == "other"]
    which = " that a rule classifies" if unknown else ""
    but = f" but {_quoted_list(reading)} (reading documents)" if reading else ""
    names = join_words([f"‘{one.title}’" for one in unknown], "or")
    return f"no step{which}{but} uses a model{f'; whether {names} does is not known' if unknown else ''}"


def _quoted_list(steps: list[Step]) -> str:
    return join_words([f"‘{step.title}’" for step in steps])


def _dispatching_agents(graph: Graph, agents: list[Step]) -> str:
    """Which agents hand over to which; empty when none has an agent among its tools."""
    parts = []
    for agent in agents:
        others = [step for step in graph.used_by(agent.id) if step.kind == "agent"]
        if len(others) > 1:
            parts.append(f"‘{agent.title}’ chooses between {_quoted_list(others)}")
        elif others:
            parts.append(f"‘{agent.title}’ may hand over to ‘{others[0].title}’")
    return "; ".join(parts)


def _dispatching_decision(graph: Graph, steps: list[Step], agents: list[Step]) -> str:
    """The decision whose cases lead to several agents."""
    ids = {agent.id for agent in agents}
    for step in steps:
        if step.id not in graph.deciding:
            continue
        chosen = [graph.steps[link.target] for link in graph.leaving.get(step.id, ()) if link.target in ids]
        if len(chosen) > 1:
            return f"the decision ‘{step.title}’ chooses between the agents {_quoted_list(chosen)}"
    return "an agent chooses which other agent goes on"


def _equipment_words(graph: Graph, agent: Step) -> str:
    helpers = [step for step in graph.used_by(agent.id) if step.enabled]
    tools = sum(step.kind not in NOT_TOOLS for step in helpers)
    memories = sum(step.kind == "memory" for step in helpers)
    return f"{count_words(tools, 'tool') if tools else 'no tools'} and {'a memory' if memories else 'no memory'}"
