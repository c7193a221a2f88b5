# What all processes of a file share: messages and the like, event definitions, participants, what is drawn where.
"""The definitions of a BPMN file."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import said_of_named
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Origin
from zeitbuch.readers.input.xml_tree import Element

from .details import local_name, take_name, take_note

_DRAWN = (E.DIAGRAM_SPACE, "http://www.omg.org/spec/DD/20100524/DI", "http://www.omg.org/spec/DD/20100524/DC")
_NAMED = ("message", "signal", "error", "escalation", "resource", "interface", "itemDefinition", "dataStore")


class MessageFlow(NamedTuple):
    """A message that one pool or element sends to another."""

    name: str
    source: str
    target: str


class Definitions:
    """What the processes of one file share. Messages, signals and errors count as read where something names them."""

    def __init__(self, root: Element, base: Origin) -> None:
        self.root = root
        self.base = base
        self.problems: list[Problem] = []
        self.missing: set[str] = set()
        root.noise("id", "name", "targetNamespace", "exporter", "exporterVersion")
        self.shared = {element.attribute("id"): element for element in root.children if element.attribute("id")}
        self.event_definitions = {key: held for key, held in self.shared.items() if held.tag in E.DEFINITIONS}
        self.places: dict[str, tuple[float, float]] = {}
        self.participants: dict[str, Element] = {}  # process -> its pool
        self.pools: dict[str, str] = {}  # pool -> its name
        self.message_flows: dict[str, list[MessageFlow]] = {}  # by both their ends
        called = [element for element in root.walk_tree() if element.tag == "callActivity"]
        self.called = {local_name(element.attribute("calledElement")) for element in called} - {""}
        self.elements = {element.attribute("id"): element for element in root.walk_tree() if element.attribute("id")}
        said = {key: said_of_named(held.tag, held.attributes) for key, held in self.elements.items()}
        self.names = {key: words for key, words in said.items() if words is not None}
        self._read_collaborations()
        self._read_places()
        self.categories = self._read_categories()

    def _read_collaborations(self) -> None:
        for collaboration in self.root.children_with("collaboration"):
            collaboration.noise("id", "isClosed")
            for participant in collaboration.children_with("participant"):
                participant.noise("id")
                participant.mark("processRef")
                self.participants.setdefault(local_name(participant.attribute("processRef")), participant)
                self.pools[participant.attribute("id")] = take_name(participant) or participant.attribute("id")
            for flow in collaboration.children_with("messageFlow"):
                message = flow.attribute("messageRef")
                name = take_name(flow) or (self.element_named(message) if message else flow.attribute("id"))
                flow.noise("id")
                flow.mark("sourceRef", "targetRef", "messageRef")
                ends = local_name(flow.attribute("sourceRef")), local_name(flow.attribute("targetRef"))
                for end in ends:
                    if end not in self.elements:
                        self.tell_missing(end, flow)
                note = take_note(flow)
                made = MessageFlow(f"{name}: {note}" if note else name, *ends)
                for end in dict.fromkeys(ends):
                    self.message_flows.setdefault(end, []).append(made)

    def _read_places(self) -> None:
        for element in self.root.children:
            if element.space in _DRAWN:
                element.close()  # the diagram is layout
        for shape in self.root.walk_tree():
            if shape.tag == "BPMNShape":
                bounds = shape.first_child("Bounds")
                if bounds is not None:
                    try:
                        self.places[local_name(shape.attribute("bpmnElement"))] = (
                            float(bounds.attribute("x")),
                            float(bounds.attribute("y")),
                        )
                    except ValueError:
                        continue

    def _read_categories(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for category in self.root.children_with("category"):
            category.noise("id", "name")
            for value in category.children_with("categoryValue"):
                value.noise("id")
                found[value.attribute("id")] = value.take("value")
        return found

    def origin_of(self, element: Element) -> Origin:
        """Where an element stands."""
        pointer = f"/{element.tag}[@id='{element.attribute('id')}']" if element.attribute("id") else f"/{element.tag}"
        return Origin(self.base.source, pointer, self.base.member, element.line, element.column)

    def element_named(self, reference: str) -> str:
        """The name of a message, signal or error that something refers to; its id when it is not there, which is told."""
        key = local_name(reference)
        held = self.shared.get(key)
        if held is None or held.tag not in _NAMED:
            if key in self.elements:
                return " ".join(self.elements[key].attribute("name").split()) or key
            self.tell_missing(key, None)
            return key
        held.noise("id")
        return take_name(held) or held.attribute("errorCode") or key

    def codes_of(self, reference: str) -> list[tuple[str, str]]:
        """What else a shared element says: the code of an error, the structure of a message."""
        held = self.shared.get(local_name(reference))
        if held is None or held.tag not in _NAMED:
            return []
        return [(word, held.take(name)) for name, word in E.SHARED_CODES if held.attribute(name)]

    def tell_missing(self, key: str, element: Element | None) -> None:
        """Says once that something refers to what is not in the file."""
        if key and key not in self.missing:
            self.missing.add(key)
            origin = self.base if element is None else self.origin_of(element)
            message = f"expected an element with the id '{key}' in the file, found none"
            hint = "export the whole file again, or mend the reference"
            self.problems.append(Problem("reference-missing", "finding", message, origin, hint))

    def messages_at(self, key: str) -> list[Binding]:
        """The messages that an element sends to others or gets from them."""
        found = []
        for flow in self.message_flows.get(key, ()):
            if flow.source == key:
                found.append(Binding(name="message", value=flow.name, description=f"to {self._end_name(flow.target)}"))
            if flow.target == key:
                found.append(
                    Binding(name="message", value=flow.name, description=f"from {self._end_name(flow.source)}")
                )
        return found

    def _end_name(self, key: str) -> str:
        if key in self.pools:
            return self.pools[key]
        element = self.elements.get(key)
        return (" ".join(element.attribute("name").split()) if element is not None else "") or key
