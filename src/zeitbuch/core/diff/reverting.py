# The new version without one of its changes. A setting takes its old value; a step that came is taken out and the way
# closed behind it; one that went or moved is put back where it stood among what is still there.
"""One change taken back."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import structs

from zeitbuch.core.model.records import Flow, Link, Step

from .edits import Edit, apply_edits, inverse_edit
from .records import Change


def revert_change(old: Flow, new: Flow, change: Change) -> Flow | None:
    """The new version without one change; ``old`` with its ids spelled as in ``new``. None for a change without edits."""
    if not change.edits:
        return None
    first = change.edits[0]
    if change.type in ("step moved", "scope"):
        return put_back(old, taken_out(new, change.step), change.step, new.step(change.step))
    if change.type == "step added":
        return _not_added(new, change)
    if first.part == "step" and first.op == "remove" and not first.field:
        return put_back(old, new, change.step)
    return apply_edits(new, [inverse_edit(edit) for edit in reversed(change.edits)])


def taken_out(flow: Flow, step_id: str, closing: list[Link] | None = None) -> Flow:
    """The flow without a step: what led to it leads to what it led to, or the gap is closed by the links given. What stood
    in it stands where it stood; helpers of an agent go with it."""
    step = flow.step(step_id)
    if step is None:
        return flow
    before, after = _ways_through(flow, step_id)
    helpers = _own_helpers(flow, step_id)
    inside = {step.id for step in flow.steps if step.scope == step_id}
    links = [link for link in flow.links if step_id not in (link.source, link.target) and link.source not in helpers]
    there = {(link.source, link.target) for link in links}
    links += closing or []
    _close_gap(closing, before, after, inside, there, links)
    steps = [
        structs.replace(s, scope=step.scope) if s.scope == step_id else s
        for s in flow.steps
        if s.id != step_id and s.id not in helpers
    ]
    return structs.replace(flow, steps=tuple(steps), links=tuple(links))


def _ways_through(flow: Flow, step_id: str) -> tuple[list[Link], list[Link]]:
    """The links into a step and those out of it."""
    before = [
        link for link in flow.links if link.target == step_id and link.role != "attach" and link.source != step_id
    ]
    after = [
        link
        for link in flow.links
        if link.source == step_id and link.role not in ("attach", "error") and link.target != step_id
    ]
    return before, after


def _own_helpers(flow: Flow, step_id: str) -> set[str]:
    """Helpers that stand for this step only, and those of these helpers."""
    own = {step_id}
    while True:
        more = {link.source for link in flow.links if link.target in own and link.role == "attach"} - own
        more -= {link.source for link in flow.links if link.source in more and link.target not in own}
        if not more:
            return own - {step_id}
        own |= more


def _close_gap(
    closing: list[Link] | None,
    before: list[Link],
    after: list[Link],
    inside: set[str],
    there: set[tuple[str, str]],
    links: list[Link],
) -> None:
    """Links from what led to a step to what it led to, where there are none yet."""
    for first in before if closing is None else ():
        for second in after:
            if (
                second.target not in inside
                and first.source != second.target
                and (first.source, second.target) not in there
            ):
                links.append(structs.replace(first, target=second.target))
                there.add((first.source, second.target))


def _not_added(new: Flow, change: Change) -> Flow:
    fresh = {edit.id for edit in change.edits if edit.part == "step"}
    bridges, after = _links_around(change, fresh)
    known = {step.id for step in new.steps} | {trigger.id for trigger in new.triggers}
    closes = {edit.old.target for edit in bridges}
    if bridges and all(key.target in closes for key in after if key.role not in ("attach", "error")):
        # The links that it was put between are known: they come back as they were.
        return taken_out(
            new, change.step, [edit.old for edit in bridges if edit.old.source in known and edit.old.target in known]
        )
    return taken_out(new, change.step)


def _links_around(change: Change, fresh: set[str]) -> tuple[list[Edit], list[Any]]:
    bridges = [
        edit for edit in change.edits if edit.part == "link" and edit.op == "remove" and not fresh & _ends_of_edit(edit)
    ]
    after = [
        edit.new for edit in change.edits if edit.part == "link" and edit.op == "add" and edit.new.source == change.step
    ]
    return bridges, after


def _ends_of_edit(edit: Edit) -> set[str]:
    link: Link = edit.old or edit.new
    return {link.source, link.target}


def put_back(old: Flow, new: Flow, step_id: str, settings: Step | None = None) -> Flow:
    """The new version with a step where it stood in the old one; its own ``settings`` when they are not the old ones."""
    step = old.step(step_id)
    if step is None:
        return new
    there = {step.id for step in new.steps} | {trigger.id for trigger in new.triggers}
    reduced = _without_lost_steps(old, step_id, there)
    own = [link for link in reduced.links if step_id in (link.source, link.target)]
    own = [link for link in own if {link.source, link.target} - {step_id} <= there]
    kept = _links_kept(new, step_id, reduced, own)
    back = settings if settings is not None else step
    back = structs.replace(back, scope=step.scope if step.scope in there else None)
    return structs.replace(new, steps=(*new.steps, back), links=(*kept, *own))


def _without_lost_steps(old: Flow, step_id: str, there: set[str]) -> Flow:
    """The old version without the steps that the new one has not."""
    reduced = old
    for other in old.steps:
        if other.id not in there and other.id != step_id:
            reduced = taken_out(reduced, other.id)
    return reduced


def _links_kept(new: Flow, step_id: str, reduced: Flow, own: list[Link]) -> list[Link]:
    stood = {(link.source, link.target) for link in reduced.links}
    before = {link.source for link in own if link.target == step_id and link.role != "attach"}
    after = {link.target for link in own if link.source == step_id and link.role != "attach"}
    return [link for link in new.links if not _bridge_links(link, before, after, stood)]


def _bridge_links(link: Link, before: Iterable[str], after: Iterable[str], stood: set[tuple[str, str]]) -> bool:
    return link.source in before and link.target in after and (link.source, link.target) not in stood
