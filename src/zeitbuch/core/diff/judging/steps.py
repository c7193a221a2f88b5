# Steps: what came, what went, what is set otherwise. Every field of a step that carries meaning has its row or its branch
# here; a test goes through the fields of the model.
"""Changes of steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.canonical import same_step
from zeitbuch.core.model.facts import ITEM_FAULTS, STEP_FACTS
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.records import ModelUse, Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import join_words, span_words

from .inputs import judge_inputs
from .pairing import FlowPairing, Places, brief_value, plain_value
from .prompts import judge_prompts

RANK = {"none": 0, "read": 1, "write": 2, "send": 3, "delete": 4, "spend": 4}
_YIELDS = {"same": "as they come", "many": "each made into several", "one": "gathered into one"}
_MODEL_WORDS = {
    "modality": "modality", "task": "task", "temperature": "temperature", "max_output": "most output tokens",
    "max_turns": "most turns", "variable": "variable that names it",
}  # fmt: skip
# field, type of change, what is said behind the step's name, the value in words
_ROWS: tuple[tuple[str, str, str, Callable[[Any], Any]], ...] = (
    ("name", "step renamed", "", lambda s: s.name),
    ("kind", "kind", "", lambda s: KINDS[s.kind].words),
    ("operation", "other setting", "operation", lambda s: s.operation),
    ("enabled", "enabled", "", lambda s: "on" if s.enabled else "off"),
    ("calls", "called flow", "", lambda s: s.calls),
    ("inclusive", "condition", "cases that go on", lambda s: "any" if s.inclusive else "one"),
    ("retry", "retry", "", lambda s: retry_words(s)),
    ("on_fault", "on error", "", lambda s: s.on_fault),
    ("join", "join", "", lambda s: s.join),
    ("per_item", "loop", "runs", lambda s: "once an item" if s.per_item else "once a pass"),
    ("yields", "loop", "items that go on", lambda s: _YIELDS[s.yields]),
    ("ends", "condition", "what it ends", lambda s: "its branch" if s.ends == "branch" else "the run"),
    ("note", "note", "", lambda s: s.note),
)  # fmt: skip


def judge_steps(pair: FlowPairing) -> None:
    """Steps that went, came or changed; where they stand and how they are linked is judged with the links."""
    for step in pair.removed:
        kind = "approval removed" if step.kind == "approve" else "step removed"
        edit = Edit("remove", "step", step.id, "", step)
        where = quote_name(step.title) + place_words(pair.old, step, pair.old_names)
        pair.add_change(kind, where, pair.about_step(step), "", (edit,), (step.origin, None), step=step.id)
    for step in pair.added:
        edit = Edit("add", "step", step.id, "", None, step)
        where = quote_name(step.title) + place_words(pair.new, step, pair.new_names)
        pair.add_change(
            "step added", where, "", pair.about_step(step), (edit,), (None, step.origin),
            remarks=_step_contents(step, pair.new_names), step=step.id,
        )  # fmt: skip
    added = {step.id for step in pair.added}
    for step in pair.new.steps:
        old = pair.old_steps.get(step.id)
        if step.id not in added and old is not None:
            _judge_step(pair, old, step)


def _step_contents(step: Step, names: dict[str, str]) -> tuple[str, ...]:
    """What a new step is given, for a reader who has nothing else: inputs, prompts, condition."""
    said = [f"condition {replace_refs(step.condition, step.refs, names)}"] if step.condition else []
    said += [
        f"{second.name}: {brief_value(replace_refs(plain_value(second.value), second.refs, names))}"
        for second in step.inputs
    ]
    if step.model is not None:
        said += [
            f"{prompt.role} prompt: {brief_value(replace_refs(prompt.text, prompt.refs, names))}"
            for prompt in step.model.prompts
        ]
    return tuple(said)


def place_words(flow: Any, step: Step, names: dict[str, str]) -> str:
    """' after X, before Y', ' for agent X', ' in X': where a step stands."""
    for link in flow.links:
        if link.source == step.id and link.role == "attach":
            return f" for {quote_name(names.get(link.target, link.target))}"
    parts = _neighbour_words(flow, step, names)
    inside = f" in {quote_name(names.get(step.scope, step.scope))}" if step.scope else ""
    return (f" {', '.join(parts)}" if parts else "") + inside


def _neighbour_words(flow: Any, step: Step, names: dict[str, str]) -> list[str]:
    course = [key for key in flow.links if key.role != "attach"]
    before = [quote_name(names.get(key.source, key.source)) for key in course if key.target == step.id]
    after = [
        quote_name(names.get(key.target, key.target)) for key in course if key.source == step.id and key.role == "next"
    ]
    return [
        f"{word} {join_words(list(dict.fromkeys(items)))}"
        for word, items in (("after", before), ("before", after))
        if items
    ]


def retry_words(step: Step) -> str:
    """How often a step is tried again."""
    if step.retry is None:
        return "never tried again"
    wait = f", {span_words(step.retry.wait)} apart" if step.retry.wait else ""
    return f"tried again {step.retry.attempts}x{wait}"


def repeat_words(step: Step, names: dict[str, str]) -> str:
    """How a loop goes round."""
    repeat = step.repeat
    if repeat is None:
        return "none"
    words = (
        f"over {replace_refs(repeat.items, repeat.refs, names)}"
        if repeat.items
        else f"until {replace_refs(repeat.until, repeat.refs, names)}"
        if repeat.until
        else "not stated"
    )
    return (
        words
        + (f", {repeat.count} items" if repeat.count is not None else "")
        + (f", at most {repeat.cap}x" if repeat.cap else "")
        + (f"; {ITEM_FAULTS[repeat.on_item_fault]}" if repeat.on_item_fault else "")
    )


def _judge_facts(pair: FlowPairing, a: Step, b: Step, one: Step, two: Step, put: Callable[..., None]) -> None:
    for row in STEP_FACTS:
        if row.field != "repeat" and getattr(one, row.field) != getattr(two, row.field):
            put(row.change, row.field, row.words(a, pair.old_names), row.words(b, pair.new_names))


def _judge_step(pair: FlowPairing, a: Step, b: Step) -> None:
    where, entry = quote_name(b.title), (a.origin, b.origin)
    one, two = same_step(a), same_step(b)

    def said(value: Any) -> Any:
        return "none" if value in (None, "") else value

    def put(kind: str, field: str, old: Any, new: Any, word: str = "", also: tuple[str, ...] = ()) -> None:
        edits = tuple(
            Edit("set", "step", b.id, name, getattr(a, name), getattr(b, name))
            for name in (field, *also)
            if getattr(a, name) != getattr(b, name)
        )
        spot = f"{where} ({word})" if word else where
        pair.add_text_change(kind, spot, str(said(old)), str(said(new)), edits, entry, step=b.id)

    for field, kind, word, words in _ROWS:
        if getattr(a, field) != getattr(b, field):
            gone = field == "kind" and a.kind == "approve" and a.enabled
            if gone or (field == "enabled" and a.kind == b.kind == "approve" and not b.enabled):
                kind = "approval removed"
            put(kind, field, words(a), words(b), word)
    if a.effect != b.effect:
        put("effect widened" if RANK[b.effect] >= RANK[a.effect] else "effect narrowed", "effect", a.effect, b.effect)
    if a.connection != b.connection:
        names = {
            connection.id: connection.name or connection.id
            for connection in (*pair.old.connections, *pair.new.connections)
        }
        put(
            "connection",
            "connection",
            names.get(a.connection or "", a.connection),
            names.get(b.connection or "", b.connection),
        )
    if (one.condition, one.refs) != (two.condition, two.refs):
        put(
            "condition",
            "condition",
            replace_refs(a.condition or "", a.refs, pair.old_names),
            replace_refs(b.condition or "", b.refs, pair.new_names),
            also=("refs",),
        )
    _judge_facts(pair, a, b, one, two, put)
    if one.repeat != two.repeat:
        put("loop", "repeat", repeat_words(a, pair.old_names), repeat_words(b, pair.new_names))
    judge_inputs(pair, "step", b.id, where, a.inputs, b.inputs, entry)
    _judge_model(pair, a, b, where, entry)
    if a.unread != b.unread:
        put("unread content", "unread", brief_value(a.unread), brief_value(b.unread))


def _judge_model(pair: FlowPairing, a: Step, b: Step, where: str, at: Places) -> None:
    old, new = a.model, b.model
    if old is None or new is None:
        if old is not new:
            names = [(use.name or "a model") if use is not None else "none" for use in (old, new)]
            pair.add_change(
                "model", where, names[0], names[1], (Edit("set", "step", b.id, "model", old, new),), at, step=b.id
            )
        return
    if old.name != new.name:
        edit = Edit("set", "step", b.id, "model.name", old.name, new.name)
        pair.add_change("model", where, old.name or "none", new.name or "none", (edit,), at, step=b.id)
    _judge_settings(pair, b, where, at, old, new)
    judge_prompts(pair, b, old, new, at)


def _judge_settings(pair: FlowPairing, b: Step, where: str, at: Places, old: ModelUse, new: ModelUse) -> None:
    for field, word in _MODEL_WORDS.items():
        item, other = getattr(old, field), getattr(new, field)
        if item != other:
            edit = Edit("set", "step", b.id, f"model.{field}", item, other)
            said = ["none" if value is None else value for value in (item, other)]
            pair.add_change("model setting", f"{where} ({word})", said[0], said[1], (edit,), at, step=b.id)
