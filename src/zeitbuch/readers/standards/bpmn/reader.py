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
    Ref,
    Step,
    StepKind,
    Trigger,
    Variable,
)
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.xml_tree import Element

from .details import count, definition_of, event_word, local_name, one_by_one, repeat_of, told, unread_of
from .extension_records import Own, has_record


def recognises(document: Any) -> bool:
    """Whether a document is BPMN: its root is `definitions` of the BPMN model, under any prefix."""
    return isinstance(document, Element) and document.tag == "definitions" and document.space == E.MODEL_SPACE


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """One flow for each process of the definitions."""
    book = Definitions(document, base)
    processes = document.all("process")
    for process in processes:
        share = (
            count
            if len(processes) == 1
            else sum(len(entry.attributes) + bool(entry.text.strip()) for entry in process.walk())
        )
        yield ProcessReader(book, process, share).flow()


class Definitions:
    """What the processes of one file share: messages, signals, errors, participants, positions."""

    def __init__(self, root: Element, base: Origin) -> None:
        self.root = root
        self.base = base
        self.names = {
            element.get("id"): element.get("name") or element.get("errorCode") or element.get("id")
            for element in root.children
            if element.get("id")
        }
        self.places: dict[str, tuple[float, float]] = {}
        self.participants: dict[str, Element] = {}
        self.message_flows: dict[str, tuple[str, str]] = {}
        called = {local_name(element.get("calledElement")) for element in root.walk() if element.tag == "callActivity"}
        self.called = called - {""}
        for collaboration in root.all("collaboration"):
            for participant in collaboration.all("participant"):
                self.participants[local_name(participant.get("processRef"))] = participant
            for flow in collaboration.all("messageFlow"):
                ends = local_name(flow.get("sourceRef")), local_name(flow.get("targetRef"))
                self.message_flows[ends[0]] = (flow.get("name") or flow.get("id"), ends[1])
        for shape in root.walk():
            if shape.tag == "BPMNShape":
                bounds = shape.first("Bounds")
                if bounds is not None:
                    try:
                        self.places[local_name(shape.get("bpmnElement"))] = (
                            float(bounds.get("x")),
                            float(bounds.get("y")),
                        )
                    except ValueError:
                        continue

    def origin(self, element: Element) -> Origin:
        """Where an element stands."""
        pointer = f"/{element.tag}[@id='{element.get('id')}']" if element.get("id") else f"/{element.tag}"
        return Origin(self.base.source, pointer, self.base.member, element.line, element.column)

    def named(self, reference: str) -> str:
        return self.names.get(local_name(reference), local_name(reference))


class ProcessReader:
    """Reads one process."""

    def __init__(self, book: Definitions, process: Element, count: int) -> None:
        self.book = book
        self.process = process
        self.count = count
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.lanes: dict[str, str] = {}
        self.lost: dict[str, Any] = {}
        self.read = 0
        self.wrapped: dict[str, str] = {}  # activity with a marker -> the loop around it
        self.data: dict[str, str] = {}  # data object reference -> name
        self.writers: dict[str, str] = {}  # data object reference -> activity that writes it
        self.incoming: dict[str, int] = {}
        self.outgoing: dict[str, int] = {}
        self.defaults: set[str] = set()
        for element in process.walk():
            if element.tag == "sequenceFlow":
                source, target = local_name(element.get("sourceRef")), local_name(element.get("targetRef"))
                self.outgoing[source] = self.outgoing.get(source, 0) + 1
                self.incoming[target] = self.incoming.get(target, 0) + 1
            elif element.tag in ("dataObjectReference", "dataStoreReference", "dataObject"):
                self.data[element.get("id")] = element.get("name") or element.get("id")
            if element.get("default"):
                self.defaults.add(local_name(element.get("default")))
            if element.tag in E.NODES:
                if has_record(element):
                    continue  # written by us: it says itself what it is
                if any(element.first(name) is not None for name in E.MARKERS) and element.tag not in E.SCOPES:
                    self.wrapped[element.get("id")] = element.get("id") + ".each"
                for written in element.all("dataOutputAssociation"):
                    target_ref = written.first("targetRef")
                    if target_ref is not None:
                        self.writers.setdefault(local_name(target_ref.text), element.get("id"))
        self.own = Own(process)
        self.ids = self.own.ids
        self.routes = self.own.routes
        for lane in process.walk():
            if lane.tag == "lane":
                for ref in lane.all("flowNodeRef"):
                    self.lanes[local_name(ref.text)] = lane.get("name") or lane.get("id")

    def flow(self) -> tuple[Flow, list[Problem]]:
        """The process as a flow."""
        process, book = self.process, self.book
        self._container(process, None)
        key = process.get("id") or process.get("name") or "process"
        participant = book.participants.get(key)
        pool = participant.get("name") if participant is not None else ""
        note = process.first("documentation")
        stores = [element for element in process.walk() if element.tag == "dataStoreReference"]
        objects = [element for element in process.walk() if element.tag in ("dataObjectReference", "property")]
        for attribute, value in process.attributes.items():
            if attribute not in ("id", "name", "isExecutable", "isClosed", "processType"):
                self.lost[attribute] = value
        extension = process.first("extensionElements")
        if extension is not None and not self.own.has(process):
            self.lost["extensionElements"] = extension.plain()
        unread = (
            count(self.lost)
            + sum(count(step.unread) for step in self.steps)
            + sum(count(trigger.unread) for trigger in self.triggers)
        )
        if not self.triggers and key in book.called:
            self.triggers.append(Trigger(id=f"{key}.called", kind="call", operation="calledElement"))
            self.links += [Link(source=f"{key}.called", target=step.id) for step in self._roots()]
        flow = Flow(
            id=key,
            name=process.get("name") or pool,
            description=note.text.strip() if note is not None else "",
            folder=pool,
            triggers=tuple(self.triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            connections=tuple(
                Connection(id=element.get("id"), name=element.get("name"), service="data store") for element in stores
            ),
            variables=tuple(Variable(name=element.get("name") or element.get("id")) for element in objects),
            unread=self.lost,
            format="bpmn",
            content=Content(values=self.count, unread=unread),
            origin=book.origin(process),
        )
        return self.own.flow(flow), [*self.problems, *self.own.problems]

    def _roots(self) -> list[Step]:
        reached = {link.target for link in self.links}
        return [
            step
            for step in self.steps
            if step.scope is None and step.id not in reached and step.kind not in ("note", "group")
        ]

    def _end(self, reference: str) -> str:
        """The step that stands for an element as the end of a link."""
        name = local_name(reference)
        name = self.routes.get(name, name)
        return self.ids.get(name) or self.wrapped.get(name, name)

    def _container(self, container: Element, scope: str | None) -> None:
        starts: set[str] = set()
        for element in container.children:
            tag = element.tag
            if tag in E.TASKS or tag in E.SCOPES:
                self._activity(element, scope)
            elif tag in E.GATEWAYS:
                self._gateway(element, scope)
            elif tag == "startEvent" and (scope is None or container.get("triggeredByEvent") == "true"):
                self._trigger(element, container, scope)
                starts.add(self._end(element.get("id")))
            elif tag in E.EVENTS and element.get("id") not in self.routes:
                self._event(element, scope)
            elif tag in E.NOTES:
                words = element.first("text")
                text = words.text.strip() if words is not None else local_name(element.get("categoryValueRef"))
                self._add(element, "note", tag, scope, note=text)
        for element in container.all("sequenceFlow"):
            self._sequence(element, starts if scope is not None else set())
        for element in container.all("association"):
            own = self.own.link(
                element, self._end(element.get("sourceRef")), self._end(element.get("targetRef")), self.book
            )
            if own is not None:
                self.links.append(own)
        if scope is None:
            attached = {
                element.get("id"): element
                for element in self.process.walk()
                if element.tag == "boundaryEvent" and element.get("id") not in self.routes
            }
            for event in attached.values():
                self._attach(event)

    def _sequence(self, element: Element, inner_starts: set[str]) -> None:
        source, target = self._end(element.get("sourceRef")), self._end(element.get("targetRef"))
        if source in inner_starts:
            return  # the entry of an event sub-process: nothing leads to it from within
        own = self.own.link(element, source, target, self.book)
        if own is not None:
            self.links.append(own)
            return
        role: LinkRole = "next"
        condition = element.first("conditionExpression")
        words = condition.text.strip() if condition is not None else ""
        label = element.get("name")
        kinds = {step.id: step.kind for step in self.steps}
        if element.get("id") in self.defaults:
            label = label or "otherwise"
        if kinds.get(source) == "decide" or words or element.get("id") in self.defaults:
            role = "case"
        self.links.append(
            Link(
                source=source, target=target, role=role, label=label, condition=words, origin=self.book.origin(element)
            )
        )

    def _attach(self, event: Element) -> None:
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
        going_on = event.get("cancelActivity") == "false"
        label = (event.get("name") or event_word(kind)) + (" (goes on)" if going_on else "")
        self.links.append(
            Link(
                source=self._end(event.get("attachedToRef")), target=self._end(event.get("id")), role=role, label=label, after=after,
                origin=self.book.origin(event),
            )
        )  # fmt: skip

    # -- elements -----------------------------------------------------------------------------------------------------

    def _add(self, element: Element, kind: StepKind, operation: str, scope: str | None, **more: Any) -> None:
        own = self.own.step(element, self.ids.get(scope, scope) if scope else None, self.book)
        if own is not None:
            self.steps.append(own)
            return
        step_id = element.get("id") or f"{element.tag}.{element.line}.{element.column}"
        note = element.first("documentation")
        inputs = list(more.pop("inputs", ()))
        lane = self.lanes.get(step_id)
        if lane:
            inputs.insert(0, Binding(name="lane", value=lane))
        inputs += self._data(element)
        flow = self.book.message_flows.get(step_id)
        if flow is not None:
            inputs.append(Binding(name="message", value=flow[0], description=f"to {flow[1]}"))
        step = Step(
            id=step_id,
            kind=kind,
            name=element.get("name"),
            operation=operation,
            scope=scope,
            inputs=tuple(inputs),
            note=more.pop("note", "") or (note.text.strip() if note is not None else ""),
            position=self.book.places.get(step_id),
            origin=self.book.origin(element),
            unread=unread_of(element),
            **more,
        )
        self.steps.append(step)

    def _data(self, element: Element) -> list[Binding]:
        """Data inputs: what a task reads, and which step writes it."""
        found: list[Binding] = []
        for association in element.all("dataInputAssociation"):
            source = association.first("sourceRef")
            if source is None:
                continue
            key = local_name(source.text)
            writer = self.writers.get(key)
            ref = Ref(step=self.wrapped.get(writer, writer)) if writer else Ref(variable=self.data.get(key, key))
            found.append(Binding(name=self.data.get(key, key), decided="data", refs=(ref,)))
        for association in element.all("dataOutputAssociation"):
            target = association.first("targetRef")
            if target is not None:
                key = local_name(target.text)
                found.append(Binding(name="writes", value=self.data.get(key, key)))
        return found

    def _activity(self, element: Element, scope: str | None) -> None:
        tag = element.tag
        inputs: list[Binding] = []
        more: dict[str, Any] = {}
        if tag in E.SCOPES:
            self._scope(element, scope)
            return
        kind, effect = E.TASKS[tag]
        more["effect"] = effect
        if tag == "callActivity":
            more["calls"] = local_name(element.get("calledElement")) or None
        script = element.first("script")
        if script is not None:
            inputs.append(Binding(name="script", value=script.text.strip()))
            if element.get("scriptFormat"):
                inputs.append(Binding(name="language", value=element.get("scriptFormat")))
        if element.get("messageRef"):
            inputs.append(Binding(name="message", value=self.book.named(element.get("messageRef"))))
        marker = next((m for name in E.MARKERS if (m := element.first(name)) is not None), None)
        if marker is not None:
            loop = self.wrapped[element.get("id")]
            self.steps.append(
                Step(
                    id=loop, kind="loop", name=repeated(element.get("name")), operation=marker.tag, scope=scope, repeat=repeat_of(marker, self.data),
                    inputs=one_by_one(marker), origin=self.book.origin(marker), position=self.book.places.get(element.get("id")),
                )
            )  # fmt: skip
            scope = loop
        self._add(element, kind, tag, scope, inputs=inputs, **more)

    def _scope(self, element: Element, scope: str | None) -> None:
        marker = next((m for name in E.MARKERS if (m := element.first(name)) is not None), None)
        kind: StepKind = E.SCOPES[element.tag]
        operation = element.tag
        more: dict[str, Any] = {}
        if marker is not None:
            kind = "loop"
            operation = f"{element.tag} {marker.tag}"
            more = {"repeat": repeat_of(marker, self.data), "inputs": one_by_one(marker)}
        elif element.get("triggeredByEvent") == "true":
            operation = E.EVENT_SUBPROCESS
        self._add(element, kind, operation, scope, **more)
        for lane in element.walk():
            if lane.tag == "lane":
                for ref in lane.all("flowNodeRef"):
                    self.lanes.setdefault(local_name(ref.text), lane.get("name") or lane.get("id"))
        self._container(element, element.get("id"))

    def _gateway(self, element: Element, scope: str | None) -> None:
        key, tag = element.get("id"), element.tag
        merging = self.outgoing.get(key, 0) <= 1 and self.incoming.get(key, 0) > 1
        both = tag == "parallelGateway" and self.incoming.get(key, 0) > 1
        if merging or both:
            self._add(element, "join", tag, scope, join=E.JOINS[tag])
        else:
            inclusive = tag in ("inclusiveGateway", "complexGateway")
            self._add(element, E.GATEWAYS[tag], tag, scope, inclusive=inclusive)

    def _event(self, element: Element, scope: str | None) -> None:
        definition = definition_of(element)
        word = definition.tag.removesuffix("EventDefinition") if definition is not None else ""
        operation = f"{element.tag} {word}".strip()
        inputs = told(definition, self.book.named) if definition is not None else []
        kind: StepKind = "join"
        effect = "none"
        if element.tag == "endEvent":
            kind = "end"
            effect = "send" if word in ("message", "signal") else "none"
        elif element.tag == "intermediateCatchEvent":
            kind = "wait"
        elif element.tag == "intermediateThrowEvent" and word in ("message", "signal", "escalation"):
            kind, effect = "send", "send"
        self._add(element, kind, operation, scope, inputs=inputs, effect=effect)

    def _trigger(self, element: Element, container: Element, scope: str | None) -> None:
        own = self.own.trigger(element, self.book)
        if own is not None:
            self.triggers.append(own)
            if scope is not None:
                target = self.ids.get(container.get("id"), container.get("id"))
                self.links.append(Link(source=own.id, target=target, origin=self.book.origin(element)))
            return
        definition = definition_of(element)
        kind = E.DEFINITIONS.get(definition.tag, "event") if definition is not None else "manual"
        if kind == "manual" and self.process.get("id") in self.book.called:
            kind = "call"
        heard = told(definition, self.book.named) if definition is not None else []
        said = {second.name: second.value for second in heard}
        schedule = None
        clock = said.get("timeCycle") or said.get("timeDuration") or ""
        if kind == "schedule":
            schedule = clock_texts.schedule(str(clock))
        key = element.get("id") or f"start.{element.line}"
        event = str(said.get("message") or said.get("signal") or said.get("error") or said.get("escalation") or "")
        used = {"timeCycle"} if schedule is not None else set()
        self.triggers.append(
            Trigger(
                id=key,
                kind=kind,
                name=element.get("name"),
                operation=f"startEvent {definition.tag.removesuffix('EventDefinition')}"
                if definition is not None
                else "startEvent",
                schedule=schedule,
                event=event,
                condition=str(said.get("condition") or ""),
                inputs=tuple(
                    second
                    for second in heard
                    if second.name not in used | {"message", "signal", "error", "escalation", "condition"}
                )
                + self._lane(key),
                position=self.book.places.get(key),
                origin=self.book.origin(element),
                unread=unread_of(element),
            )
        )
        if scope is not None:
            self.links.append(Link(source=key, target=container.get("id"), origin=self.book.origin(element)))

    def _lane(self, key: str) -> tuple[Binding, ...]:
        return (Binding(name="lane", value=self.lanes[key]),) if key in self.lanes else ()


def repeated(name: str) -> str:
    """The name of the loop around an activity with a marker."""
    return f"{name} (repeated)" if name else ""
