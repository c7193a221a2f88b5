# What must be known of a whole BPMN process before its elements are read: lanes, data, markers, how many arrows come and go.
"""An index of the elements of a process."""

from __future__ import annotations

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Ref
from zeitbuch.readers.input.xml_tree import Element

from .definitions import Definitions
from .details import local_name, take_child, take_name
from .extension_records import OwnRecords

_DATA = ("dataObjectReference", "dataStoreReference", "dataObject", "dataInput", "dataOutput", "property")


class ProcessIndex:
    """Lanes, data objects, loops and arrows of one process, by the ids of its elements."""

    def __init__(self, process: Element, shared: Definitions, own: OwnRecords) -> None:
        self.shared = shared
        self.own = own
        self.lanes: dict[str, str] = {}
        self.wrapped: dict[str, str] = {}  # activity with a marker -> the loop around it
        self.data: dict[str, str] = {}  # data -> name
        self.writers: dict[str, str] = {}  # data object reference -> activity that writes it
        self.arrows: dict[str, Element] = {}
        self.incoming: dict[str, int] = {}
        self.leaving: dict[str, list[Element]] = {}  # element -> the arrows that leave it
        self.ties: dict[str, list[Element]] = {}  # element -> the associations at it
        self.defaults: dict[str, str] = {}  # arrow -> element whose default it is
        for element in process.walk_tree():
            self._read_element(element)
        for lanes in [element for element in process.walk_tree() if element.tag == "laneSet"]:
            self._read_lanes(lanes, "")

    def _read_element(self, element: Element) -> None:
        if element.tag == "sequenceFlow":
            source, target = local_name(element.attribute("sourceRef")), local_name(element.attribute("targetRef"))
            self.leaving.setdefault(source, []).append(element)
            self.incoming[target] = self.incoming.get(target, 0) + 1
            self.arrows[element.attribute("id")] = element
        elif element.tag == "association":
            for end in ("sourceRef", "targetRef"):
                self.ties.setdefault(local_name(element.attribute(end)), []).append(element)
        elif element.tag in _DATA:
            self.data[element.attribute("id")] = " ".join(element.attribute("name").split()) or element.attribute("id")
        if element.attribute("default"):
            self.defaults[local_name(element.attribute("default"))] = element.attribute("id")
        if element.tag in E.NODES:
            loop = self.own.loop_around(element)
            if loop:
                self.wrapped[element.attribute("id")] = loop
            for written in element.children_with("dataOutputAssociation"):
                target_ref = written.first_child("targetRef")
                if target_ref is not None:
                    self.writers.setdefault(local_name(target_ref.text), element.attribute("id"))

    def _read_lanes(self, lanes: Element, outer: str) -> None:
        """The lanes of a set; of lanes within lanes the whole way down is the name."""
        lanes.noise("id", "name")
        for lane in lanes.children_with("lane"):
            lane.noise("id")
            name = take_name(lane) or lane.attribute("id")
            whole = f"{outer} / {name}" if outer else name
            for inner in lane.children_with("childLaneSet"):
                self._read_lanes(inner, whole)
            for reference in lane.children_with("flowNodeRef"):
                key = local_name(reference.text)
                if key not in self.shared.elements:
                    self.shared.tell_missing(key, reference)
                    continue
                reference.take_text()
                if len(whole) > len(self.lanes.get(key, "")):
                    self.lanes[key] = whole

    def data_bindings(self, element: Element) -> list[Binding]:
        """What a task reads, from which step or data, what is fixed, and what it writes."""
        self._take_declarations(element)
        found: list[Binding] = []
        for association in element.children_with("dataInputAssociation"):
            found += self._input_bindings(association)
        for association in element.children_with("dataOutputAssociation"):
            found += self._output_bindings(association)
        abouts = [binding.description or "" for binding in found]
        named = {binding.name for binding in found} | {about.removeprefix("as ") for about in abouts}
        named |= {f"output {about.removeprefix('from ')}" for about in abouts}
        for held in (
            element,
            *element.children_with("ioSpecification"),
        ):  # events declare their data without a wrapping
            for declared in held.children_with("dataInput", "dataOutput"):
                name = self.data[declared.attribute("id")] if declared.attribute("id") else take_name(declared)
                word = name if declared.tag == "dataInput" else f"output {name}"
                found += [Binding(name=word)] if word not in named and name else []
        return found

    def _take_declarations(self, element: Element) -> None:
        for held in (element, *element.children_with("ioSpecification")):
            if held is not element:
                held.noise("id")
            for declared in held.children_with("dataInput", "dataOutput"):
                declared.noise("id", "name")
            for group in held.children_with("inputSet", "outputSet"):
                group.noise("id", "name")
                for reference in group.children_with("dataInputRefs", "dataOutputRefs"):
                    if local_name(reference.text) in self.data:
                        reference.take_text()
                    else:
                        self.shared.tell_missing(local_name(reference.text), reference)

    def _input_bindings(self, association: Element) -> list[Binding]:
        association.noise("id")
        target = self._data_name(association, "targetRef")
        found: list[Binding] = []
        for source in association.children_with("sourceRef"):
            key = local_name(source.take_text())
            self._check(key, source)
            writer = self.writers.get(key)
            step = self.wrapped.get(writer) or self.own.ids.get(writer, writer) if writer else None
            ref = Ref(step=step) if step else Ref(variable=self.data.get(key, key))
            name = self.data.get(key, key)
            about = f"as {target}" if target and target != name else None
            found.append(Binding(name=name, decided="data", refs=(ref,), description=about))
        return found + self._assigned(association, target)

    def _output_bindings(self, association: Element) -> list[Binding]:
        association.noise("id")
        source = self._data_name(association, "sourceRef")
        target = self._data_name(association, "targetRef")
        found = (
            [Binding(name="writes", value=target, description=f"from {source}" if source else None)] if target else []
        )
        return found + self._assigned(association, target)

    def _assigned(self, association: Element, target: str) -> list[Binding]:
        """Fixed values and expressions that an association puts into its target."""
        found = []
        for assignment in association.children_with("assignment"):
            assignment.noise("id")
            value, place = take_child(assignment, "from"), take_child(assignment, "to")
            where = self.data.get(local_name(place), place)
            name = target if not where or where == target else where
            found.append(Binding(name=name or "input", value=value))
        change = take_child(association, "transformation")
        return [*found, Binding(name=f"{target or 'input'} transformation", value=change)] if change else found

    def _data_name(self, association: Element, tag: str) -> str:
        child = association.first_child(tag)
        if child is None:
            return ""
        key = local_name(child.take_text())
        self._check(key, child)
        return self.data.get(key, key)

    def _check(self, key: str, element: Element) -> None:
        if key not in self.shared.elements:
            self.shared.tell_missing(key, element)
