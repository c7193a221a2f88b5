# BPMN 2.0 XML (OMG formal/2011-01-03) -> flows, one for each process. Every flow element becomes a step or a trigger;
# what has no place in the model stays in `unread`.
"""Reading BPMN 2.0."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Binding,
    Connection,
    Content,
    Flow,
    Link,
    LinkRole,
    Origin,
    Outcome,
    Step,
    StepKind,
    Trigger,
    Variable,
)
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.xml_tree import Element

from .definitions import Definitions
from .details import (
    count_values,
    definition_inputs,
    definition_of,
    event_word,
    local_name,
    one_by_one,
    repeat_of,
    unread_of,
)
from .extension_records import OwnRecords
from .process_index import ProcessIndex

_HEARD_EVENTS = ("message", "signal", "error", "escalation")
_HEARD = frozenset({*_HEARD_EVENTS, "condition"})


def recognises(document: Any) -> bool:
    """Whether a document is BPMN: its root is `definitions` of the BPMN model, under any prefix."""
    return isinstance(document, Element) and document.tag == "definitions" and document.space == E.MODEL_SPACE


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """One flow for each process of the definitions."""
    definitions = Definitions(document, base)
    processes = document.children_with("process")
    for process in processes:
        share = (
            count
            if len(processes) == 1
            else sum(len(entry.attributes) + bool(entry.text.strip()) for entry in process.walk_tree())
        )
        yield ProcessReader(definitions, process, share).read_flow()


class ProcessReader:
    """Reads one process."""

    def __init__(self, definitions: Definitions, process: Element, count: int) -> None:
        self.definitions = definitions
        self.process = process
        self.count = count
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.lost: dict[str, Any] = {}
        self.read = 0
        self.own = OwnRecords(process)
        self.ids = self.own.ids
        self.routes = self.own.routes
        self.index = ProcessIndex(process)

    def read_flow(self) -> tuple[Flow, list[Problem]]:
        """The process as a flow."""
        process, definitions = self.process, self.definitions
        self._read_container(process, None)
        key = process.attribute("id") or process.attribute("name") or "process"
        participant = definitions.participants.get(key)
        pool = participant.attribute("name") if participant is not None else ""
        note = process.first_child("documentation")
        stores, objects = self._note_lost(process)
        unread = (
            count_values(self.lost)
            + sum(count_values(step.unread) for step in self.steps)
            + sum(count_values(trigger.unread) for trigger in self.triggers)
        )
        self._add_called_trigger(key, definitions)
        flow = Flow(
            id=key,
            name=process.attribute("name") or pool,
            description=note.text.strip() if note is not None else "",
            folder=pool,
            triggers=tuple(self.triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            connections=tuple(
                Connection(id=element.attribute("id"), name=element.attribute("name"), service="data store")
                for element in stores
            ),
            variables=tuple(Variable(name=element.attribute("name") or element.attribute("id")) for element in objects),
            unread=self.lost,
            format="bpmn",
            content=Content(values=self.count, unread=unread),
            origin=definitions.origin_of(process),
        )
        return self.own.read_flow(flow), [*self.problems, *self.own.problems]

    def _note_lost(self, process: Element) -> tuple[list[Element], list[Element]]:
        stores = [element for element in process.walk_tree() if element.tag == "dataStoreReference"]
        objects = [element for element in process.walk_tree() if element.tag in ("dataObjectReference", "property")]
        for attribute, value in process.attributes.items():
            if attribute not in ("id", "name", "isExecutable", "isClosed", "processType"):
                self.lost[attribute] = value
        extension = process.first_child("extensionElements")
        if extension is not None and not self.own.has_own_record(process):
            self.lost["extensionElements"] = extension.as_plain()
        return stores, objects

    def _add_called_trigger(self, key: str, definitions: Definitions) -> None:
        if not self.triggers and key in definitions.called:
            self.triggers.append(Trigger(id=f"{key}.called", kind="call", operation="calledElement"))
            self.links += [Link(source=f"{key}.called", target=step.id) for step in self._root_elements()]

    def _root_elements(self) -> list[Step]:
        reached = {link.target for link in self.links}
        return [
            step
            for step in self.steps
            if step.scope is None and step.id not in reached and step.kind not in ("note", "group")
        ]

    def _link_end(self, reference: str) -> str:
        """The step that stands for an element as the end of a link."""
        name = local_name(reference)
        name = self.routes.get(name, name)
        return self.ids.get(name) or self.index.wrapped.get(name, name)

    def _read_container(self, container: Element, scope: str | None) -> None:
        starts: set[str] = set()
        for element in container.children:
            self._read_node(container, scope, element, starts)
        for element in container.children_with("sequenceFlow"):
            self._read_sequence(element, starts if scope is not None else set())
        self._read_associations(container)
        if scope is None:
            self._attach_events()

    def _read_node(self, container: Element, scope: str | None, element: Element, starts: set[str]) -> None:
        tag = element.tag
        if tag in E.TASKS or tag in E.SCOPES:
            self._read_activity(element, scope)
        elif tag in E.GATEWAYS:
            self._read_gateway(element, scope)
        elif tag == "startEvent" and (scope is None or container.attribute("triggeredByEvent") == "true"):
            self._read_trigger(element, container, scope)
            starts.add(self._link_end(element.attribute("id")))
        elif tag in E.EVENTS and element.attribute("id") not in self.routes:
            self._read_event(element, scope)
        elif tag in E.NOTES:
            words = element.first_child("text")
            text = words.text.strip() if words is not None else local_name(element.attribute("categoryValueRef"))
            self._add_step(element, "note", tag, scope, note=text)

    def _read_associations(self, container: Element) -> None:
        for element in container.children_with("association"):
            own = self.own.read_link(
                element,
                self._link_end(element.attribute("sourceRef")),
                self._link_end(element.attribute("targetRef")),
                self.definitions,
            )
            if own is not None:
                self.links.append(own)

    def _attach_events(self) -> None:
        attached = {
            element.attribute("id"): element
            for element in self.process.walk_tree()
            if element.tag == "boundaryEvent" and element.attribute("id") not in self.routes
        }
        for event in attached.values():
            self._attach_event(event)

    def _read_sequence(self, element: Element, inner_starts: set[str]) -> None:
        source, target = self._link_end(element.attribute("sourceRef")), self._link_end(element.attribute("targetRef"))
        if source in inner_starts:
            return  # the entry of an event sub-process: nothing leads to it from within
        own = self.own.read_link(element, source, target, self.definitions)
        if own is not None:
            self.links.append(own)
            return
        role: LinkRole = "next"
        condition = element.first_child("conditionExpression")
        words = condition.text.strip() if condition is not None else ""
        label = element.attribute("name")
        kinds = {step.id: step.kind for step in self.steps}
        if element.attribute("id") in self.index.defaults:
            label = label or "otherwise"
        if kinds.get(source) == "decide" or words or element.attribute("id") in self.index.defaults:
            role = "case"
        self.links.append(
            Link(
                source=source,
                target=target,
                role=role,
                label=label,
                condition=words,
                origin=self.definitions.origin_of(element),
            )
        )

    def _attach_event(self, event: Element) -> None:
        """The arrow from an activity to an event on its border."""
        definition = definition_of(event)
        kind = definition.tag if definition is not None else ""
        role: LinkRole = (
            "error" if kind in ("errorEventDefinition", "cancelEventDefinition", "timerEventDefinition") else "case"
        )
        after: tuple[Outcome, ...] = ()
        if kind in ("errorEventDefinition", "cancelEventDefinition"):
            after = ("failure",)
        elif kind == "timerEventDefinition":
            after = ("timeout",)
        going_on = event.attribute("cancelActivity") == "false"
        label = (event.attribute("name") or event_word(kind)) + (" (goes on)" if going_on else "")
        self.links.append(
            Link(
                source=self._link_end(event.attribute("attachedToRef")), target=self._link_end(event.attribute("id")), role=role, label=label, after=after,
                origin=self.definitions.origin_of(event),
            )
        )  # fmt: skip

    # -- elements -----------------------------------------------------------------------------------------------------

    def _add_step(self, element: Element, kind: StepKind, operation: str, scope: str | None, **more: Any) -> None:
        own = self.own.read_step(element, self.ids.get(scope, scope) if scope else None, self.definitions)
        if own is not None:
            self.steps.append(own)
            return
        step_id = element.attribute("id") or f"{element.tag}.{element.line}.{element.column}"
        note = element.first_child("documentation")
        inputs = list(more.pop("inputs", ()))
        lane = self.index.lanes.get(step_id)
        if lane:
            inputs.insert(0, Binding(name="lane", value=lane))
        inputs += self.index.data_inputs(element)
        flow = self.definitions.message_flows.get(step_id)
        if flow is not None:
            inputs.append(Binding(name="message", value=flow[0], description=f"to {flow[1]}"))
        step = Step(
            id=step_id,
            kind=kind,
            name=element.attribute("name"),
            operation=operation,
            scope=scope,
            inputs=tuple(inputs),
            note=more.pop("note", "") or (note.text.strip() if note is not None else ""),
            position=self.definitions.places.get(step_id),
            origin=self.definitions.origin_of(element),
            unread=unread_of(element),
            **more,
        )
        self.steps.append(step)

    def _read_activity(self, element: Element, scope: str | None) -> None:
        tag = element.tag
        inputs: list[Binding] = []
        more: dict[str, Any] = {}
        if tag in E.SCOPES:
            self._read_scope(element, scope)
            return
        kind, effect = E.TASKS[tag]
        more["effect"] = effect
        if tag == "callActivity":
            more["calls"] = local_name(element.attribute("calledElement")) or None
        script = element.first_child("script")
        if script is not None:
            inputs.append(Binding(name="script", value=script.text.strip()))
            if element.attribute("scriptFormat"):
                inputs.append(Binding(name="language", value=element.attribute("scriptFormat")))
        if element.attribute("messageRef"):
            inputs.append(
                Binding(name="message", value=self.definitions.element_named(element.attribute("messageRef")))
            )
        marker = next((m for name in E.MARKERS if (m := element.first_child(name)) is not None), None)
        if marker is not None:
            loop = self.index.wrapped[element.attribute("id")]
            self.steps.append(
                Step(
                    id=loop, kind="loop", name=repeat_name(element.attribute("name")), operation=marker.tag, scope=scope, repeat=repeat_of(marker, self.index.data),
                    inputs=one_by_one(marker), origin=self.definitions.origin_of(marker), position=self.definitions.places.get(element.attribute("id")),
                )
            )  # fmt: skip
            scope = loop
        self._add_step(element, kind, tag, scope, inputs=inputs, **more)

    def _read_scope(self, element: Element, scope: str | None) -> None:
        marker = next((m for name in E.MARKERS if (m := element.first_child(name)) is not None), None)
        kind: StepKind = E.SCOPES[element.tag]
        operation = element.tag
        more: dict[str, Any] = {}
        if marker is not None:
            kind = "loop"
            operation = f"{element.tag} {marker.tag}"
            more = {"repeat": repeat_of(marker, self.index.data), "inputs": one_by_one(marker)}
        elif element.attribute("triggeredByEvent") == "true":
            operation = E.EVENT_SUBPROCESS
        self._add_step(element, kind, operation, scope, **more)
        self._read_container(element, element.attribute("id"))

    def _read_gateway(self, element: Element, scope: str | None) -> None:
        key, tag = element.attribute("id"), element.tag
        merging = self.index.outgoing.get(key, 0) <= 1 and self.index.incoming.get(key, 0) > 1
        both = tag == "parallelGateway" and self.index.incoming.get(key, 0) > 1
        if merging or both:
            self._add_step(element, "join", tag, scope, join=E.JOINS[tag])
        else:
            inclusive = tag in ("inclusiveGateway", "complexGateway")
            self._add_step(element, E.GATEWAYS[tag], tag, scope, inclusive=inclusive)

    def _read_event(self, element: Element, scope: str | None) -> None:
        definition = definition_of(element)
        word = definition.tag.removesuffix("EventDefinition") if definition is not None else ""
        operation = f"{element.tag} {word}".strip()
        inputs = definition_inputs(definition, self.definitions.element_named) if definition is not None else []
        kind: StepKind = "join"
        effect = "none"
        if element.tag == "endEvent":
            kind = "end"
            effect = "send" if word in ("message", "signal") else "none"
        elif element.tag == "intermediateCatchEvent":
            kind = "wait"
        elif element.tag == "intermediateThrowEvent" and word in ("message", "signal", "escalation"):
            kind, effect = "send", "send"
        self._add_step(element, kind, operation, scope, inputs=inputs, effect=effect)

    def _read_trigger(self, element: Element, container: Element, scope: str | None) -> None:
        own = self.own.read_trigger(element, self.definitions)
        if own is not None:
            self._add_own_trigger(element, container, scope, own)
            return
        definition = definition_of(element)
        kind = E.DEFINITIONS.get(definition.tag, "event") if definition is not None else "manual"
        if kind == "manual" and self.process.attribute("id") in self.definitions.called:
            kind = "call"
        heard = definition_inputs(definition, self.definitions.element_named) if definition is not None else []
        said = {binding.name: binding.value for binding in heard}
        clock = str(said.get("timeCycle") or said.get("timeDuration") or "")
        schedule = clock_texts.schedule_of_text(clock) if kind == "schedule" else None
        key = element.attribute("id") or f"start.{element.line}"
        used = _HEARD | ({"timeCycle"} if schedule is not None else set())
        self.triggers.append(
            Trigger(
                id=key,
                kind=kind,
                name=element.attribute("name"),
                operation=f"startEvent {definition.tag.removesuffix('EventDefinition')}"
                if definition is not None
                else "startEvent",
                schedule=schedule,
                event=next((str(said[name]) for name in _HEARD_EVENTS if said.get(name)), ""),
                condition=str(said.get("condition") or ""),
                inputs=(*[binding for binding in heard if binding.name not in used], *self._lane_input(key)),
                position=self.definitions.places.get(key),
                origin=self.definitions.origin_of(element),
                unread=unread_of(element),
            )
        )
        if scope is not None:
            self.links.append(
                Link(source=key, target=container.attribute("id"), origin=self.definitions.origin_of(element))
            )

    def _add_own_trigger(self, element: Element, container: Element, scope: str | None, own: Trigger) -> None:
        self.triggers.append(own)
        if scope is not None:
            target = self.ids.get(container.attribute("id"), container.attribute("id"))
            self.links.append(Link(source=own.id, target=target, origin=self.definitions.origin_of(element)))

    def _lane_input(self, key: str) -> tuple[Binding, ...]:
        return (Binding(name="lane", value=self.index.lanes[key]),) if key in self.index.lanes else ()


def repeat_name(name: str) -> str:
    """The name of the loop around an activity with a marker."""
    return f"{name} (repeated)" if name else ""
