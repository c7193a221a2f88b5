# How inputs and prompts of a step stand in BPMN as texts. Writer and reader share it, so that the reader can tell whether a text
# was edited in a modelling tool.
"""Inputs of a step as texts of BPMN."""

from __future__ import annotations

from collections import Counter
from typing import Any

import msgspec

from .records import Binding, Step


def said_value(value: Any) -> str:
    """A fixed value as the text of an expression: texts as they are, all else as JSON."""
    return value if isinstance(value, str) else msgspec.json.encode(value).decode()


def prompt_inputs(step: Step) -> dict[str, str]:
    """The model of a step and its prompts, by the names of the data inputs in which BPMN holds them; prompts of one role are
    numbered. What the step has as an input of its own under that name is left out."""
    model = step.model
    if model is None:
        return {}
    own = {binding.name for binding in step.inputs}
    many = Counter(prompt.role for prompt in model.prompts)
    seen: Counter[str] = Counter()
    found = {"model": model.name} if model.name else {}
    for prompt in model.prompts:
        seen[prompt.role] += 1
        number = f" {seen[prompt.role]}" if many[prompt.role] > 1 else ""
        found[f"{prompt.role} prompt{number}"] = prompt.text
    return {name: text for name, text in found.items() if name not in own}


def is_outside(binding: Binding) -> bool:
    """Whether an input stands outside of its element: its lane, a message to or from elsewhere."""
    if binding.name == "message" and isinstance(binding.value, str):
        return (binding.description or "").startswith(("to ", "from "))
    return binding.name == "lane" and isinstance(binding.value, str)


def says_the_same(held: Binding, read: Binding) -> bool:
    """Whether an input as BPMN says it is the one that was written."""
    if is_outside(held) and held.description != read.description:
        return False
    if held.refs and read.refs:
        return any(ref.step == read.refs[0].step and ref.variable == read.refs[0].variable for ref in held.refs)
    if held.refs and read.value is None:
        return True  # declared only: BPMN does not say where it comes from
    if held.value is None or read.value is None:
        return held.value is None and read.value is None
    return fold_text(said_value(held.value)) == fold_text(said_value(read.value))


def fold_text(text: str) -> str:
    """A text with runs of white space folded, as tools that write XML fold it."""
    return " ".join(text.split())
