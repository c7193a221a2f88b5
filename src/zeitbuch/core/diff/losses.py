# What a flow no longer says, or says otherwise, after it was written in a standard that has no words for all of it. Unlike a
# comparison of versions it knows which step became which, and counts by field instead of weighing.
"""Differences between a flow and what was written of it, by field."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.records import Flow, Link, ModelUse, Repeat, Step, Trigger

from .lost_arrows import lost_arrows

# Field and words: of the flow, of its triggers, of its steps. Places, ids and the builder's own type strings are other in any
# other form; they are no loss.
_FLOW = {
    "name": "name", "description": "description", "state": "state", "owners": "owners", "folder": "folder",
    "fault_handlers": "flows that take its faults", "concurrency": "limit of runs at a time",
    "environment": "environment", "version": "version", "created": "date of making", "changed": "date of change",
}  # fmt: skip
_TRIGGER = {
    "kind": "kind", "schedule": "schedule", "event": "event", "condition": "condition", "connection": "connection",
    "inputs": "inputs", "note": "note", "enabled": "being switched off", "batch": "items per run", "authentication": "authentication",
}  # fmt: skip
_STEP = {
    "name": "name", "kind": "kind", "effect": "effect", "model": "model and prompts", "connection": "connection", "calls": "called flow",
    "repeat": "repetition", "retry": "retry", "timeout": "time limit", "on_fault": "what follows a failure", "condition": "condition",
    "approval": "who agrees", "pause": "wait", "pieces": "pieces of texts", "concurrency": "limit of rounds at a time",
    "ordered": "order of its ways", "awaits": "waiting for the called flow", "about": "what it is about",
    "join": "way of joining", "enabled": "being switched off", "note": "note", "inputs": "inputs",
    "inclusive": "taking of several cases", "per_item": "running once for each item", "yields": "handling of items", "ends": "what it ends",
}  # fmt: skip


class Loss(NamedTuple):
    """One thing that is said less or otherwise: ``what`` of which steps, arrows or parts; None for the flow itself."""

    what: str
    places: tuple[str, ...] | None = None


def find_losses(flow: Flow, back: Flow, names: Mapping[str, str]) -> list[Loss]:
    """The losses of a flow that was written and read ``back``; ``names`` are the ids that its steps have there."""
    found = [Loss(words) for field, words in _FLOW.items() if getattr(flow, field) != getattr(back, field)]
    found += _losses_of_sets(flow, back)
    found += _losses_of_triggers(flow.triggers, back.triggers)
    there = {step.id: step for step in back.steps}
    missing = [step for step in flow.steps if names.get(step.id) not in there]
    gone = {step.id for step in missing}
    pairs = [(step, there[names[step.id]]) for step in flow.steps if step.id not in gone]
    known = set(names.values())
    found.append(Loss("step", tuple(step.title for step in missing)))
    found += _losses_of_steps(pairs)
    found += _losses_of_links(flow, back, gone)
    found.append(Loss("arrow", _places_of(flow, lost_arrows(flow, back, names))))
    found.append(Loss("added step", tuple(step.title for step in back.steps if step.id not in known)))
    return [loss for loss in found if loss.places != ()]


def _losses_of_steps(pairs: list[tuple[Step, Step]]) -> list[Loss]:
    return [
        Loss(words, tuple(a.title for a, b in pairs if _plain(a, field) != _plain(b, field)))
        for field, words in _STEP.items()
    ]


def _plain(record: Step | Trigger, field: str) -> Any:
    """A field as it is compared: what it says, not where the builder's own expressions lead."""
    value = getattr(record, field)
    if field == "inputs":
        return sorted((one.name, str(one.value), one.decided) for one in value)
    if isinstance(value, ModelUse):
        return structs.replace(value, prompts=tuple(structs.replace(prompt, refs=()) for prompt in value.prompts))
    return structs.replace(value, refs=()) if isinstance(value, Repeat) else value


def _losses_of_sets(flow: Flow, back: Flow) -> list[Loss]:
    found = []
    for words, held, now in (
        ("connection", flow.connections, back.connections),
        ("variable", flow.variables, back.variables),
    ):
        found.append(
            Loss(words, tuple(getattr(one, "name", "") or getattr(one, "id", "") for one in held if one not in now))
        )
    return found


def _losses_of_triggers(held: tuple[Trigger, ...], now: tuple[Trigger, ...]) -> list[Loss]:
    """Triggers are compared in their order, for their ids are other in any other form."""
    found: list[Loss] = []
    for place, trigger in enumerate(held):
        if place >= len(now):
            found.append(Loss("trigger", (trigger.title,)))
            continue
        fields = [words for field, words in _TRIGGER.items() if _plain(trigger, field) != _plain(now[place], field)]
        found += [Loss(f"{words} of a trigger", (trigger.title,)) for words in fields]
    return found


def _losses_of_links(flow: Flow, back: Flow, gone: set[str]) -> list[Loss]:
    """Labels, conditions and notes of arrows that are nowhere any more."""
    said = {words for link in back.links for words in (link.label, link.condition, link.note)} | {""}
    kept = [link for link in flow.links if link.source not in gone]

    def places(*fields: str) -> tuple[str, ...]:
        lost = [link for link in kept if not said.issuperset(getattr(link, field) for field in fields)]
        return _places_of(flow, lost)

    return [
        Loss("label or condition of an arrow", places("label", "condition")),
        Loss("note of an arrow", places("note")),
    ]


def _places_of(flow: Flow, links: Iterable[Link]) -> tuple[str, ...]:
    titles = {step.id: step.title for step in flow.steps} | {trigger.id: trigger.title for trigger in flow.triggers}
    return tuple(f"{titles.get(link.source, '?')} to {titles.get(link.target, '?')}" for link in links)
