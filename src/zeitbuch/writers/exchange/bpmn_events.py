# What an event waits for or sends: the definitions of events, with the messages, signals and errors they name.
"""Event definitions of BPMN, written."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any
from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Schedule, Trigger

from .bpmn_names import XSI, B, clean_text
from .bpmn_shared import SharedElements

FORMAL = {XSI + "type": "bpmn:tFormalExpression"}


class Left:
    """The inputs of a step or trigger that are not yet written."""

    def __init__(self, inputs: Sequence[Binding]) -> None:
        self.inputs = list(inputs)

    def pop(self, *names: str, of: Callable[[Binding], bool] = lambda binding: binding.value is not None) -> Any:
        """The value of the first input with one of the names, which counts as written; None when there is none."""
        for place, binding in enumerate(self.inputs):
            if binding.name in names and of(binding):
                del self.inputs[place]
                return binding.value
        return None

    def pop_all(self, name: str) -> list[Any]:
        """The values of all inputs with a name."""
        found = []
        while (value := self.pop(name)) is not None:
            found.append(value)
        return found


def is_plain(binding: Binding) -> bool:
    """Whether an input is a mere name: not a message to or from elsewhere, which stands outside of the element."""
    return isinstance(binding.value, str) and binding.description is None


def trigger_words(trigger: Trigger, usual: str) -> list[str]:
    """The kinds of event that a trigger is: as the export said, or the usual one of its kind."""
    words = trigger.operation.split(" ")
    if words[0] != "startEvent":
        return [usual] if usual else []
    return [word for word in words[1:] if f"{word}EventDefinition" in E.DEFINITIONS][:1]


def trigger_inputs(trigger: Trigger, word: str) -> tuple[Binding, ...]:
    """The inputs of a trigger with what the model holds in fields of their own."""
    more = []
    if word in E.HEARD and trigger.event:
        more.append(Binding(name=word, value=trigger.event))
    if word == "conditional" and trigger.condition:
        more.append(Binding(name="condition", value=trigger.condition))
    clock = clock_text(trigger.schedule)
    if word == "timer" and clock and not any(binding.name in E.CLOCKS for binding in trigger.inputs):
        more.append(Binding(name="timeCycle", value=clock))
    return (*more, *trigger.inputs)


def clock_text(schedule: Schedule | None) -> str:
    """A schedule as the text of a cycle."""
    if schedule is None:
        return ""
    if schedule.every is not None:
        return f"R/PT{schedule.every:g}S"
    return schedule.cron or schedule.rule or schedule.repeat or ""


class EventWriter:
    """Writes the definitions of events of one process; ``node_id`` is the id within the file of a step or of its name."""

    def __init__(self, shared: SharedElements, node_id: Callable[[str], str]) -> None:
        self.shared = shared
        self.node_id = node_id

    def write_definitions(self, element: ET.Element, words: Sequence[str], left: Left) -> None:
        """A definition for each word, with what the inputs say of it."""
        for word in words:
            tag = f"{word}EventDefinition"
            if tag not in E.DEFINITIONS:
                continue
            made = ET.SubElement(element, B + tag)
            if word in E.HEARD:
                self._name_heard(made, word, left)
            elif word == "timer":
                self._write_clock(made, left)
            elif word == "conditional":
                said = left.pop("condition") or ""
                ET.SubElement(made, B + "condition", FORMAL).text = clean_text(str(said))
            elif word == "link":
                self._write_link(made, left)
            elif word == "compensate":
                self._write_compensation(made, left)

    def _name_heard(self, made: ET.Element, word: str, left: Left) -> None:
        name = left.pop(word, of=is_plain)
        if name is None:
            return
        codes = {}
        for _, code in E.SHARED_CODES:
            value = left.pop(f"{word} {code}", of=is_plain)
            if value is not None and _may_have(word, code):
                codes[code] = value
        made.set(E.HEARD[word], self.shared.refer(word, name, codes))

    def _write_clock(self, made: ET.Element, left: Left) -> None:
        for name in E.CLOCKS:
            said = left.pop(name)
            if said:
                ET.SubElement(made, B + name, FORMAL).text = clean_text(str(said))
                return

    def _write_link(self, made: ET.Element, left: Left) -> None:
        made.set("name", clean_text(str(left.pop("name") or "")))
        for end in ("source", "target"):
            said = left.pop_all(f"link {end}")
            for value in said if end == "source" else said[:1]:
                ET.SubElement(made, B + end).text = self.node_id(str(value))

    def _write_compensation(self, made: ET.Element, left: Left) -> None:
        activity = left.pop("activity")
        if activity is not None:
            made.set("activityRef", self.node_id(str(activity)))
        waits = left.pop("wait for completion")
        if waits is not None:
            made.set("waitForCompletion", "true" if waits in (True, "true") else "false")


def _may_have(word: str, code: str) -> bool:
    """Which root elements have which codes (OMG formal/2011-01-03, clauses 8.3 and 10.5)."""
    allowed = {"message": ("item",), "signal": ("structure",), "error": ("code", "structure")}
    return code in allowed.get(word, ("code", "structure"))
