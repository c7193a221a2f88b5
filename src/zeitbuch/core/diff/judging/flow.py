# The flow itself: name, state, owners, triggers, connections, variables.
"""Changes of a flow's own settings and triggers."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.phrases import quoted
from zeitbuch.core.model.records import Connection, Trigger
from zeitbuch.core.model.words import schedule_words, trigger_words

from .inputs import judge_inputs
from .pairing import FlowPairing, brief

_FIELDS = (
    ("name", "flow renamed", "the flow"),
    ("state", "state", "the flow"),
    ("description", "description", "the flow"),
    ("folder", "flow moved", "the flow's folder"),
    ("environment", "environment", "the flow"),
)


def judge_flow(pair: FlowPairing) -> None:
    """The flow's own fields."""
    old, new = pair.old, pair.new
    at = (old.origin, new.origin)
    for field, kind, where in _FIELDS:
        a, b = getattr(old, field), getattr(new, field)
        if a != b:
            edits = (Edit("set", "flow", "", field, a, b),)
            pair.texts(kind, where, a or "none", b or "none", edits, at)
    if old.owners != new.owners:
        edits = (Edit("set", "flow", "", "owners", old.owners, new.owners),)
        pair.add("owner", "the flow", ", ".join(old.owners) or "none", ", ".join(new.owners) or "none", edits, at)
    _connections(pair)


def _connections(pair: FlowPairing) -> None:
    before, after = {c.id: c for c in pair.old.connections}, {c.id: c for c in pair.new.connections}
    at = (pair.old.origin, pair.new.origin)
    for key in [*before, *(k for k in after if k not in before)]:
        a, b = before.get(key), after.get(key)
        if a == b:
            continue
        if a is None or b is None:
            edit = Edit("add" if a is None else "remove", "connection", key, "", a, b)
            pair.add("connection", "the flow", account(a), account(b), (edit,), at)
            continue
        edits = tuple(
            Edit("set", "connection", key, f, getattr(a, f), getattr(b, f))
            for f in a.__struct_fields__
            if getattr(a, f) != getattr(b, f)
        )
        kind = "connection"
        x, y = account(a), account(b)
        if x == y:
            x, y = brief(a.unread), brief(b.unread)
            kind = "secret" if "secret:" in x and "secret:" in y else "unread content"
        pair.add(kind, f"connection {quoted(b.name or b.id)}", x, y, edits, at)


def account(c: Connection | None) -> str:
    """A connection in words."""
    if c is None:
        return "none"
    about = f"{c.service} {c.account}".strip()
    return f"{c.name or c.id} ({about})" if about else c.name or c.id


def judge_triggers(pair: FlowPairing) -> None:
    """Triggers that came, went or changed."""
    before, after = {t.id: t for t in pair.old.triggers}, {t.id: t for t in pair.new.triggers}
    known = {p.new for p in pair.matching.triggers}
    for key, gone in before.items():
        if key not in known or key not in after:
            edit = Edit("remove", "trigger", key, "", gone)
            where = quoted(gone.name) if gone.name else "the flow"
            pair.add("trigger removed", where, trigger_words(gone), "none", (edit,), (gone.origin, None), step=key)
    for key, come in after.items():
        old = before.get(key) if key in known else None
        if old is None:
            edit = Edit("add", "trigger", key, "", None, come)
            where = quoted(come.name) if come.name else "the flow"
            pair.add("trigger added", where, "none", trigger_words(come), (edit,), (None, come.origin), step=key)
        else:
            _trigger(pair, old, come)


def _trigger(pair: FlowPairing, a: Trigger, b: Trigger) -> None:
    where, at = f"trigger {quoted(b.name)}" if b.name else "the trigger", (a.origin, b.origin)

    def edits(*fields: str) -> tuple[Edit, ...]:
        return tuple(
            Edit("set", "trigger", b.id, f, getattr(a, f), getattr(b, f))
            for f in fields
            if getattr(a, f) != getattr(b, f)
        )

    what = edits("kind", "event", "enabled")
    if a.kind != b.kind:
        what += edits("schedule")
    if what:
        pair.add("trigger", where, _bare(a), _bare(b), what, at, step=b.id)
    if a.schedule != b.schedule and a.kind == b.kind:
        x, y = (schedule_words(t.schedule) if t.schedule else "at times not stated" for t in (a, b))
        if x == y and a.schedule is not None and b.schedule is not None:
            x, y = str(structs.asdict(a.schedule)), str(structs.asdict(b.schedule))
        pair.add("schedule", where, x, y, edits("schedule"), at, step=b.id)
    if a.condition != b.condition:
        pair.texts(
            "trigger condition", where, a.condition or "none", b.condition or "none", edits("condition"), at, step=b.id
        )
    if a.batch != b.batch:
        x, y = (f"up to {t.batch} at a time" if t.batch else "no limit stated" for t in (a, b))
        pair.add("batch", where, x, y, edits("batch"), at, step=b.id)
    if a.name != b.name:
        pair.add("trigger renamed", where, a.name or "none", b.name or "none", edits("name"), at, step=b.id)
    if a.connection != b.connection:
        pair.add(
            "connection", where, a.connection or "none", b.connection or "none", edits("connection"), at, step=b.id
        )
    if a.operation != b.operation:
        pair.add("other setting", f"{where} (operation)", a.operation, b.operation, edits("operation"), at, step=b.id)
    judge_inputs(pair, "trigger", b.id, where, a.inputs, b.inputs, at)
    if a.unread != b.unread:
        pair.add("unread content", where, brief(a.unread), brief(b.unread), edits("unread"), at, step=b.id)


def _bare(trigger: Trigger) -> str:
    """A trigger in words without what has a type of its own."""
    return trigger_words(structs.replace(trigger, condition="", batch=None))


def judge_variables(pair: FlowPairing) -> None:
    """Named values of the flow, and what was not understood."""
    before, after = {v.name: v for v in pair.old.variables}, {v.name: v for v in pair.new.variables}
    at = (pair.old.origin, pair.new.origin)
    for name in [*before, *(k for k in after if k not in before)]:
        a, b = before.get(name), after.get(name)
        if a == b:
            continue
        op = "add" if a is None else "remove" if b is None else "set"
        if a is not None and b is not None:
            edits = tuple(
                Edit("set", "variable", name, f, getattr(a, f), getattr(b, f))
                for f in ("value", "description")
                if getattr(a, f) != getattr(b, f)
            )
            if a.value == b.value:
                pair.add("variable", f"variable {name} (description)", a.description, b.description, edits, at)
                continue
        else:
            edits = (Edit(op, "variable", name, "", a, b),)  # type: ignore[arg-type]
        x = phrases.shown(a.value, (), {}) if a else "none"
        y = phrases.shown(b.value, (), {}) if b else "none"
        pair.texts("variable", f"variable {name}", x, y, edits, at)
    if pair.old.unread != pair.new.unread:
        edits = (Edit("set", "flow", "", "unread", pair.old.unread, pair.new.unread),)
        pair.add("unread content", "the flow", brief(pair.old.unread), brief(pair.new.unread), edits, at)
