# The small phrases that comparisons, checks and documents share; whole sentences stand in report/sentences.
"""Names, values and prompts of a flow in words."""

from __future__ import annotations

from typing import Any

import msgspec

from zeitbuch.core.model.records import Binding, Flow, Prompt, Ref, Step
from zeitbuch.core.model.references import ref_words, replace_refs
from zeitbuch.core.model.words import join_words, trigger_words


def quote_name(name: str) -> str:
    """A name of the flow within a sentence."""
    return f"‘{name}’"


def capitalise(text: str) -> str:
    return text[:1].upper() + text[1:]


def connection_name(flow: Flow, step: Step) -> str:
    """The name of a step's connection, or of what its operation belongs to."""
    found = next((connection for connection in flow.connections if connection.id == step.connection), None)
    return (found.name or found.id) if found is not None else (step.connection or "")


def value_words(value: Any, refs: tuple[Ref, ...], names: dict[str, str]) -> str:
    """The value of an input in words."""
    text = value if isinstance(value, str) else msgspec.json.encode(value).decode()
    return replace_refs(text, refs, names)


def decider_words(binding: Binding, names: dict[str, str]) -> str:
    """Who decides an input."""
    if binding.decided == "model":
        about = ", ".join(part for part in (binding.type, binding.description) if part)
        return f"the model ({about})" if about else "the model"
    if binding.decided == "data":
        return (
            "data: " + join_words(list(dict.fromkeys(ref_words(ref, names) for ref in binding.refs)))
            if binding.refs
            else "data"
        )
    return "fixed"


def prompt_text(prompt: Prompt, names: dict[str, str]) -> str:
    """A prompt with its placeholders in words, in brackets."""
    text = prompt.text
    for ref in prompt.refs:
        if ref.text:
            text = text.replace(ref.text, f"[{ref_words(ref, names)}]")
    return text


def triggers_list(flow: Flow) -> list[str]:
    """One line a trigger."""
    return [
        f"{trigger.title}: {trigger_words(trigger)}" if trigger.name else capitalise(trigger_words(trigger))
        for trigger in flow.triggers
    ]
