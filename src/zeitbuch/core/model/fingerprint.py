# What a flow means, without where it stands, when it was saved and how its boxes lie. Equal meaning, equal hash.
"""Canonical form and fingerprint of a flow."""

from __future__ import annotations

import hashlib
from typing import TypeVar

import msgspec
from msgspec import structs

from .plain_texts import plain_text
from .records import Binding, Content, Flow, Prompt, Step, Trigger
from .secret_labels import without_labels


def _sort_inputs(inputs: tuple[Binding, ...]) -> tuple[Binding, ...]:
    """Inputs by name: builders write the keys of an object in any order."""
    return tuple(
        structs.replace(
            second, refs=tuple(sorted(second.refs, key=lambda r: (r.text, r.step or "", r.variable or "", r.path)))
        )
        for second in sorted(inputs, key=lambda b: b.name)
    )


def _folded(text: str) -> str:
    """A name with runs of white space as one: tools break names as their boxes need it."""
    return " ".join(text.split())


Part = TypeVar("Part", Step, Trigger)
_USER = Prompt(text="").role


def _with_plain_roles(step: Step) -> Step:
    """The step with the default role of a prompt as that very object: the encoder leaves out a default only by identity, and a role
    that an export spells out means what it means where none is said."""
    use = step.model
    if use is None or all([prompt.role is _USER or prompt.role != _USER for prompt in use.prompts]):
        return step
    prompts = tuple([structs.replace(one, role=_USER) if one.role == _USER else one for one in use.prompts])
    return structs.replace(step, model=structs.replace(use, prompts=prompts))


def _meaning_of_part(part: Part) -> Part:
    return structs.replace(
        part,
        name=_folded(part.name),
        note=plain_text(part.note),
        position=None,
        origin=None,
        inputs=_sort_inputs(part.inputs),
    )


def meaning_of(flow: Flow) -> Flow:
    """The flow without layout, time stamps, origins, file format and what stands around it in its file, its parts in a fixed order."""
    return structs.replace(
        flow,
        name=_folded(flow.name),
        description=plain_text(flow.description),
        version="",
        created="",
        changed="",
        format="",
        around={},
        noise={},
        findings=(),
        secrets=(),
        content=Content(),
        origin=None,
        triggers=tuple(_meaning_of_part(trigger) for trigger in sorted(flow.triggers, key=lambda t: t.id)),
        steps=tuple(_meaning_of_part(_with_plain_roles(step)) for step in sorted(flow.steps, key=lambda s: s.id)),
        links=tuple(
            structs.replace(link, id="", origin=None)
            for link in sorted(flow.links, key=lambda k: (k.source, k.target, k.role, k.label, k.condition, k.after))
        ),
        connections=tuple(sorted(flow.connections, key=lambda c: c.id)),
        variables=tuple(sorted(flow.variables, key=lambda v: v.name)),
    )


def fingerprint(flow: Flow) -> str:
    """SHA-256 (64 hexadecimal digits) of the canonical form as JSON with sorted keys; of a secret only that it stands there."""
    return hashlib.sha256(msgspec.json.encode(meaning_of(without_labels(flow)), order="deterministic")).hexdigest()
