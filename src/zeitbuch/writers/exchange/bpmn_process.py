# One flow as a process: its elements, each with the record of what BPMN does not say. What the standard can say stands in the
# standard's own words, so that other tools find it there.
"""Writing one process of BPMN."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from xml.etree import ElementTree as ET

import msgspec

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import facts_of, write_facts
from zeitbuch.core.model.bpmn_inputs import is_outside, prompt_inputs
from zeitbuch.core.model.kinds import KINDS, TRIGGERS
from zeitbuch.core.model.records import Flow, Link, Record, Step, Trigger
from zeitbuch.core.model.secret_labels import without_digests

from .bpmn_arrows import write_arrows, write_artifacts, write_entries
from .bpmn_data import DataWriter
from .bpmn_events import EventWriter, Left, is_plain, trigger_inputs, trigger_words
from .bpmn_markers import wrapped_loops, write_marker
from .bpmn_names import B, Z, clean_text, xml_name
from .bpmn_parts import ESCAPES, said_by, write_lanes
from .bpmn_shared import SharedElements

ACTIVITIES = frozenset({*E.TASKS, *E.SCOPES})


class ProcessWriter:
    """Writes one flow."""

    def __init__(self, flow: Flow, number: int, shared: SharedElements) -> None:
        self.flow = flow = without_digests(flow)
        self.number = number
        self.shared = shared
        self.names: dict[str, str] = {}  # id of the model -> id in the file
        self.steps = {step.id: step for step in flow.steps}
        self.inside: dict[str | None, list[Step]] = {}
        for step in flow.steps:
            self.inside.setdefault(step.scope if step.scope in self.steps else None, []).append(step)
        self.arriving: dict[str, list[Link]] = {}
        for link in flow.links:
            self.arriving.setdefault(link.target, []).append(link)
        self.reached = {key for key, links in self.arriving.items() if any(one.role != "attach" for one in links)}
        self.wrapped = wrapped_loops(flow, self.inside)
        self.data = DataWriter(flow, shared)
        self.events = EventWriter(shared, self._named_node)
        self.elements: dict[str, ET.Element] = {}
        self.tags: dict[str, str] = {}
        self.edges: list[tuple[str, str, str]] = []  # id of the edge, ids of its ends in the model
        self.borders: dict[str, str] = {}  # border event -> the activity it sits on
        self.recorded: list[tuple[ET.Element, ET.Element]] = []  # elements with their records
        for loop, task in self.wrapped.items():
            self.names[loop] = self.element_id(task.id)
        self.process_id = self.element_id(f"\x00{flow.id}") if flow.id in self.steps else self.element_id(flow.id)

    def element_id(self, key: str, prefix: str = "") -> str:
        """The id of a record within the file: an XML name that occurs once."""
        if key in self.names and not prefix:
            return self.names[key]
        made = self.shared.unique_id(prefix + key)
        if not prefix:
            self.names[key] = made
        return made

    def _named_node(self, name: str) -> str:
        """The id in the file of the step with an id or a name; a name that no step has becomes an XML name."""
        if name in self.steps:
            return self.element_id(name)
        found = next((step.id for step in self.flow.steps if step.name == name), None)
        return self.element_id(found) if found is not None else xml_name(name)

    def write_process(self) -> ET.Element:
        """The process, not yet in the file, with all its elements."""
        flow = self.flow
        process = ET.Element(B + "process", {"id": self.process_id, "name": clean_text(flow.name)})
        for variable in flow.variables:
            allowed = E.PROCESS_ATTRIBUTES.get(variable.name, ())
            said = str(variable.value).lower() if isinstance(variable.value, bool) else variable.value
            if said in allowed:
                process.set(variable.name, said)
        if flow.description:
            ET.SubElement(process, B + "documentation").text = clean_text(flow.description)
        self.write_record(process, flow, E.FLOW_SAID, {"id": flow.id})
        write_lanes(self, process)
        self.data.write_objects(process)
        self._write_level(process, process, None, self._triggers_by_scope())
        write_arrows(self, process)
        write_artifacts(self, process)
        return process

    def write_hashes(self, names: Mapping[str, str]) -> None:
        """Beside each record what the BPMN says now, so that a reader sees what was edited since; ``names`` are what stands for
        shared elements where something refers to them."""
        for element, record in self.recorded:
            record.set("facts", write_facts(facts_of(said_by(element), names)))

    def write_record(
        self, element: ET.Element, record: Record, said: tuple[str, ...], more: dict[str, Any] | None = None
    ) -> None:
        """The extension with what BPMN does not say of a record."""
        plain: dict[str, Any] = {key: value for key, value in msgspec.to_builtins(record).items() if key not in said}
        extension = ET.Element(B + "extensionElements")
        notes = sum(child.tag == B + "documentation" for child in element)
        element.insert(notes, extension)
        made = ET.SubElement(extension, Z + "record")
        made.text = msgspec.json.encode(plain | (more or {})).decode().translate(ESCAPES)
        self.recorded.append((element, made))

    def _triggers_by_scope(self) -> dict[str | None, list[Trigger]]:
        """The triggers by the event sub-process in which they stand; most stand in none."""
        found: dict[str | None, list[Trigger]] = {}
        scopes: dict[str, str] = {}
        triggers = {trigger.id for trigger in self.flow.triggers}
        for link in self.flow.links:
            target = self.steps.get(link.target)
            if link.source in triggers and target is not None and target.operation == E.EVENT_SUBPROCESS:
                scopes[link.source] = target.id
        for trigger in self.flow.triggers:
            found.setdefault(scopes.get(trigger.id), []).append(trigger)
        return found

    # -- steps --------------------------------------------------------------------------------------------------------

    def _write_level(
        self, process: ET.Element, parent: ET.Element, scope: str | None, triggers: dict[str | None, list[Trigger]]
    ) -> None:
        for trigger in triggers.get(scope, ()):
            self._write_trigger(process, parent, trigger, scope)
        for step in self.inside.get(scope, ()):
            if step.id in self.wrapped:
                self._write_step(process, parent, self.wrapped[step.id], step)
                continue
            element = self._write_step(process, parent, step, None)
            if element is not None and self.tags[step.id] in E.SCOPES:
                self._write_level(process, element, step.id, triggers)
                self._write_completion(element, step)

    def _write_step(self, process: ET.Element, parent: ET.Element, step: Step, loop: Step | None) -> ET.Element | None:
        tag = self.tags[step.id] = self._element_tag(step)
        if tag in E.NOTES:
            return None  # an artifact, which stands behind all nodes
        element = ET.SubElement(parent, B + tag, {"id": self.element_id(step.id), "name": clean_text(step.name)})
        self.elements[step.id] = element
        if step.note:
            ET.SubElement(element, B + "documentation").text = clean_text(step.note)
        self.write_record(element, step, E.STEP_SAID, {"id": step.id})
        left = Left([one for one in step.inputs if not is_outside(one)])
        self._write_details(element, step, tag, left)
        made = ET.Element("definitions")
        self.events.write_definitions(made, step.operation.split(" ")[1:] if tag in E.EVENTS else [], left)
        for name in ("completion condition", *(E.MARKER_INPUTS if step.kind == "loop" else ())):
            left.pop(name)
        script, language = (left.pop("script"), left.pop("language")) if tag == "scriptTask" else (None, None)
        self.data.write_inputs(process, element, [*left.inputs], prompt_inputs(step))
        element.extend(made)
        if loop is not None:
            marker = write_marker(element, loop, self.data, process)
            self.write_record(marker, loop, E.STEP_SAID, {"id": loop.id})
        elif tag in E.SCOPES and step.kind == "loop":
            write_marker(element, step, self.data, process)
        if isinstance(language, str):
            element.set("scriptFormat", clean_text(language))
        if isinstance(script, str):
            ET.SubElement(element, B + "script").text = clean_text(script)
        return element

    def _write_completion(self, element: ET.Element, step: Step) -> None:
        said = next((one.value for one in step.inputs if one.name == "completion condition"), None)
        if element.tag == B + "adHocSubProcess" and isinstance(said, str):
            ET.SubElement(element, B + "completionCondition").text = clean_text(said)

    def _element_tag(self, step: Step) -> str:
        first = step.operation.split(" ")[0]
        if step.kind == "note":
            return first if first in E.NOTES else KINDS["note"].bpmn
        row = KINDS[step.kind]
        if step.id in self.inside or row.bpmn == "subProcess":
            return first if first in E.SCOPES else "subProcess"
        if first == "boundaryEvent":
            return first if self._border_link(step) else "intermediateThrowEvent"
        if first == "startEvent":
            return "intermediateThrowEvent" if step.scope is None or step.id in self.reached else first
        if first in (*E.NOTES, *E.SCOPES):
            return "subProcess"
        if first in E.NODES:
            return first
        if step.kind == "decide" and step.inclusive:
            return "inclusiveGateway"
        if step.kind == "join":
            return {"each": "exclusiveGateway", "once": "inclusiveGateway"}.get(step.join or "all", "parallelGateway")
        return row.bpmn

    def _border_link(self, step: Step) -> Link | None:
        """The link by which a border event hangs on an activity."""
        for link in self.arriving.get(step.id, ()):
            source = self.steps.get(link.source)
            if source is not None and source.scope == step.scope and self._tag_of(source) in ACTIVITIES:
                return link
        return None

    def _tag_of(self, step: Step) -> str:
        if step.operation.startswith("boundaryEvent"):
            return "boundaryEvent"
        return self.tags.get(step.id) or self._element_tag(step)

    def _write_details(self, element: ET.Element, step: Step, tag: str, left: Left) -> None:
        """Attributes of an element, and the conditions of gateways."""
        if tag == "boundaryEvent":
            held = self._border_link(step)
            assert held is not None
            element.set("attachedToRef", self.element_id(held.source))
            if held.label.endswith("(goes on)"):
                element.set("cancelActivity", "false")
            self.borders[step.id] = held.source
        if tag == "callActivity" and step.calls:
            element.set("calledElement", xml_name(step.calls))
        if step.operation == E.EVENT_SUBPROCESS:
            element.set("triggeredByEvent", "true")
        _write_attributes(element, tag, left)
        if tag in ("sendTask", "receiveTask"):
            message = left.pop("message", of=is_plain)
            if message is not None:
                element.set("messageRef", self.shared.refer("message", message))
        if tag == "complexGateway":
            said = left.pop("activation condition")
            if isinstance(said, str):
                ET.SubElement(element, B + "activationCondition").text = clean_text(said)

    # -- triggers -----------------------------------------------------------------------------------------------------

    def _write_trigger(self, process: ET.Element, parent: ET.Element, trigger: Trigger, scope: str | None) -> None:
        named = {"id": self.element_id(trigger.id), "name": clean_text(trigger.name)}
        element = ET.SubElement(parent, B + "startEvent", named)
        self.elements[trigger.id] = element
        self.tags[trigger.id] = "startEvent"
        if trigger.note:
            ET.SubElement(element, B + "documentation").text = clean_text(trigger.note)
        self.write_record(element, trigger, E.TRIGGER_SAID, {"id": trigger.id})
        words = trigger_words(trigger, TRIGGERS[trigger.kind].bpmn)
        if scope is None and words == ["error"]:
            words = ["message"]  # only the start of an event sub-process may catch an error (clause 10.5.6)
        left = Left([one for one in trigger_inputs(trigger, words[0] if words else "") if not is_outside(one)])
        if left.pop("interrupting") in (False, "false") and scope is not None:
            element.set("isInterrupting", "false")
        made = ET.Element("definitions")
        self.events.write_definitions(made, words, left)
        self.data.write_inputs(process, element, left.inputs, {})
        element.extend(made)
        if scope is not None:
            write_entries(self, parent, trigger, scope)


def _write_attributes(element: ET.Element, tag: str, left: Left) -> None:
    """Inputs that are attributes of the standard, where their values are what the schema allows."""
    for name, row in E.SAID_ATTRIBUTES.items():
        held = next((one.value for one in left.inputs if one.name == name), None)
        if tag in row.tags and isinstance(held, str) and re.fullmatch(row.values, held):
            element.set(name, clean_text(left.pop(name)))
