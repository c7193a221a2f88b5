# Cycles among the steps of a flow: one with a way out is told, one without is a fault.
"""Cycles of a flow as problems."""

from __future__ import annotations

from zeitbuch.core.model.problems import Problem, Severity
from zeitbuch.core.model.records import Flow, Link, Step

from .components import components


def is_acyclic(steps: tuple[Step, ...], links: tuple[Link, ...]) -> bool:
    """Kahn's test; cheap, so that the full search runs only where there is a cycle."""
    count = {s.id: 0 for s in steps}
    out: dict[str, list[str]] = {}
    for link in links:
        if link.source in count and link.target in count:
            count[link.target] += 1
            out.setdefault(link.source, []).append(link.target)
    ready = [s for s, n in count.items() if n == 0]
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
    problems: list[Problem] = []
    ids = {s.id for s in flow.steps}
    links = [k for k in flow.links if k.role != "attach" and k.source in ids and k.target in ids]
    by_id = {s.id: s for s in flow.steps}
    for group in components(ids, [(k.source, k.target) for k in links]):
        inside = set(group)
        turning = len(group) > 1 or any(k.source == k.target == group[0] for k in links)
        if not turning:
            continue
        leaves = any(k.source in inside and k.target not in inside for k in links)
        choice = any(k.source in inside and k.role in ("case", "error") for k in links)
        around = [s.id for s in flow.steps if s.id in inside]
        names = " -> ".join(by_id[i].title for i in [*around, around[0]])
        if leaves or choice:
            severity: Severity = "info"
            message = f"the steps go round in a cycle that has a way out: {names}"
            hint = "an estimate follows it for at most 100 rounds"
        else:
            severity = "error"
            message = f"expected a way out of every cycle, found none: {names}"
            hint = "a run would never end; add a decision that leaves the cycle, or mend the link"
        problems.append(Problem("cycle", severity, message, by_id[around[0]].origin, hint))
    return problems
