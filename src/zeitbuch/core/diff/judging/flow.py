# The flow itself: name, state, owners, triggers, connections, variables.
"""Changes of a flow's own settings and triggers."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import structs

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.facts import FLOW_FACTS, TRIGGER_FACTS
from zeitbuch.core.model.records import Connection, Flow, Link, Origin, Trigger
from zeitbuch.core.model.words import join_words, schedule_words, trigger_words

from .inputs import judge_inputs
from .pairing import FlowPairing, brief_value

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
    entry = (old.origin, new.origin)
    for field, kind, where in _FIELDS:
        first, second = getattr(old, field), getattr(new, field)
        if first != second:
            edits = (Edit("set", "flow", "", field, first, second),)
            pair.add_text_change(kind, where, first or "none", second or "none", edits, entry)
    if old.owners != new.owners:
        edits = (Edit("set", "flow", "", "owners", old.owners, new.owners),)
        pair.add_change(
            "owner", "the flow", ", ".join(old.owners) or "none", ", ".join(new.owners) or "none", edits, entry
        )
    for row in FLOW_FACTS:
        first, second = getattr(old, row.field), getattr(new, row.field)
        if first != second:
            edits = (Edit("set", "flow", "", row.field, first, second),)
            was, now = (row.words(flow, {}) or "not stated" for flow in (old, new))
            pair.add_text_change(row.change, "the flow", was, now, edits, entry)
    _judge_connections(pair)


def _judge_connections(pair: FlowPairing) -> None:
    before, after = (
        {connection.id: connection for connection in pair.old.connections},
        {connection.id: connection for connection in pair.new.connections},
    )
    entry = (pair.old.origin, pair.new.origin)
    for key in [*before, *(key for key in after if key not in before)]:
        first, second = before.get(key), after.get(key)
        if first == second:
            continue
        if first is None or second is None:
            edit = Edit("add" if first is None else "remove", "connection", key, "", first, second)
            pair.add_change("connection", "the flow", connection_words(first), connection_words(second), (edit,), entry)
            continue
        edits = tuple(
            Edit("set", "connection", key, name, getattr(first, name), getattr(second, name))
            for name in first.__struct_fields__
            if getattr(first, name) != getattr(second, name)
        )
        kind = "connection"
        text, second_text = connection_words(first), connection_words(second)
        if text == second_text:
            text, second_text = brief_value(first.unread), brief_value(second.unread)
            kind = "unread content"
        pair.add_change(kind, f"connection {quote_name(second.name or second.id)}", text, second_text, edits, entry)


def connection_words(c: Connection | None) -> str:
    """A connection in words."""
    if c is None:
        return "none"
    about = f"{c.service} {c.account}".strip()
    return f"{c.name or c.id} ({about})" if about else c.name or c.id


def judge_triggers(pair: FlowPairing) -> None:
    """Triggers that came, went or changed."""
    before, after = (
        {trigger.id: trigger for trigger in pair.old.triggers},
        {trigger.id: trigger for trigger in pair.new.triggers},
    )
    known = {p.new for p in pair.matching.triggers}
    for key, gone in before.items():
        if key not in known or key not in after:
            edit = Edit("remove", "trigger", key, "", gone)
            where = quote_name(gone.name) if gone.name else "the flow"
            taken = _links_of(pair.old, key)
            pair.add_change(
                "trigger removed",
                where,
                trigger_words(gone),
                "none",
                (edit, *[Edit("remove", "link", "", "", link) for link in taken]),
                (gone.origin, None),
                step=key,
            )
    for key, come in after.items():
        old = before.get(key) if key in known else None
        if old is None:
            edit = Edit("add", "trigger", key, "", None, come)
            where = quote_name(come.name) if come.name else "the flow"
            brought = _links_of(pair.new, key)
            starts = [quote_name(pair.new_names.get(link.target, link.target)) for link in brought]
            pair.add_change(
                "trigger added", where, "none", trigger_words(come),
                (edit, *[Edit("add", "link", "", "", None, link) for link in brought]), (None, come.origin),
                remarks=(f"begins with {join_words(starts)}",) if starts else (), step=key,
            )  # fmt: skip
        else:
            _judge_trigger(pair, old, come)


def _links_of(flow: Flow, trigger: str) -> list[Link]:
    """The arrows of a trigger: they come and go with it."""
    return [link for link in flow.links if link.source == trigger]


def _judge_trigger(pair: FlowPairing, a: Trigger, b: Trigger) -> None:
    where, entry = f"trigger {quote_name(b.name)}" if b.name else "the trigger", (a.origin, b.origin)

    def edits(*fields: str) -> tuple[Edit, ...]:
        return tuple(
            Edit("set", "trigger", b.id, name, getattr(a, name), getattr(b, name))
            for name in fields
            if getattr(a, name) != getattr(b, name)
        )

    what = edits("kind", "event", "enabled")
    if a.kind != b.kind:
        what += edits("schedule")
    if what:
        pair.add_change("trigger", where, _bare_trigger_words(a), _bare_trigger_words(b), what, entry, step=b.id)
    _judge_schedule(pair, a, b, where, edits, entry)
    _judge_details(pair, a, b, where, edits, entry)
    judge_inputs(pair, "trigger", b.id, where, a.inputs, b.inputs, entry)
    if a.unread != b.unread:
        pair.add_change(
            "unread content", where, brief_value(a.unread), brief_value(b.unread), edits("unread"), entry, step=b.id
        )


def _judge_schedule(
    pair: FlowPairing,
    a: Trigger,
    b: Trigger,
    where: str,
    edits: Callable[[str], tuple[Edit, ...]],
    entry: tuple[Origin | None, Origin | None],
) -> None:
    if a.schedule != b.schedule and a.kind == b.kind:
        text, second_text = (
            schedule_words(trigger.schedule) if trigger.schedule else "at times not stated" for trigger in (a, b)
        )
        if text == second_text and a.schedule is not None and b.schedule is not None:
            text, second_text = str(structs.asdict(a.schedule)), str(structs.asdict(b.schedule))
        pair.add_change("schedule", where, text, second_text, edits("schedule"), entry, step=b.id)


def _judge_details(
    pair: FlowPairing,
    a: Trigger,
    b: Trigger,
    where: str,
    edits: Callable[[str], tuple[Edit, ...]],
    entry: tuple[Origin | None, Origin | None],
) -> None:
    if a.condition != b.condition:
        pair.add_text_change(
            "trigger condition",
            where,
            a.condition or "none",
            b.condition or "none",
            edits("condition"),
            entry,
            step=b.id,
        )
    if a.batch != b.batch:
        text, second_text = (
            f"up to {trigger.batch} at a time" if trigger.batch else "no limit stated" for trigger in (a, b)
        )
        pair.add_change("batch", where, text, second_text, edits("batch"), entry, step=b.id)
    for row in TRIGGER_FACTS:
        if getattr(a, row.field) != getattr(b, row.field):
            was, now = (row.words(trigger, {}) or "not stated" for trigger in (a, b))
            pair.add_change(row.change, where, was, now, edits(row.field), entry, step=b.id)
    if a.name != b.name:
        pair.add_change("trigger renamed", where, a.name or "none", b.name or "none", edits("name"), entry, step=b.id)
    if a.connection != b.connection:
        pair.add_change(
            "connection", where, a.connection or "none", b.connection or "none", edits("connection"), entry, step=b.id
        )
    if a.operation != b.operation:
        pair.add_change(
            "other setting", f"{where} (operation)", a.operation, b.operation, edits("operation"), entry, step=b.id
        )


def _bare_trigger_words(trigger: Trigger) -> str:
    """A trigger in words without what has a type of its own."""
    return trigger_words(structs.replace(trigger, condition="", batch=None, authentication=""))


def judge_variables(pair: FlowPairing) -> None:
    """Named values of the flow, and what was not understood."""
    before, after = (
        {variable.name: variable for variable in pair.old.variables},
        {variable.name: variable for variable in pair.new.variables},
    )
    entry = (pair.old.origin, pair.new.origin)
    for name in [*before, *(key for key in after if key not in before)]:
        first, second = before.get(name), after.get(name)
        if first == second:
            continue
        op = "add" if first is None else "remove" if second is None else "set"
        if first is not None and second is not None:
            edits = tuple(
                Edit("set", "variable", name, field, getattr(first, field), getattr(second, field))
                for field in ("value", "description")
                if getattr(first, field) != getattr(second, field)
            )
            if first.value == second.value:
                pair.add_change(
                    "variable", f"variable {name} (description)", first.description, second.description, edits, entry
                )
                continue
        else:
            edits = (Edit(op, "variable", name, "", first, second),)  # type: ignore[arg-type]
        text = phrases.value_words(first.value, (), {}) if first else "none"
        second_text = phrases.value_words(second.value, (), {}) if second else "none"
        pair.add_text_change("variable", f"variable {name}", text, second_text, edits, entry)
    if pair.old.unread != pair.new.unread:
        edits = (Edit("set", "flow", "", "unread", pair.old.unread, pair.new.unread),)
        pair.add_change(
            "unread content", "the flow", brief_value(pair.old.unread), brief_value(pair.new.unread), edits, entry
        )
