# One element of a process -> one step or trigger; an activity with a marker -> a loop around it, a start with several
# definitions -> a trigger each.
"""Elements of a BPMN process as steps and triggers."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Link, Step, StepKind, Trigger
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.xml_tree import Element

from .definitions import Definitions
from .details import (
    definition_inputs,
    definitions_of,
    local_name,
    marker_inputs,
    repeat_of,
    short_word,
    take_child,
    take_name,
    take_note,
)
from .extension_records import OwnRecords
from .process_index import ProcessIndex


class ElementReader:
    """Reads the elements of one process, scopes and all."""

    def __init__(self, process: Element, definitions: Definitions, index: ProcessIndex, own: OwnRecords) -> None:
        self.process = process
        self.definitions = definitions
        self.index = index
        self.own = own
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.owners: list[tuple[str, Element]] = []  # step or trigger -> the element it stands for, outer ones first
        self.entries: set[str] = set()  # starts of event sub-processes

    def read_container(self, container: Element, scope: str | None) -> None:
        """Reads what stands in a process or sub-process."""
        for element in container.children:
            tag = element.tag
            if tag in E.SCOPES:
                self._read_scope(element, scope)
            elif tag in E.TASKS:
                self._read_task(element, scope)
            elif tag in E.GATEWAYS:
                self._read_gateway(element, scope)
            elif tag == "startEvent" and (scope is None or container.attribute("triggeredByEvent") == "true"):
                self._read_start(element, container, scope)
            elif tag in E.EVENTS and element.attribute("id") not in self.own.routes:
                self._read_event(element, scope)
            elif tag in E.NOTES:
                self._read_note(element, scope)
            elif tag in E.EVENTS:
                element.close()  # the border event of an error route that we drew

    def _add_step(self, element: Element, kind: StepKind, operation: str, scope: str | None, **more: Any) -> Step:
        step_id = element.take("id") or f"{element.tag}.{element.line}.{element.column}"
        inputs: list[Binding] = []
        lane = self.index.lanes.get(step_id)
        if lane:
            inputs.append(Binding(name="lane", value=lane))
        inputs += more.pop("inputs", ())
        for name, row in E.SAID_ATTRIBUTES.items():
            if element.attribute(name):
                value = element.take(name)
                inputs += [Binding(name=name, value=value)] if value != row.silent else []
        inputs += self.index.data_bindings(element)
        inputs += self.definitions.messages_at(step_id)
        self._take_arrows(element)
        element.mark("default")  # the arrow it names says so
        element.expect("gatewayDirection", "Unspecified", "Converging", "Diverging", "Mixed")
        note = more.pop("note", "") or take_note(element)
        read = Step(
            id=step_id, kind=kind, name=take_name(element), operation=operation, inputs=tuple(inputs), note=note,
            scope=self.own.ids.get(scope, scope) if scope is not None else None,
            position=self.definitions.places.get(step_id), origin=self.definitions.origin_of(element), **more,
        )  # fmt: skip
        made = self.own.step_of(element, read)
        self.steps.append(made)
        self.owners.append((made.id, element))
        return made

    def _take_arrows(self, element: Element) -> None:
        """The arrows that an element says come and go; one that is not there stays unread and is told."""
        for tag, end in (("incoming", "targetRef"), ("outgoing", "sourceRef")):
            for reference in element.children_with(tag):
                arrow = self.index.arrows.get(local_name(reference.text))
                if arrow is not None and local_name(arrow.attribute(end)) == element.attribute("id"):
                    reference.take_text()
                else:
                    self.definitions.tell_missing(local_name(reference.text), reference)

    def _read_task(self, element: Element, scope: str | None) -> None:
        tag = element.tag
        kind, effect = E.TASKS[tag]
        inputs: list[Binding] = []
        more: dict[str, Any] = {"effect": effect}
        if tag == "callActivity":
            more["calls"] = local_name(element.take("calledElement")) or None
        script = take_child(element, "script")
        if script:
            inputs.append(Binding(name="script", value=script))
        if element.attribute("scriptFormat"):
            inputs.append(Binding(name="language", value=element.take("scriptFormat")))
        for name in ("messageRef", "operationRef"):
            if element.attribute(name):
                value = self.definitions.element_named(element.take(name))
                inputs.append(Binding(name=name.removesuffix("Ref"), value=value))
        marker = self._marker_of(element)
        if marker is not None and self.own.loop_around(element):
            scope = self._add_loop(element, marker, scope)
        elif marker is not None:
            marker.close()  # its record says how it is repeated
        self._add_step(element, kind, tag, scope, inputs=inputs, **more)

    def _marker_of(self, element: Element) -> Element | None:
        return next((held for name in E.MARKERS if (held := element.first_child(name)) is not None), None)

    def _add_loop(self, element: Element, marker: Element, scope: str | None) -> str:
        """The loop around an activity with a marker."""
        key = self.index.wrapped[element.attribute("id")]
        name = " ".join(element.attribute("name").split())
        outer = self.own.ids.get(scope, scope) if scope is not None else None
        read = Step(
            id=key, kind="loop", name=E.repeat_name(name), operation=marker.tag, scope=outer, repeat=repeat_of(marker, self.index.data),
            inputs=marker_inputs(marker, self.index.data), origin=self.definitions.origin_of(marker),
            position=self.definitions.places.get(element.attribute("id")),
        )  # fmt: skip
        self.steps.append(self.own.loop_of(marker, read))
        self.owners.append((key, marker))
        return key

    def _read_scope(self, element: Element, scope: str | None) -> None:
        marker = self._marker_of(element)
        kind: StepKind = E.SCOPES[element.tag]
        operation = element.tag
        more: dict[str, Any] = {}
        if marker is not None:
            kind, operation = "loop", f"{element.tag} {marker.tag}"
            more = {"repeat": repeat_of(marker, self.index.data), "inputs": marker_inputs(marker, self.index.data)}
        elif element.attribute("triggeredByEvent") == "true":
            operation = E.EVENT_SUBPROCESS
        element.expect("triggeredByEvent", "true", "false")
        ends = take_child(element, "completionCondition")
        if ends:
            more["inputs"] = (*more.get("inputs", ()), Binding(name="completion condition", value=ends))
        self._add_step(element, kind, operation, scope, **more)
        self.read_container(element, element.attribute("id"))

    def _read_gateway(self, element: Element, scope: str | None) -> None:
        key, tag = element.attribute("id"), element.tag
        arriving, leaving = self.index.incoming.get(key, 0), len(self.index.leaving.get(key, ()))
        more: dict[str, Any] = {}
        activation = take_child(element, "activationCondition")
        if activation:
            more["inputs"] = (Binding(name="activation condition", value=activation),)
        if arriving > 1 and (leaving <= 1 or tag == "parallelGateway"):
            self._add_step(element, "join", tag, scope, join=E.JOINS[tag], **more)
        else:
            inclusive = tag in ("inclusiveGateway", "complexGateway")
            self._add_step(element, E.GATEWAYS[tag], tag, scope, inclusive=inclusive, **more)

    def _read_event(self, element: Element, scope: str | None) -> None:
        definitions = definitions_of(element, self.definitions)
        words = [short_word(definition) for definition in definitions]
        operation = " ".join([element.tag, *words])
        inputs = [binding for definition in definitions for binding in definition_inputs(definition, self.definitions)]
        if element.tag == "startEvent" and element.attribute("isInterrupting") == "false":
            inputs.append(Binding(name="interrupting", value=False))
        element.expect("isInterrupting", "true", "false")
        if element.tag == "boundaryEvent":
            element.mark("attachedToRef")
            element.expect("cancelActivity", "true", "false")
        word = words[0] if words else ""
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

    def _read_note(self, element: Element, scope: str | None) -> None:
        element.expect("textFormat", "text/plain")
        text = take_child(element, "text")
        if element.attribute("categoryValueRef"):
            reference = local_name(element.take("categoryValueRef"))
            if reference not in self.definitions.categories:
                self.definitions.tell_missing(reference, element)
            text = text or self.definitions.categories.get(reference, reference)
        about = tuple([self.own.ids.get(key, key) for key in self._noted(element.attribute("id"))])
        self._add_step(element, "note", element.tag, scope, note=text, about=about)

    def _noted(self, note: str) -> list[str]:
        """The elements that a note is tied to, where no record of ours says more of the tie."""
        found = []
        for tie in self.index.ties.get(note, ()):
            if not self.own.stands_for(tie):
                ends = [local_name(tie.attribute(name)) for name in ("sourceRef", "targetRef")]
                tie.noise("id")
                tie.mark("sourceRef", "targetRef")
                tie.expect("associationDirection", "None")
                found += [end for end in ends if end != note]
        return found

    # -- triggers -----------------------------------------------------------------------------------------------------

    def _read_start(self, element: Element, container: Element, scope: str | None) -> None:
        """The triggers of a start: one for each definition, by hand (or by a call) when it has none."""
        key = element.take("id") or f"start.{element.line}"
        definitions = definitions_of(element, self.definitions)
        more: list[Binding] = []
        if element.attribute("isInterrupting") == "false":
            more.append(Binding(name="interrupting", value=False))
        element.expect("isInterrupting", "true", "false")
        if element.attribute("parallelMultiple") == "true":
            more.append(Binding(name="together", value=len(definitions)))
        element.expect("parallelMultiple", "true", "false")
        lane = self.index.lanes.get(key)
        more += [Binding(name="lane", value=lane)] if lane else []
        more += [*self.index.data_bindings(element), *self.definitions.messages_at(key)]
        self._take_arrows(element)
        note = take_note(element)
        target = self.own.ids.get(container.attribute("id"), container.attribute("id"))
        for place, definition in enumerate(definitions or [None]):
            step_id = key if not place else f"{key}.{place + 1}"
            read = self._trigger_of(element, definition, step_id, more, note)
            made = self.own.trigger_of(element, read)
            self.triggers.append(made)
            if not place:
                self.owners.append((made.id, element))
            if scope is not None:
                self.links.append(Link(source=made.id, target=target, origin=self.definitions.origin_of(element)))
            elif place:
                self.links += self._ways_from(element, step_id)
            if self.own.stands_for(element):
                break  # the record says which of them it is
        self.entries |= {key, self.own.ids.get(key, key)} if scope is not None else set()

    def _ways_from(self, element: Element, trigger: str) -> list[Link]:
        """The arrows of a start for one more of its triggers."""
        found = []
        for arrow in self.index.leaving.get(element.attribute("id"), ()):
            target = local_name(arrow.attribute("targetRef"))
            target = self.index.wrapped.get(target) or self.own.ids.get(target, target)
            found.append(Link(source=trigger, target=target, origin=self.definitions.origin_of(arrow)))
        return found

    def _trigger_of(
        self, element: Element, definition: Element | None, key: str, more: list[Binding], note: str
    ) -> Trigger:
        kind = E.DEFINITIONS.get(definition.tag, "event") if definition is not None else "manual"
        if kind == "manual" and self.process.attribute("id") in self.definitions.called:
            kind = "call"
        heard = definition_inputs(definition, self.definitions) if definition is not None else []
        said = {binding.name: binding.value for binding in heard}
        clock = next((name for name in ("timeCycle", "timeDuration") if said.get(name)), "")
        schedule = clock_texts.schedule_of_text(str(said[clock])) if kind == "schedule" and clock else None
        event = next((name for name in E.HEARD if said.get(name)), "")
        used = {event, "condition"} | ({clock} if schedule is not None and clock == "timeCycle" else set())
        return Trigger(
            id=key,
            kind=kind,
            name=take_name(element),
            operation=f"startEvent {short_word(definition)}" if definition is not None else "startEvent",
            schedule=schedule,
            event=str(said.get(event, "")),
            condition=str(said.get("condition") or ""),
            inputs=(*[binding for binding in heard if binding.name not in used], *more),
            note=note,
            position=self.definitions.places.get(element.attribute("id")),
            origin=self.definitions.origin_of(element),
        )
