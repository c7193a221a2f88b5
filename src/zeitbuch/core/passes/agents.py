# An agent takes turns and calls its tools in between: how many, and which, no export says.
"""Turns of agents, and the shares of their tools."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import TURNS_HIGH, TURNS_LIKELY, TURNS_LOW
from zeitbuch.core.assumptions.uncertain import most
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.model.records import Step

from .ranged import capped


def turns_of(step: Step, lookup: AssumptionLookup, tools: int) -> Value:
    """An agent's turns, never above the step's own cap. Without a declared value: low 1, likely 3, high the cap (or 10)."""
    cap = step.model.max_turns if step.model is not None else None
    found = lookup.find("turns", (step.id, step.name))
    if found is not None:
        return capped(found, cap, f"at most the {cap} of the step's own cap") if cap else found
    if not tools:
        return Value(1.0, "export", "an agent without tools answers at once")
    high = float(cap) if cap else TURNS_HIGH
    low, likely = min(TURNS_LOW, high), min(TURNS_LIKELY, high)
    words = f"default: {low:g} to {high:g} turns, likely {likely:g}"
    found = lookup.default_of("turns", Value((low + 4 * likely + high) / 6, "default", words, low, high))
    return capped(found, cap, words) if cap else found


def shares_of_tools(agent: Step, tools: Sequence[Step], lookup: AssumptionLookup) -> list[Value]:
    """Which share of an agent's tool calls goes to each of its tools; those of which nothing is said share the rest."""
    found = {tool.id: value for tool in tools if (value := lookup.find("tool_share", (tool.id, tool.name))) is not None}
    total = sum([value.amount for value in found.values()])
    whole = total if len(found) == len(tools) and total else most(1.0, total)
    missing = [tool for tool in tools if tool.id not in found]
    left = most(0.0, 1 - total / whole)

    def names() -> list[str]:
        return [f"share of the calls of ‘{tool.title}’ by ‘{agent.title}’" for tool in missing]

    parts = iter(lookup.equal_parts(f"tools {agent.id}", len(missing), left, names) if missing else [])
    words = "tools in equal parts"
    return [
        structs.replace(found[tool.id], amount=found[tool.id].amount / whole)
        if tool.id in found
        else Value(next(parts), "export" if len(tools) == 1 else "default", words)
        for tool in tools
    ]
