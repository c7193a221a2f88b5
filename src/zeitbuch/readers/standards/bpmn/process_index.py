# What must be known of a whole BPMN process before its elements are read: lanes, data, markers, how many arrows come and go.
"""An index of the elements of a process."""

from __future__ import annotations

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Ref
from zeitbuch.readers.input.xml_tree import Element

from .details import local_name
from .extension_records import has_record


class ProcessIndex:
    """Lanes, data objects, loops and arrows of one process, by the ids of its elements."""

    def __init__(self, process: Element) -> None:
        self.lanes: dict[str, str] = {}
        self.wrapped: dict[str, str] = {}  # activity with a marker -> the loop around it
        self.data: dict[str, str] = {}  # data object reference -> name
        self.writers: dict[str, str] = {}  # data object reference -> activity that writes it
        self.incoming: dict[str, int] = {}
        self.outgoing: dict[str, int] = {}
        self.defaults: set[str] = set()
        for element in process.walk_tree():
            self._read_element(element)
        self._read_lanes(process)

    def _read_element(self, element: Element) -> None:
        if element.tag == "sequenceFlow":
            source, target = local_name(element.attribute("sourceRef")), local_name(element.attribute("targetRef"))
            self.outgoing[source] = self.outgoing.get(source, 0) + 1
            self.incoming[target] = self.incoming.get(target, 0) + 1
        elif element.tag in ("dataObjectReference", "dataStoreReference", "dataObject"):
            self.data[element.attribute("id")] = element.attribute("name") or element.attribute("id")
        if element.attribute("default"):
            self.defaults.add(local_name(element.attribute("default")))
        if element.tag in E.NODES:
            if has_record(element):
                return  # written by us: it says itself what it is
            if any(element.first_child(name) is not None for name in E.MARKERS) and element.tag not in E.SCOPES:
                self.wrapped[element.attribute("id")] = element.attribute("id") + ".each"
            for written in element.children_with("dataOutputAssociation"):
                target_ref = written.first_child("targetRef")
                if target_ref is not None:
                    self.writers.setdefault(local_name(target_ref.text), element.attribute("id"))

    def _read_lanes(self, process: Element) -> None:
        for lane in process.walk_tree():
            if lane.tag == "lane":
                for ref in lane.children_with("flowNodeRef"):
                    self.lanes[local_name(ref.text)] = lane.attribute("name") or lane.attribute("id")

    def data_inputs(self, element: Element) -> list[Binding]:
        """Data inputs: what a task reads, and which step writes it."""
        found: list[Binding] = []
        for association in element.children_with("dataInputAssociation"):
            source = association.first_child("sourceRef")
            if source is None:
                continue
            key = local_name(source.text)
            writer = self.writers.get(key)
            ref = Ref(step=self.wrapped.get(writer, writer)) if writer else Ref(variable=self.data.get(key, key))
            found.append(Binding(name=self.data.get(key, key), decided="data", refs=(ref,)))
        for association in element.children_with("dataOutputAssociation"):
            target = association.first_child("targetRef")
            if target is not None:
                key = local_name(target.text)
                found.append(Binding(name="writes", value=self.data.get(key, key)))
        return found
