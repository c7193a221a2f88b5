# What every reader's result must satisfy before anything is computed from it: unique ids, links with two ends,
# scopes that contain, cycles that can end. Faults are mended in the mildest way and reported.
"""Checks and mends a flow as read: duplicates, dangling ends, endless cycles."""

from __future__ import annotations

from typing import Any

from msgspec import structs

from .problems import Problem
from .records import Content, Flow, Link, Origin, Step


def _rename_repeated_ids(flow: Flow, problems: list[Problem]) -> Flow:
    """Renames the later of two steps with one id. Links go on to mean the first."""
    seen: set[str] = {trigger.id for trigger in flow.triggers}
    steps: list[Step] = []
    for step in flow.steps:
        new = step.id
        if not new or new in seen:
            base, number = new or "step", 2
            while f"{base}~{number}" in seen:
                number += 1
            new = f"{base}~{number}"
            message = f"expected step ids that occur once, found '{step.id}' again"
            problems.append(
                Problem("step-id", "finding", message, step.origin, f"read as '{new}'; links still mean the first")
            )
            step = structs.replace(step, id=new)
        seen.add(new)
        steps.append(step)
    return structs.replace(flow, steps=tuple(steps))


def _mend_scopes(flow: Flow, problems: list[Problem]) -> Flow:
    """Takes steps out of scopes that do not exist or contain themselves."""
    by_id = {step.id: step for step in flow.steps}
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
                        "finding",
                        f"expected a scope that contains step '{at.id}', found {found}",
                        at.origin,
                        "the step is read as standing outside any scope",
                    )
                )
                bad.add(at.id)
                break
            seen.add(at.scope)
            at = by_id[at.scope]
    steps = tuple(
        structs.replace(step, scope=None, unread={**step.unread, "scope": step.scope}) if step.id in bad else step
        for step in flow.steps
    )
    return structs.replace(flow, steps=steps, content=_with_unread(flow.content, len(bad)))


def _with_unread(content: Content, more: int) -> Content:
    """The count of values with some more that were not understood."""
    return structs.replace(content, unread=min(content.values, content.unread + more))


def _drop_loose_links(flow: Flow, problems: list[Problem]) -> Flow:
    known = {step.id for step in flow.steps} | {trigger.id for trigger in flow.triggers}
    kept: list[Link] = []
    dropped: list[dict[str, Any]] = []
    for link in flow.links:
        missing = [name for name in (link.source, link.target) if name not in known]
        if missing:
            problems.append(
                Problem(
                    "link-end",
                    "finding",
                    f"expected a link between known steps, found {' and '.join(map(repr, missing))}",
                    link.origin,
                    "the link is left out and listed under unread parts; mend it in the builder and export again",
                )
            )
            dropped.append(_said_of_link(link))
        else:
            kept.append(link)
    unread = {**flow.unread, "links to nowhere": dropped}
    return structs.replace(flow, links=tuple(kept), unread=unread, content=_with_unread(flow.content, len(dropped)))


def _said_of_link(link: Link) -> dict[str, Any]:
    said = {
        "from": link.source,
        "to": link.target,
        "label": link.label,
        "condition": link.condition,
        "outlet": link.outlet,
    }
    return {key: value for key, value in said.items() if value}


def in_plain_order(flow: Flow) -> bool:
    """A quick look that settles most flows, which need neither mending nor a search for cycles: ids once, no scopes, every link from an earlier step to a later one."""
    place = dict.fromkeys([trigger.id for trigger in flow.triggers], -1)
    place.update([(step.id, index) for index, step in enumerate(flow.steps)])
    if len(place) != len(flow.triggers) + len(flow.steps) or "" in place:
        return False
    if any([step.scope is not None for step in flow.steps]):
        return False
    get = place.get
    return all([get(link.source, 1 << 60) < get(link.target, -1) for link in flow.links])


def mend_flow(flow: Flow) -> tuple[Flow, list[Problem]]:
    """The flow with faults mended, and a problem for each of them."""
    problems: list[Problem] = []
    ids = {step.id for step in flow.steps}
    if (
        len(ids) + len(flow.triggers) != len(ids | {trigger.id for trigger in flow.triggers})
        or len(ids) != len(flow.steps)
        or "" in ids
    ):
        flow = _rename_repeated_ids(flow, problems)
    if any(step.scope is not None for step in flow.steps):
        flow = _mend_scopes(flow, problems)
    known = {step.id for step in flow.steps}
    known.update(trigger.id for trigger in flow.triggers)
    if any(link.source not in known or link.target not in known for link in flow.links):
        flow = _drop_loose_links(flow, problems)
    return flow, problems


def no_trigger(flow_title: str, origin: Origin | None) -> Problem:
    """The problem of a flow that nothing sets off."""
    return Problem(
        "no-trigger",
        "finding",
        f"expected a trigger of flow '{flow_title}' or a flow that calls it, found neither",
        origin,
        "if it is started by hand, give it a manual trigger; else a rule for its trigger may be missing in the dialect",
    )
