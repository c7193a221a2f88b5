# Which model a task calls is often not in a standard's file: the owner says so once, by the name or the operation of
# the step, and where the prompt stands.
"""The model map: models for steps whose export names none."""

from __future__ import annotations

import re
from collections.abc import Sequence
from fnmatch import translate
from functools import lru_cache
from typing import Any, Literal

from msgspec import Struct, structs

from .records import Flow, Modality, ModelUse, Prompt, Step


class ModelRule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One rule; ``operation``, ``name`` and ``flow`` (id or name) are patterns with ``*``, and all must fit.

    ``model`` names the model, or ``model_at`` says where it stands; ``prompt`` says where the instruction text stands
    (several: a list). A place is the name of an input, or a dotted path within what was not read of the step, for
    instance ``extensionElements.ai.say``. ``kind`` is what the step then is.
    """

    model: str = ""
    model_at: str = ""
    prompt: str | list[str] = ""
    role: str = "user"
    operation: str = "*"
    name: str = "*"
    flow: str = "*"
    kind: Literal["model", "agent", "embed"] = "model"
    modality: Modality = "text"
    task: str = ""


@lru_cache(maxsize=500)
def _compile_pattern(text: str) -> re.Pattern[str]:
    return re.compile(translate(text), re.IGNORECASE)


def _pattern_test(pattern: str, *values: str) -> bool:
    return pattern == "*" or any(_compile_pattern(pattern).match(value) for value in values)


def _take_value(step: Step, place: str) -> tuple[Step, Any]:
    """The value at a place of a step, and the step without it among the unread."""
    for second in step.inputs:
        if second.name == place:
            return step, second.value
    keys = place.split(".")
    value: Any = step.unread
    for key in keys:
        value = value.get(key) if isinstance(value, dict) else None
    if value is None:
        return step, None
    return structs.replace(step, unread=_without_keys(step.unread, keys)), value


def _without_keys(value: dict[str, Any], keys: list[str]) -> dict[str, Any]:
    rest = dict(value)
    if len(keys) == 1:
        rest.pop(keys[0], None)
        return rest
    inner = rest.get(keys[0])
    if isinstance(inner, dict):
        left = _without_keys(inner, keys[1:])
        if left:
            rest[keys[0]] = left
        else:
            del rest[keys[0]]
    return rest


def _apply_rule(step: Step, rule: ModelRule) -> Step:
    name: Any = rule.model
    taken = 0
    if rule.model_at:
        before = step
        step, found = _take_value(step, rule.model_at)
        taken += step is not before
        name = found if isinstance(found, str) and found else name
    prompts, step = _taken_prompts(step, rule)
    named = {prompt.text for prompt in prompts}
    use = ModelUse(name=name or None, modality=rule.modality, task=rule.task or None, prompts=tuple(prompts))
    inputs = tuple(second for second in step.inputs if not (isinstance(second.value, str) and second.value in named))
    return structs.replace(step, kind=rule.kind, model=use, inputs=inputs)


def _taken_prompts(step: Step, rule: ModelRule) -> tuple[list[Prompt], Step]:
    prompts: list[Prompt] = []
    for place in [rule.prompt] if isinstance(rule.prompt, str) else rule.prompt:
        if place:
            refs = next((second.refs for second in step.inputs if second.name == place), ())
            step, text = _take_value(step, place)
            if isinstance(text, str) and text:
                prompts.append(Prompt(text=text, role=rule.role, refs=refs))
    return prompts, step


def apply_model_map(rules: Sequence[ModelRule], flow: Flow) -> Flow:
    """The flow with models for the steps that the rules fit and that name none; the first rule that fits counts."""
    steps: list[Step] = []
    unread = 0
    for step in flow.steps:
        if step.model is None or step.model.name is None:
            rule = next(
                (
                    model_rule for model_rule in rules
                    if _pattern_test(model_rule.operation, step.operation)
                    and _pattern_test(model_rule.name, step.name, step.id)
                    and _pattern_test(model_rule.flow, flow.id, flow.name)
                ),
                None,
            )  # fmt: skip
            if rule is not None and step.kind not in (
                "note",
                "end",
                "decide",
                "loop",
                "parallel",
                "join",
                "guard",
                "group",
            ):
                made = _apply_rule(step, rule)
                unread += _leaf_values(step.unread) - _leaf_values(made.unread)
                step = made
        steps.append(step)
    content = structs.replace(flow.content, unread=max(0, flow.content.unread - unread))
    return structs.replace(flow, steps=tuple(steps), content=content)


def _leaf_values(value: Any) -> int:
    if isinstance(value, dict):
        return sum(_leaf_values(item) for item in value.values())
    if isinstance(value, list):
        return sum(_leaf_values(item) for item in value)
    return 1
