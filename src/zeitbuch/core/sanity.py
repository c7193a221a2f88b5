# What every reader's result must satisfy before anything is computed from it: unique ids, links with two ends,
# scopes that contain, cycles that can end. Faults are mended in the mildest way and reported.
"""Checks and mends a flow as read: duplicates, dangling ends, endless cycles."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import structs

from .model import Flow, Link, Origin, Step
from .problems import Problem, Severity


def components(nodes: Iterable[str], edges: Iterable[tuple[str, str]]) -> list[list[str]]:
    """Strongly connected components in reverse topological order (Tarjan 1972, without recursion)."""
    out: dict[str, list[str]] = {n: [] for n in nodes}
    for a, b in edges:
        out[a].append(b)
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    on: set[str] = set()
    found: list[list[str]] = []
    for root in out:
        if root in index:
            continue
        work = [(root, iter(out[root]))]
        index[root] = low[root] = len(index)
        stack.append(root)
        on.add(root)
        while work:
            node, rest = work[-1]
            for other in rest:
                if other not in index:
                    index[other] = low[other] = len(index)
                    stack.append(other)
                    on.add(other)
                    work.append((other, iter(out[other])))
                    break
                if other in on:
                    low[node] = min(low[node], index[other])
            else:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[node])
                if low[node] == index[node]:
                    group = []
                    while True:
                        top = stack.pop()
                        on.discard(top)
                        group.append(top)
                        if top == node:
                            break
                    found.append(group)
    return found


def _acyclic(steps: tuple[Step, ...], links: tuple[Link, ...]) -> bool:
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


def _unique(flow: Flow, problems: list[Problem]) -> Flow:
    """Renames the later of two steps with one id. Links go on to mean the first."""
    seen: set[str] = {t.id for t in flow.triggers}
    steps: list[Step] = []
    for step in flow.steps:
        new = step.id
        if not new or new in seen:
            base, n = new or "step", 2
            while f"{base}~{n}" in seen:
                n += 1
            new = f"{base}~{n}"
            message = f"expected step ids that occur once, found '{step.id}' again"
            problems.append(
                Problem("step-id", "error", message, step.origin, f"read as '{new}'; links still mean the first")
            )
            step = structs.replace(step, id=new)
        seen.add(new)
        steps.append(step)
    return structs.replace(flow, steps=tuple(steps))


def _scopes(flow: Flow, problems: list[Problem]) -> Flow:
    """Takes steps out of scopes that do not exist or contain themselves."""
    by_id = {s.id: s for s in flow.steps}
    bad: set[str] = set()
    for step in flow.steps:
        seen = {step.id}
        at: Step | None = step
        while at is not None and at.scope is not None and at.id not in bad:
            if at.scope in seen or at.scope not in by_id:
                found = "itself" if at.scope in seen else f"'{at.scope}', which is no step"
                problems.append(
                    Problem(
                        "step-scope",
                        "error",
                        f"expected a scope that contains step '{at.id}', found {found}",
                        at.origin,
                        "the step is read as standing outside any scope",
                    )
                )
                bad.add(at.id)
                break
            seen.add(at.scope)
            at = by_id[at.scope]
    steps = tuple(structs.replace(s, scope=None) if s.id in bad else s for s in flow.steps)
    return structs.replace(flow, steps=steps)


def _links(flow: Flow, problems: list[Problem]) -> Flow:
    known = {s.id for s in flow.steps} | {t.id for t in flow.triggers}
    kept: list[Link] = []
    for link in flow.links:
        missing = [e for e in (link.source, link.target) if e not in known]
        if missing:
            problems.append(
                Problem(
                    "link-end",
                    "error",
                    f"expected a link between known steps, found {' and '.join(map(repr, missing))}",
                    link.origin,
                    "the link is left out; mend it in the builder and export again",
                )
            )
        else:
            kept.append(link)
    return structs.replace(flow, links=tuple(kept))


def _cycles(flow: Flow, problems: list[Problem]) -> None:
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


def _plain(flow: Flow) -> bool:
    """A quick look that settles most flows: ids once, no scopes, every link from an earlier step to a later one."""
    place = dict.fromkeys([t.id for t in flow.triggers], -1)
    place.update([(s.id, i) for i, s in enumerate(flow.steps)])
    if len(place) != len(flow.triggers) + len(flow.steps) or "" in place:
        return False
    if any([s.scope is not None for s in flow.steps]):
        return False
    get = place.get
    return all([get(k.source, 1 << 60) < get(k.target, -1) for k in flow.links])


def mended(flow: Flow) -> tuple[Flow, list[Problem]]:
    """The flow with faults mended, and a problem for each of them."""
    if _plain(flow):
        return flow, []
    problems: list[Problem] = []
    ids = {s.id for s in flow.steps}
    if (
        len(ids) + len(flow.triggers) != len(ids | {t.id for t in flow.triggers})
        or len(ids) != len(flow.steps)
        or "" in ids
    ):
        flow = _unique(flow, problems)
    if any(s.scope is not None for s in flow.steps):
        flow = _scopes(flow, problems)
    known = {s.id for s in flow.steps}
    known.update(t.id for t in flow.triggers)
    if any(k.source not in known or k.target not in known for k in flow.links):
        flow = _links(flow, problems)
    if not _acyclic(flow.steps, flow.links):
        _cycles(flow, problems)
    return flow, problems


def no_trigger(flow_title: str, origin: Origin | None) -> Problem:
    """The problem of a flow that nothing sets off."""
    return Problem(
        "no-trigger",
        "error",
        f"expected something that sets flow '{flow_title}' off, found no trigger and no flow that calls it",
        origin,
        "if it is started by hand, give it a manual trigger; else a rule for its trigger may be missing in the dialect",
    )
