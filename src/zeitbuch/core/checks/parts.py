# What checks ask of a single step or trigger: its texts, its references, its store, the minute at which it fires.
"""Questions about one step or trigger."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.records import Binding, Flow, Prompt, Ref, Step, Trigger

_STORES = frozenset({"store", "index", "collection", "shelf", "namespace", "corpus", "library"})
_HOLDERS = frozenset({dict, list, tuple})


def refs_of_part(part: Step | Trigger) -> Iterator[Ref]:
    """What a step or trigger takes from elsewhere."""
    for one in part.inputs:
        yield from one.refs
    if isinstance(part, Trigger):
        if part.schedule is not None and part.schedule.variable:
            yield Ref(variable=part.schedule.variable)
        return
    if part.model is not None and part.model.variable:
        yield Ref(variable=part.model.variable)
    yield from part.refs
    for record in (part.repeat, part.approval, part.pause):
        if record is not None:
            yield from record.refs
    for prompt in part.model.prompts if part.model is not None else ():
        yield from prompt.refs


def texts_of(part: Step | Trigger) -> list[tuple[str, str]]:
    """The texts of a step or trigger that are used in a run, with what each is; notes and names are not."""
    found: list[tuple[str, str]] = []
    for one in part.inputs:
        value = one.value
        if type(value) is str:
            found.append((f"input {one.name}", value))
        elif type(value) in _HOLDERS:
            found += [(f"input {one.name}", text) for text in _texts_in(value)]
    if isinstance(part, Step) and part.model is not None:
        found += [(f"{prompt.role} prompt", prompt.text) for prompt in part.model.prompts]
    if part.condition:
        found.append(("condition", part.condition))
    return found


def _texts_in(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for item in value.values():
            yield from _texts_in(item)
    elif isinstance(value, (list, tuple)):
        for item in value:
            yield from _texts_in(item)


def prompts_of(step: Step) -> tuple[Prompt, ...]:
    """The prompts of a step."""
    return step.model.prompts if step.model is not None else ()


def approvers_of(step: Step) -> tuple[str, ...]:
    """Those whom a step asks."""
    return step.approval.approvers if step.approval is not None else ()


def prompt_text_of(step: Step) -> str:
    """All prompts of a step in one text."""
    return "\n".join([prompt.text for prompt in prompts_of(step)])


def minute_of(trigger: Trigger) -> str:
    """The minute at which a trigger fires by cron, where it names hour and minute; empty otherwise."""
    schedule = trigger.schedule
    if trigger.kind != "schedule" or not trigger.enabled or schedule is None or not schedule.cron:
        return ""
    fields = schedule.cron.split()[-5:]
    return (
        f"{fields[1]}:{fields[0]} {schedule.zone or ''}"
        if len(fields) == 5 and fields[0].isdigit() and fields[1].isdigit()
        else ""
    )


def store_of(step: Step) -> str:
    """The store that a step fills or searches: as the export states it, as a fixed input names it, or the connection."""
    if step.pieces is not None and step.pieces.store:
        return step.pieces.store
    named = [text for one, text in fixed_inputs(step) if one.name.casefold() in _STORES and text.strip()]
    return named[0] if named else step.connection or ""


def shelf_key(flow: Flow, step: Step) -> str:
    """What tells a store from others: its name, in the whole estate; a connection only within its flow."""
    name = store_of(step)
    return f"{flow.id}\n{name}" if name == step.connection else name.casefold()


def fixed_inputs(part: Step | Trigger) -> list[tuple[Binding, str]]:
    """Inputs that are a fixed text."""
    return [(one, one.value) for one in part.inputs if type(one.value) is str and one.decided == "fixed"]
