# Flows as BPMN 2.0 XML with a diagram, valid against the OMG schema. What BPMN has no place for (prompts, effects,
# helpers of an agent) goes into extension elements of our own namespace, so that reading it back gives the same flow.
"""Writing BPMN 2.0 (OMG formal/2011-01-03)."""

from __future__ import annotations

from typing import Any
from xml.etree import ElementTree as ET
from xml.etree.ElementTree import Element

import msgspec

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import facts_of, write_facts
from zeitbuch.core.model.kinds import KINDS, TRIGGERS
from zeitbuch.core.model.records import Estate, Flow, Link, Record, Schedule, Step, Trigger
from zeitbuch.core.model.secret_labels import without_digests
from zeitbuch.writers.theme.terminal import TextLook

from .bpmn_diagram import write_diagram
from .bpmn_names import DC, DI, XSI, B, Z, clean_text, xml_name
from .bpmn_parts import ESCAPES, is_executable, said_by, write_script

_ACTIVITIES = frozenset({*E.TASKS, *E.SCOPES})
# OMG formal/2011-01-03: activities and three gateways may name the arrow that is taken when no other fits.
_WITH_DEFAULT = _ACTIVITIES | {"exclusiveGateway", "inclusiveGateway", "complexGateway"}


def to_bpmn(estate: Estate) -> str:
    """All flows as one file, a process each."""
    for prefix, space in (
        ("bpmn", E.MODEL_SPACE),
        ("bpmndi", E.DIAGRAM_SPACE),
        ("dc", DC[1:-1]),
        ("di", DI[1:-1]),
        ("zb", E.OWN_SPACE),
    ):
        ET.register_namespace(prefix, space)
    root = ET.Element(B + "definitions", {"id": "definitions", "targetNamespace": E.OWN_SPACE, "exporter": "zeitbuch"})
    diagrams: list[ET.Element] = []
    taken: set[str] = {"definitions"}
    for number, flow in enumerate(estate.flows, 1):
        diagrams.append(_Process(root, flow, number, taken).write_process())
    root.extend(diagrams)
    ET.indent(root, " ")
    text = ET.tostring(root, encoding="unicode", short_empty_elements=True)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + text + "\n"


def write_bpmn(estate: Estate, look: TextLook) -> str:
    """Flows as BPMN."""
    return to_bpmn(estate)


class _Process:
    """Writes one flow."""

    def __init__(self, root: ET.Element, flow: Flow, number: int, taken: set[str]) -> None:
        flow = without_digests(flow)
        self.root = root
        self.flow = flow
        self.number = number
        self.taken = taken
        self.names: dict[str, str] = {}  # id of the model -> id in the file
        self.steps = {step.id: step for step in flow.steps}
        self.inside: dict[str | None, list[Step]] = {}
        for step in flow.steps:
            self.inside.setdefault(step.scope if step.scope in self.steps else None, []).append(step)
        self.out: dict[str, int] = {}
        self.into: dict[str, int] = {}
        for link in flow.links:
            if link.role != "attach":
                self.out[link.source] = self.out.get(link.source, 0) + 1
                self.into[link.target] = self.into.get(link.target, 0) + 1
        self.elements: dict[str, ET.Element] = {}
        self.tags: dict[str, str] = {}
        self.edges: list[tuple[str, str, str]] = []  # id of the edge, ids of its ends in the file
        self.catchers: dict[
            str, str
        ] = {}  # border event of an error route -> the activity, ids: of the file, of the model
        self.events: dict[str, str] = {}  # border event -> the activity it sits on
        self.recorded: list[tuple[ET.Element, ET.Element]] = []  # elements with their records

    def element_id(self, key: str, prefix: str = "") -> str:
        """The id of a record within the file: an XML name that occurs once."""
        if key in self.names and not prefix:
            return self.names[key]
        base = xml_name(prefix + key)[:80]
        made, number = base, 2
        while made in self.taken:
            made, number = f"{base}_{number}", number + 1
        self.taken.add(made)
        if not prefix:
            self.names[key] = made
        return made

    def write_process(self) -> ET.Element:
        """Adds the process to the definitions; returns its diagram."""
        flow = self.flow
        process_id = self.element_id(f"\x00{flow.id}") if flow.id in self.steps else self.element_id(flow.id)
        process = ET.SubElement(
            self.root,
            B + "process",
            {"id": process_id, "name": clean_text(flow.name), "isExecutable": is_executable(flow)},
        )
        if flow.description:
            ET.SubElement(process, B + "documentation").text = clean_text(flow.description)
        self._write_own_record(process, flow, E.FLOW_SAID, {"id": flow.id})
        self._write_lanes(process)
        inner = self._event_scopes()
        self._write_level(process, None, [trigger for trigger in flow.triggers if trigger.id not in inner], inner)
        self._write_links(process)
        self._write_artifacts(process)
        for element, record in self.recorded:
            # What the BPMN says now, so that a reader sees what was edited since.
            record.set("facts", write_facts(facts_of(said_by(element))))
        return write_diagram(self, process_id)

    def _write_own_record(
        self, element: ET.Element, record: Record, said: tuple[str, ...], more: dict[str, Any] | None = None
    ) -> None:
        """The extension with what BPMN does not say of a record."""
        plain: dict[str, Any] = {key: value for key, value in msgspec.to_builtins(record).items() if key not in said}
        plain |= more or {}
        extension = ET.SubElement(element, B + "extensionElements")
        made = ET.SubElement(extension, Z + "record")
        made.text = msgspec.json.encode(plain).decode().translate(ESCAPES)
        self.recorded.append((element, made))

    def _write_lanes(self, process: ET.Element) -> None:
        lanes: dict[str, list[str]] = {}
        records: list[Step | Trigger] = [*self.flow.triggers, *self.flow.steps]
        for record in records:
            for second in record.inputs:
                if second.name == "lane" and isinstance(second.value, str):
                    lanes.setdefault(second.value, []).append(record.id)
        if not lanes:
            return
        outer = ET.SubElement(process, B + "laneSet", {"id": self.element_id("lanes", f"p{self.number}_")})
        for lane, members in lanes.items():
            made = ET.SubElement(outer, B + "lane", {"id": self.element_id(lane, "lane_"), "name": clean_text(lane)})
            for member in members:
                ET.SubElement(made, B + "flowNodeRef").text = self.element_id(member)

    def _event_scopes(self) -> dict[str, str]:
        """Triggers that stand inside an event sub-process, and its id."""
        found: dict[str, str] = {}
        triggers = {trigger.id for trigger in self.flow.triggers}
        for link in self.flow.links:
            target = self.steps.get(link.target)
            if link.source in triggers and target is not None and target.operation == E.EVENT_SUBPROCESS:
                found[link.source] = target.id
        return found

    # -- elements -----------------------------------------------------------------------------------------------------

    def _write_level(
        self, parent: ET.Element, scope: str | None, triggers: list[Trigger], inner: dict[str, str]
    ) -> None:
        for trigger in triggers:
            self._write_trigger(parent, trigger, scope)
        for step in self.inside.get(scope, ()):
            tag = self.tags[step.id] = self._element_tag(step)
            if tag == "textAnnotation":
                continue
            element = ET.SubElement(parent, B + tag, {"id": self.element_id(step.id), "name": clean_text(step.name)})
            self.elements[step.id] = element
            if step.note:
                ET.SubElement(element, B + "documentation").text = clean_text(step.note)
            self._write_own_record(element, step, E.STEP_SAID, {"id": step.id})
            self._write_details(element, step, tag)
            if tag in E.SCOPES:
                held = [trigger for trigger in self.flow.triggers if inner.get(trigger.id) == step.id]
                self._write_level(element, step.id, held, inner)

    def _element_tag(self, step: Step) -> str:
        first = step.operation.split(" ")[0]
        if step.kind == "note":
            return KINDS["note"].bpmn
        row = KINDS[step.kind]
        if step.id in self.inside or row.bpmn == "subProcess":
            return first if first in E.SCOPES else "subProcess"
        if first == "boundaryEvent":
            return first if self._border_link(step) else "intermediateThrowEvent"
        if first in ("startEvent", "textAnnotation", *E.SCOPES):
            return "task" if first == "startEvent" else "subProcess"
        if first in E.NODES:
            return first
        if step.kind == "decide" and step.inclusive:
            return "inclusiveGateway"
        if step.kind == "join":
            return {"each": "exclusiveGateway", "once": "inclusiveGateway"}.get(step.join or "all", "parallelGateway")
        return row.bpmn

    def _border_link(self, step: Step) -> Link | None:
        """The link by which a border event hangs on an activity."""
        for link in self.flow.links:
            source = self.steps.get(link.source)
            if (
                link.target == step.id
                and source is not None
                and source.scope == step.scope
                and self._tag_of(source) in _ACTIVITIES
            ):
                return link
        return None

    def _tag_of(self, step: Step) -> str:
        if step.operation.startswith("boundaryEvent"):
            return "boundaryEvent"
        return self.tags.get(step.id) or self._element_tag(step)

    def _write_details(self, element: ET.Element, step: Step, tag: str) -> None:
        words = step.operation.split(" ")
        if tag == "boundaryEvent":
            held = self._border_link(step)
            assert held is not None
            element.set("attachedToRef", self.element_id(held.source))
            if held.label.endswith("(goes on)"):
                element.set("cancelActivity", "false")
            self.events[step.id] = held.source
        if tag in E.EVENTS and len(words) > 1:
            self._write_definition(element, words[1], {second.name: second.value for second in step.inputs})
        elif tag == "callActivity" and step.calls:
            element.set("calledElement", xml_name(step.calls))
        elif tag in E.SCOPES:
            self._write_scope(element, step)
        if tag == "scriptTask":
            write_script(element, step)

    def _write_scope(self, element: Element[str], step: Step) -> None:
        if step.operation == E.EVENT_SUBPROCESS:
            element.set("triggeredByEvent", "true")
        if step.kind == "loop":
            self._write_marker(element, step)

    def _write_marker(self, element: ET.Element, step: Step) -> None:
        repeat = step.repeat
        if "multiInstance" in step.operation or (
            repeat is not None and (repeat.items or repeat.count is not None) and not repeat.until
        ):
            marker = ET.SubElement(element, B + E.MARKERS[0])
            if repeat is not None and repeat.count is not None:
                ET.SubElement(marker, B + "loopCardinality", {XSI + "type": "bpmn:tFormalExpression"}).text = str(
                    repeat.count
                )
            return
        marker = ET.SubElement(element, B + E.MARKERS[1])
        if repeat is not None and repeat.cap is not None:
            marker.set("loopMaximum", str(repeat.cap))
        if repeat is not None and repeat.until:
            ET.SubElement(marker, B + "loopCondition", {XSI + "type": "bpmn:tFormalExpression"}).text = clean_text(
                repeat.until
            )

    def _write_definition(self, element: ET.Element, word: str, said: dict[str, Any]) -> None:
        tag = f"{word}EventDefinition"
        if tag not in E.DEFINITIONS:
            return
        made = ET.SubElement(element, B + tag)
        if tag == "timerEventDefinition":
            for name in ("timeDate", "timeDuration", "timeCycle"):
                if said.get(name):
                    ET.SubElement(made, B + name, {XSI + "type": "bpmn:tFormalExpression"}).text = clean_text(
                        str(said[name])
                    )
                    break
        elif tag == "conditionalEventDefinition":
            ET.SubElement(made, B + "condition", {XSI + "type": "bpmn:tFormalExpression"}).text = clean_text(
                str(said.get("condition", ""))
            )
        elif tag == "linkEventDefinition":
            made.set("name", clean_text(str(said.get("name", ""))))

    def _write_trigger(self, parent: ET.Element, trigger: Trigger, scope: str | None) -> None:
        element = ET.SubElement(
            parent, B + "startEvent", {"id": self.element_id(trigger.id), "name": clean_text(trigger.name)}
        )
        self.elements[trigger.id] = element
        self.tags[trigger.id] = "startEvent"
        if trigger.note:
            ET.SubElement(element, B + "documentation").text = clean_text(trigger.note)
        self._write_own_record(element, trigger, E.TRIGGER_SAID, {"id": trigger.id})
        schedule = trigger.schedule
        row = TRIGGERS[trigger.kind]
        if row.bpmn == "timer":
            self._write_clock(schedule, element)
        elif row.bpmn:
            # Only the start of an event sub-process may catch an error (clause 10.5.6).
            word = "message" if row.bpmn == "error" and scope is None else row.bpmn
            self._write_definition(element, word, {})
        if scope is not None:
            # The way from the start into an event sub-process: to the steps that nothing else leads to.
            self._write_entry(parent, trigger, scope)

    def _write_clock(self, schedule: Schedule | None, element: Element[str]) -> None:
        clock = ""
        if schedule is not None:
            clock = schedule.cron or schedule.rule or schedule.repeat or ""
            if schedule.every is not None:
                clock = f"R/PT{schedule.every:g}S"
        self._write_definition(element, "timer", {"timeCycle": clock})

    def _write_entry(self, parent: Element[str], trigger: Trigger, scope: str) -> None:
        reached = {link.target for link in self.flow.links}
        for number, step in enumerate(step for step in self.inside.get(scope, ()) if step.id not in reached):
            edge = self.element_id(f"{trigger.id}.{number}", "entry_")
            ET.SubElement(
                parent,
                B + "sequenceFlow",
                {"id": edge, "sourceRef": self.element_id(trigger.id), "targetRef": self.element_id(step.id)},
            )
            self.edges.append((edge, trigger.id, step.id))

    # -- links --------------------------------------------------------------------------------------------------------

    def _container_of(self, process: ET.Element, link: Link) -> ET.Element:
        """The element in which a link stands: the innermost scope that holds both ends."""

        def scopes(key: str) -> list[str]:
            found: list[str] = []
            step = self.steps.get(key)
            while step is not None and step.scope is not None and step.scope not in found:
                found.append(step.scope)
                step = self.steps.get(step.scope)
            return found

        target = scopes(link.target)
        common = next((text for text in scopes(link.source) if text in target), None)
        return self.elements[common] if common is not None else process

    def _write_links(self, process: ET.Element) -> None:
        for number, link in enumerate(self.flow.links, 1):
            source, target = self.steps.get(link.source), self.steps.get(link.target)
            if link.role == "attach" or "textAnnotation" in (self.tags.get(link.source), self.tags.get(link.target)):
                continue
            if (
                target is not None
                and (self.events.get(target.id) == link.source or target.operation == E.EVENT_SUBPROCESS)
                and source is None
            ):
                continue
            if target is not None and self.events.get(target.id) == link.source:
                continue
            if target is not None and target.scope == link.source:
                continue  # names a branch of a scope: an association
            self._write_sequence(self._container_of(process, link), link, number)

    def _write_sequence(self, parent: ET.Element, link: Link, number: int) -> None:
        edge = self.element_id(f"{number}", f"flow{self.number}_")
        made = ET.SubElement(
            parent,
            B + "sequenceFlow",
            {"id": edge, "sourceRef": self.element_id(link.source), "targetRef": self.element_id(link.target)},
        )
        if link.label:
            made.set("name", clean_text(link.label))
        if link.note:
            ET.SubElement(made, B + "documentation").text = clean_text(link.note)
        if link.otherwise and self.tags.get(link.source) in _WITH_DEFAULT:
            self.elements[link.source].set("default", edge)
        self._write_own_record(made, link, E.LINK_SAID)
        if link.condition:
            ET.SubElement(made, B + "conditionExpression", {XSI + "type": "bpmn:tFormalExpression"}).text = clean_text(
                link.condition
            )
        self.edges.append((edge, link.source, link.target))

    def _write_artifacts(self, process: ET.Element) -> None:
        """Notes, and links that are no sequence: helpers of an agent, names of branches."""
        for step in self.flow.steps:
            if self.tags.get(step.id) == "textAnnotation":
                made = ET.SubElement(process, B + "textAnnotation", {"id": self.element_id(step.id)})
                self.elements[step.id] = made
                self._write_own_record(made, step, ("id", "origin", "position"), {"id": step.id})
                ET.SubElement(made, B + "text").text = clean_text(step.note or step.name)
        for number, link in enumerate(self.flow.links, 1):
            target = self.steps.get(link.target)
            notes = "textAnnotation" in (self.tags.get(link.source), self.tags.get(link.target))
            inward = target is not None and target.scope == link.source
            if link.role == "attach" or notes or inward:
                key = self.element_id(f"{number}", f"tie{self.number}_")
                made = ET.SubElement(
                    process,
                    B + "association",
                    {"id": key, "sourceRef": self.element_id(link.source), "targetRef": self.element_id(link.target)},
                )
                self._write_own_record(made, link, E.LINK_SAID)
                self.edges.append((key, link.source, link.target))
