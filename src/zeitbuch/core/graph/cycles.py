# Cycles among the steps of a flow: one with a way out is told, one without is a fault.
"""Cycles of a flow as problems."""

from __future__ import annotations

from zeitbuch.core.model.problems import Problem, Severity
from zeitbuch.core.model.records import Flow, Link, Step

from .components import components


def is_acyclic(steps: tuple[Step, ...], links: tuple[Link, ...]) -> bool:
    """Kahn's test; cheap, so that the full search runs only where there is a cycle."""
    count = {step.id: 0 for step in steps}
    out: dict[str, list[str]] = {}
    for link in links:
        if link.source in count and link.target in count:
            count[link.target] += 1
            out.setdefault(link.source, []).append(link.target)
    ready = [text for text, number in count.items() if number == 0]
    done = 0
    while ready:
        done += 1
        for target in out.get(ready.pop(), ()):
            count[target] -= 1
            if count[target] == 0:
                ready.append(target)
    return done == len(count)


def cycle_problems(flow: Flow) -> list[Problem]:
    """One problem a cycle: information where it has a way out, an error where a run would never end."""
    if is_acyclic(flow.steps, flow.links):
        return []
    ids = {step.id for step in flow.steps}
    links = [link for link in flow.links if link.role != "attach" and link.source in ids and link.target in ids]
    to_itself = {link.source for link in links if link.source == link.target}
    groups = components(ids, [(link.source, link.target) for link in links])
    return [_cycle_problem(flow, set(group), links) for group in groups if len(group) > 1 or group[0] in to_itself]


def _cycle_problem(flow: Flow, inside: set[str], links: list[Link]) -> Problem:
    around = [step for step in flow.steps if step.id in inside]
    names = " -> ".join(step.title for step in [*around, around[0]])
    leaving = [link for link in links if link.source in inside]
    if any(link.target not in inside or link.role in ("case", "error") for link in leaving):
        severity: Severity = "info"
        message = f"the steps go round in a cycle that has a way out: {names}"
        hint = "an estimate follows it for at most 100 rounds"
    else:
        severity = "finding"
        message = f"expected a way out of every cycle, found none: {names}"
        hint = "a run would never end; add a decision that leaves the cycle, or mend the link"
    return Problem("cycle", severity, message, around[0].origin, hint)
