# What a call reads stands in its prompts; where a builder has none it stands in the inputs of the step, as a text or as what fills it.
"""Texts that a step gives to its model."""

from __future__ import annotations

from zeitbuch.core.model.records import Binding, ModelUse, Prompt, Ref, Step

_TEXTS = frozenset(
    {"text", "input", "content", "contents", "prompt", "message", "messages", "body", "query", "question", "document", "documents", "speech"}
)  # fmt: skip
_ROLES = frozenset({"text", "content", "query"})


def texts_of(step: Step, use: ModelUse) -> tuple[Prompt, ...]:
    """The prompts of a step, else its inputs that are texts."""
    if use.prompts:
        return use.prompts
    said = [binding for binding in step.inputs if isinstance(binding.value, str) or binding.refs]
    chosen = [binding for binding in said if binding.role in _ROLES or binding.name.casefold() in _TEXTS]
    if not chosen:
        chosen = [binding for binding in said if binding.refs or " " in str(binding.value)]
    return tuple(_as_prompt(binding) for binding in chosen)


def _as_prompt(binding: Binding) -> Prompt:
    """An input as a prompt. What refers to something without a text around it is that text alone."""
    text = binding.value if isinstance(binding.value, str) else ""
    refs = tuple(
        ref if ref.text or text else Ref(step=ref.step, path=ref.path, variable=ref.variable, text="")
        for ref in binding.refs
    )
    return Prompt(text=text, refs=refs)
