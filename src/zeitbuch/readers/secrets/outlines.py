# An outline keeps little of a flow: that little is masked, not the whole document.
"""Outlines of flows without secrets."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Step, Trigger

from .labels import plain_problem, replace_marks
from .masker import Masker


def mask_outline(flow: Flow, masker: Masker) -> Flow:
    """A flow without secrets in what a list of flows shows or a message names, and without all else."""
    mask = masker.mask_text
    texts = [flow.id, flow.name, flow.folder, flow.environment, flow.version, flow.created, flow.changed, *flow.owners]
    for one in flow.triggers:
        texts += one.name, one.event, one.condition
    masker.note_plain(texts)
    return structs.replace(
        flow,
        id=mask(flow.id),
        name=mask(flow.name),
        description="",
        folder=mask(flow.folder),
        environment=mask(flow.environment),
        owners=tuple([mask(name) for name in flow.owners]),
        triggers=tuple([_masked_trigger(trigger, masker) for trigger in flow.triggers]),
        steps=tuple(
            [
                _masked_step(step, masker) if step.model is not None or step.calls is not None else step
                for step in flow.steps
            ]
        ),
        version=mask(flow.version),
        created=mask(flow.created),
        changed=mask(flow.changed),
        variables=(),
        connections=(),
        unread={},
        around={},
        noise={},
    )


def _masked_trigger(trigger: Trigger, masker: Masker) -> Trigger:
    mask = masker.mask_text
    name, event, condition = mask(trigger.name), mask(trigger.event), mask(trigger.condition)
    return structs.replace(trigger, name=name, event=event, condition=condition, inputs=())


def _masked_step(step: Step, masker: Masker) -> Step:
    """A step's outline without secrets in the names of its model and of the flow it calls."""
    model, calls = step.model, step.calls
    name = model.name if model is not None else None
    clean_name = masker.mask_text(name) if name is not None else None
    clean_calls = masker.mask_text(calls) if calls is not None else None
    if clean_name == name and clean_calls == calls:
        return step
    return structs.replace(
        step, calls=clean_calls, model=structs.replace(model, name=clean_name) if model is not None else None
    )


def masked_problem(problem: Problem, masker: Masker) -> Problem:
    """A message without secrets, also in the pointer to its place."""
    origin = problem.origin
    if origin is not None and origin.pointer:
        origin = structs.replace(origin, pointer=masker.mask_text(origin.pointer))
    message, hint = masker.mask_text(problem.message), masker.mask_text(problem.hint)
    return plain_problem(structs.replace(problem, message=message, hint=hint, origin=origin))


def plain_text(text: str) -> str:
    """A text of ours with "a secret" in the place of every secret in it."""
    return replace_marks(Masker().mask_text(text), {})
