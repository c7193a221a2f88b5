# The new version without one of its changes. A setting takes its old value; a step that came is taken out and the way
# closed behind it; one that went or moved is put back where it stood among what is still there.
"""One change taken back."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import structs

from zeitbuch.core.model.records import Flow, Link, Step

from .edits import Edit, apply, inverse
from .records import Change


def without(old: Flow, new: Flow, change: Change) -> Flow | None:
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
    return apply(new, [inverse(e) for e in reversed(change.edits)])


def taken_out(flow: Flow, step_id: str, closing: list[Link] | None = None) -> Flow:
    """The flow without a step: what led to it leads to what it led to, or the gap is closed by the links given. What stood
    in it stands where it stood; helpers of an agent go with it."""
    step = flow.step(step_id)
    if step is None:
        return flow
    before = [k for k in flow.links if k.target == step_id and k.role != "attach" and k.source != step_id]
    after = [k for k in flow.links if k.source == step_id and k.role not in ("attach", "error") and k.target != step_id]
    helpers = {k.source for k in flow.links if k.target == step_id and k.role == "attach"}
    helpers -= {k.source for k in flow.links if k.source in helpers and k.target != step_id}
    inside = {s.id for s in flow.steps if s.scope == step_id}
    links = [k for k in flow.links if step_id not in (k.source, k.target) and k.source not in helpers]
    there = {(k.source, k.target) for k in links}
    links += closing or []
    for a in before if closing is None else ():
        for b in after:
            if b.target not in inside and a.source != b.target and (a.source, b.target) not in there:
                links.append(structs.replace(a, target=b.target))
                there.add((a.source, b.target))
    steps = [
        structs.replace(s, scope=step.scope) if s.scope == step_id else s
        for s in flow.steps
        if s.id != step_id and s.id not in helpers
    ]
    return structs.replace(flow, steps=tuple(steps), links=tuple(links))


def _not_added(new: Flow, change: Change) -> Flow:
    fresh = {e.id for e in change.edits if e.part == "step"}
    bridges = [e for e in change.edits if e.part == "link" and e.op == "remove" and not fresh & _ends(e)]
    after = [e.new for e in change.edits if e.part == "link" and e.op == "add" and e.new.source == change.step]
    known = {s.id for s in new.steps} | {t.id for t in new.triggers}
    closes = {e.old.target for e in bridges}
    if bridges and all(k.target in closes for k in after if k.role not in ("attach", "error")):
        # The links that it was put between are known: they come back as they were.
        return taken_out(new, change.step, [e.old for e in bridges if e.old.source in known and e.old.target in known])
    return taken_out(new, change.step)


def _ends(edit: Edit) -> set[str]:
    link: Link = edit.old or edit.new
    return {link.source, link.target}


def put_back(old: Flow, new: Flow, step_id: str, settings: Step | None = None) -> Flow:
    """The new version with a step where it stood in the old one; its own ``settings`` when they are not the old ones."""
    step = old.step(step_id)
    if step is None:
        return new
    there = {s.id for s in new.steps} | {t.id for t in new.triggers}
    reduced = old
    for other in old.steps:
        if other.id not in there and other.id != step_id:
            reduced = taken_out(reduced, other.id)
    own = [k for k in reduced.links if step_id in (k.source, k.target)]
    own = [k for k in own if {k.source, k.target} - {step_id} <= there]
    stood = {(k.source, k.target) for k in reduced.links}
    before = {k.source for k in own if k.target == step_id and k.role != "attach"}
    after = {k.target for k in own if k.source == step_id and k.role != "attach"}
    kept = [k for k in new.links if not _bridge(k, before, after, stood)]
    back = settings if settings is not None else step
    back = structs.replace(back, scope=step.scope if step.scope in there else None)
    return structs.replace(new, steps=(*new.steps, back), links=(*kept, *own))


def _bridge(link: Link, before: Iterable[str], after: Iterable[str], stood: set[tuple[str, str]]) -> bool:
    return link.source in before and link.target in after and (link.source, link.target) not in stood
