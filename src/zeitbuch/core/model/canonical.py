# Ids are names that a builder gives and may give anew. Two versions can be held against each other only when the ids of
# the older one are spelled as in the newer, within placeholders too: a reference is written by what it refers to, not as
# the builder spells it.
"""Flows with renewed ids, and the form in which two versions are compared."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from msgspec import Struct, structs

from .fingerprint import meaning_of
from .plain_texts import plain_condition, plain_text, plain_value
from .records import Approval, Binding, Flow, Link, ModelUse, Pause, Prompt, Ref, Repeat, Step, Trigger

T = TypeVar("T")


class Ids(Struct, frozen=True):
    """Old id -> new id: of steps and triggers, of connections, of flows. What is not named keeps its id."""

    parts: Mapping[str, str] = {}
    connections: dict[str, str] = {}
    flows: dict[str, str] = {}


SAME = Ids()


def _map_ref(ref: Ref, ids: Ids) -> Ref:
    if ref.step is None:
        return ref
    return structs.replace(ref, step=ids.parts.get(ref.step, ref.step))


def _map_refs(refs: tuple[Ref, ...], ids: Ids) -> tuple[Ref, ...]:
    return tuple([_map_ref(ref, ids) for ref in refs]) if refs else refs


def mapped_link(link: Link, ids: Ids) -> Link:
    """A link with its ends and references renamed."""
    get = ids.parts.get
    return structs.replace(
        link, source=get(link.source, link.source), target=get(link.target, link.target), refs=_map_refs(link.refs, ids)
    )


def _map_bindings(inputs: tuple[Binding, ...], ids: Ids) -> tuple[Binding, ...]:
    return tuple(
        [structs.replace(second, refs=_map_refs(second.refs, ids)) if second.refs else second for second in inputs]
    )


R = TypeVar("R", Repeat, Approval, Pause)


def _map_own_refs(record: R | None, ids: Ids) -> R | None:
    return structs.replace(record, refs=_map_refs(record.refs, ids)) if record is not None and record.refs else record


def _map_value(value: Any, ids: Mapping[str, str]) -> Any:
    """A raw value with texts that are an id, and nothing more, renamed."""
    if isinstance(value, str):
        return ids.get(value, value)
    if isinstance(value, dict):
        return {key: _map_value(item, ids) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_map_value(item, ids) for item in value]
    return value


def mapped_step(step: Step, ids: Ids) -> Step:
    """A step with all ids in it renamed; texts are left as they are."""
    get = ids.parts.get
    model = step.model
    if model is not None:
        model = structs.replace(
            model,
            prompts=tuple([structs.replace(prompt, refs=_map_refs(prompt.refs, ids)) for prompt in model.prompts]),
        )
    return structs.replace(
        step,
        id=get(step.id, step.id),
        scope=get(step.scope, step.scope) if step.scope is not None else None,
        model=model,
        inputs=_map_bindings(step.inputs, ids),
        refs=_map_refs(step.refs, ids),
        repeat=_map_own_refs(step.repeat, ids),
        approval=_map_own_refs(step.approval, ids),
        pause=_map_own_refs(step.pause, ids),
        about=tuple([get(key, key) for key in step.about]),
        connection=ids.connections.get(step.connection, step.connection) if step.connection is not None else None,
        calls=ids.flows.get(step.calls, step.calls) if step.calls is not None else None,
        unread=_map_value(step.unread, ids.parts) if step.unread else step.unread,
    )


def mapped_trigger(trigger: Trigger, ids: Ids) -> Trigger:
    """A trigger with all ids in it renamed."""
    return structs.replace(
        trigger,
        id=ids.parts.get(trigger.id, trigger.id),
        connection=ids.connections.get(trigger.connection, trigger.connection)
        if trigger.connection is not None
        else None,
        inputs=_map_bindings(trigger.inputs, ids),
        unread=_map_value(trigger.unread, ids.parts) if trigger.unread else trigger.unread,
    )


def map_ids(flow: Flow, ids: Ids) -> Flow:
    """The flow with its ids renamed; its own id as well where ``ids.flows`` names it."""
    return structs.replace(
        flow,
        id=ids.flows.get(flow.id, flow.id),
        triggers=tuple([mapped_trigger(trigger, ids) for trigger in flow.triggers]),
        steps=tuple([mapped_step(step, ids) for step in flow.steps]),
        links=tuple([mapped_link(link, ids) for link in flow.links]),
        connections=tuple(
            [
                structs.replace(connection, id=ids.connections.get(connection.id, connection.id))
                for connection in flow.connections
            ]
        ),
        unread=_map_value(flow.unread, ids.parts) if flow.unread else flow.unread,
    )


def ref_token(ref: Ref) -> str:
    """How a reference to a step is written for comparison."""
    return f"\u27e6{ref.step}:{ref.path}\u27e7"


def spell_refs(text: str, refs: tuple[Ref, ...]) -> str:
    """A text with its references to steps written by what they refer to."""
    for ref in sorted(refs, key=lambda r: -len(r.text)):
        if ref.step is not None and ref.text:
            text = text.replace(ref.text, ref_token(ref))
    return text


def _same_refs(refs: tuple[Ref, ...]) -> tuple[Ref, ...]:
    return tuple(
        structs.replace(ref, text=ref_token(ref)) if ref.step is not None and ref.text else ref for ref in refs
    )


def _in_value(value: Any, refs: tuple[Ref, ...]) -> Any:
    if isinstance(value, str):
        return spell_refs(value, refs)
    if isinstance(value, dict):
        return {key: _in_value(item, refs) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_in_value(item, refs) for item in value]
    return value


def same_binding(b: Binding) -> Binding:
    """An input in the form of comparison; references in a fixed order."""
    if not b.refs:
        plain = plain_value(b.value)
        return b if plain == b.value else structs.replace(b, value=plain)
    refs = sorted(_same_refs(b.refs), key=lambda r: (r.text, r.step or "", r.variable or "", r.path))
    return structs.replace(b, value=plain_value(_in_value(b.value, b.refs)), refs=tuple(refs))


def same_prompt(p: Prompt) -> Prompt:
    """A prompt in the form of comparison."""
    return structs.replace(p, text=plain_text(spell_refs(p.text, p.refs)), refs=_same_refs(p.refs))


def _same_repeat(r: Repeat | None) -> Repeat | None:
    if r is None:
        return r
    return structs.replace(
        r,
        items=plain_condition(spell_refs(r.items, r.refs)) if r.items is not None else None,
        until=plain_condition(spell_refs(r.until, r.refs)) if r.until is not None else None,
        refs=_same_refs(r.refs),
    )


def _same_approval(approval: Approval | None) -> Approval | None:
    if approval is None or not approval.refs:
        return approval
    people = tuple([spell_refs(name, approval.refs) for name in approval.approvers])
    return structs.replace(approval, approvers=people, refs=_same_refs(approval.refs))


def _same_pause(pause: Pause | None) -> Pause | None:
    if pause is None or not pause.refs:
        return pause
    until = spell_refs(pause.until, pause.refs) if pause.until is not None else None
    return structs.replace(pause, until=until, refs=_same_refs(pause.refs))


def _same_model(use: ModelUse | None) -> ModelUse | None:
    if use is None or not use.prompts:
        return use
    return structs.replace(use, prompts=tuple([same_prompt(prompt) for prompt in use.prompts]))


def same_step(step: Step) -> Step:
    """A step in the form of comparison."""
    return structs.replace(
        step,
        inputs=tuple([same_binding(second) for second in step.inputs]),
        condition=plain_condition(spell_refs(step.condition, step.refs)) if step.condition is not None else None,
        refs=_same_refs(step.refs),
        repeat=_same_repeat(step.repeat),
        approval=_same_approval(step.approval),
        pause=_same_pause(step.pause),
        model=_same_model(step.model),
    )


def same_link(link: Link) -> Link:
    """A link in the form of comparison. Its id says only which arrow of the builder it is."""
    condition = plain_condition(spell_refs(link.condition, link.refs)) if link.condition else ""
    if not link.refs and not link.id and condition == link.condition:
        return link
    return structs.replace(link, id="", condition=condition, refs=_same_refs(link.refs))


def canonical_form(flow: Flow) -> Flow:
    """The form of comparison: meaning alone, in a fixed order, references by what they refer to."""
    return meaning_of(
        structs.replace(
            flow,
            triggers=tuple(
                [
                    structs.replace(
                        trigger,
                        inputs=tuple([same_binding(second) for second in trigger.inputs]),
                        condition=plain_condition(trigger.condition),
                    )
                    for trigger in flow.triggers
                ]
            ),
            steps=tuple([same_step(step) for step in flow.steps]),
            links=tuple([same_link(link) for link in flow.links]),
        )
    )
