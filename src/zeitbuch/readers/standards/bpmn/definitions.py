# What all processes of a file share: names of elements, messages, places in the diagram.
"""The definitions of a BPMN file."""

from __future__ import annotations

from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.xml_tree import Element

from .details import (
    local_name,
)


class Definitions:
    """What the processes of one file share: messages, signals, errors, participants, positions."""

    def __init__(self, root: Element, base: Origin) -> None:
        self.root = root
        self.base = base
        self.names = {
            element.attribute("id"): element.attribute("name")
            or element.attribute("errorCode")
            or element.attribute("id")
            for element in root.children
            if element.attribute("id")
        }
        self.places: dict[str, tuple[float, float]] = {}
        self.participants: dict[str, Element] = {}
        self.message_flows: dict[str, tuple[str, str]] = {}
        called = {
            local_name(element.attribute("calledElement"))
            for element in root.walk_tree()
            if element.tag == "callActivity"
        }
        self.called = called - {""}
        self._read_collaborations(root)
        self._read_places(root)

    def _read_collaborations(self, root: Element) -> None:
        for collaboration in root.children_with("collaboration"):
            for participant in collaboration.children_with("participant"):
                self.participants[local_name(participant.attribute("processRef"))] = participant
            for flow in collaboration.children_with("messageFlow"):
                ends = local_name(flow.attribute("sourceRef")), local_name(flow.attribute("targetRef"))
                self.message_flows[ends[0]] = (flow.attribute("name") or flow.attribute("id"), ends[1])

    def _read_places(self, root: Element) -> None:
        for shape in root.walk_tree():
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

    def origin_of(self, element: Element) -> Origin:
        """Where an element stands."""
        pointer = f"/{element.tag}[@id='{element.attribute('id')}']" if element.attribute("id") else f"/{element.tag}"
        return Origin(self.base.source, pointer, self.base.member, element.line, element.column)

    def element_named(self, reference: str) -> str:
        return self.names.get(local_name(reference), local_name(reference))
