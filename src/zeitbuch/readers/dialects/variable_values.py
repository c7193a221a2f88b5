# A model or a clock may be named by a variable of the flow: the name that counts is the value of the variable.
"""Values of variables in the places of steps and triggers that name them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.records import Step, Trigger, Variable

from .draft import Draft
from .placeholders import Placeholders
from .schedules import schedule_of_clock


class Taken(NamedTuple):
    """A variable and the text that it stands for."""

    variable: str
    text: str


def _takes_from_variables(draft: Draft, places: Placeholders) -> bool:
    """Whether a step or trigger may take the name of its model or its clock from a variable."""
    names = [step.model.name for step in draft.steps if step.model is not None]
    clocks = [trigger.schedule.cron for trigger in draft.triggers if trigger.schedule is not None]
    return any(text is not None and places.open in text for text in (*names, *clocks))


def give_values(draft: Draft, variables: tuple[Variable, ...], places: Placeholders) -> None:
    """Steps and triggers that take the name of their model or their clock from a variable get its value, and say which it was."""
    if not variables or not _takes_from_variables(draft, places):
        return
    values = {variable.name: variable.value for variable in variables}
    draft.steps = [_with_model(step, values, places) for step in draft.steps]
    draft.triggers = [_with_clock(trigger, values, places) for trigger in draft.triggers]


def _with_model(step: Step, values: Mapping[str, Any], places: Placeholders) -> Step:
    use = step.model
    taken = _taken_by(use.name, values, places) if use is not None and use.name else None
    if use is None or taken is None:
        return step
    return structs.replace(step, model=structs.replace(use, name=taken.text, variable=taken.variable))


def _with_clock(trigger: Trigger, values: Mapping[str, Any], places: Placeholders) -> Trigger:
    clock = trigger.schedule
    taken = _taken_by(clock.cron, values, places) if clock is not None and clock.cron else None
    if clock is None or taken is None:
        return trigger
    made = schedule_of_clock(taken.text, clock.zone)
    return structs.replace(trigger, schedule=structs.replace(made, variable=taken.variable)) if made else trigger


def _taken_by(text: str, values: Mapping[str, Any], places: Placeholders) -> Taken | None:
    """The variable that a text names and nothing else, and its value; None where that is no text."""
    hit = places.pattern.fullmatch(text.strip())
    if hit is None:
        return None
    ref = places.resolve_ref(hit[1], hit[0], {})
    for name in dict.fromkeys((ref.variable or "", hit[1])):
        value = _value_of(name, values)
        if type(value) is str and value and places.open not in value:
            return Taken(name, value)
    return None


def _value_of(name: str, values: Mapping[str, Any]) -> Any:
    """The value of a variable, or within one that holds an object."""
    if name in values:
        return values[name]
    head, dot, rest = name.partition(".")
    inner = values.get(head)
    return _value_of(rest, inner) if dot and isinstance(inner, dict) else None
