# What steps read and write: data objects and stores of a process, fixed values, prompts, and who decides them, as the data
# associations of BPMN (OMG formal/2011-01-03, clause 10.4).
"""Data of BPMN, written."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple
from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_inputs import said_value
from zeitbuch.core.model.records import Binding, Flow

from .bpmn_names import B, clean_text
from .bpmn_shared import SharedElements

_CATCHES = frozenset({"startEvent", "intermediateCatchEvent", "boundaryEvent"})
_THROWS = frozenset({"endEvent", "intermediateThrowEvent"})
_TRANSFORMED = " transformation"


class Association(NamedTuple):
    """One line of data into or out of an element: ids of the ends, and what is put there."""

    outward: bool
    source: str | None
    target: str
    value: str | None = None
    change: str | None = None


class DataWriter:
    """Writes the data of one process."""

    def __init__(self, flow: Flow, shared: SharedElements) -> None:
        self.flow = flow
        self.shared = shared
        self.objects: dict[str, str] = {}  # name -> id of the reference
        self.written: list[ET.Element] = []

    def write_objects(self, process: ET.Element) -> None:
        """The variables and stores of the flow, before anything refers to them."""
        for connection in self.flow.connections:
            if connection.service == "data store":
                made = {"id": self.shared.unique_id(connection.id), "name": clean_text(connection.name)}
                if connection.account:
                    made["dataStoreRef"] = self.shared.refer("dataStore", connection.account)
                self.objects.setdefault(connection.name or connection.id, made["id"])
                ET.SubElement(process, B + "dataStoreReference", made)
        for variable in self.flow.variables:
            if variable.name not in E.PROCESS_ATTRIBUTES and not variable.name.startswith("message "):
                self.write_object(process, variable.name, variable.description if self.flow.format == "bpmn" else "")

    def write_object(self, parent: ET.Element, name: str, state: str = "") -> str:
        """The id of the data object with a name, written when it is not there yet."""
        if name not in self.objects:
            held = self.shared.unique_id(f"object_{name}")
            key = self.objects[name] = self.shared.unique_id(f"data_{name}")
            ET.SubElement(parent, B + "dataObject", {"id": held})
            made = ET.SubElement(
                parent, B + "dataObjectReference", {"id": key, "name": clean_text(name), "dataObjectRef": held}
            )
            if state:
                ET.SubElement(made, B + "dataState", {"name": clean_text(state)})
        return self.objects[name]

    def write_inputs(
        self, process: ET.Element, element: ET.Element, inputs: Sequence[Binding], prompts: dict[str, str]
    ) -> None:
        """What an element reads and writes. A gateway has no data."""
        tag = element.tag.rpartition("}")[2]
        if tag in (*E.TASKS, *E.SCOPES):
            reads = writes = True
        elif tag in _CATCHES or tag in _THROWS:
            reads, writes = tag in _THROWS, tag in _CATCHES
        else:
            return
        lines = _Lines(self, process)
        for binding in inputs:
            lines.add_binding(binding, reads, writes)
        for name, text in prompts.items() if reads else ():
            lines.associations.append(Association(False, None, lines.declare("dataInput", name), text))
        lines.write(element, wrapped=tag not in _CATCHES and tag not in _THROWS)


class _Lines:
    """The declarations and associations of one element."""

    def __init__(self, data: DataWriter, process: ET.Element) -> None:
        self.data = data
        self.process = process
        self.declared: dict[tuple[str, str], str] = {}
        self.associations: list[Association] = []

    def declare(self, tag: str, name: str) -> str:
        """The id of a data input or output of the element."""
        key = (tag, name)
        if key not in self.declared:
            self.declared[key] = self.data.shared.unique_id(f"{'in' if tag == 'dataInput' else 'out'}_{name}")
        return self.declared[key]

    def add_binding(self, binding: Binding, reads: bool, writes: bool) -> None:
        """An input as a declaration and, where it is known what comes in, an association."""
        name = binding.name or "input"
        if name == "writes" and isinstance(binding.value, str):
            if writes:
                self._add_write(binding.value, binding.description)
        elif name.startswith("output ") and binding.value is None and not binding.refs:
            if writes:
                self.declare("dataOutput", name.removeprefix("output "))
        elif not reads or (name.endswith(_TRANSFORMED) and self._add_change(binding)):
            return
        else:
            self._add_read(name, binding)

    def _add_write(self, target: str, about: str | None) -> None:
        source = about.removeprefix("from ") if about and about.startswith("from ") else ""
        held = self.declare("dataOutput", source) if source else None
        self.associations.append(Association(True, held, self.data.write_object(self.process, target)))

    def _add_change(self, binding: Binding) -> bool:
        """A transformation belongs to the association just before it."""
        last = self.associations[-1] if self.associations else None
        if last is None or last.value is not None or last.change is not None or not isinstance(binding.value, str):
            return False
        self.associations[-1] = last._replace(change=binding.value)
        return True

    def _add_read(self, name: str, binding: Binding) -> None:
        known = next((ref.variable for ref in binding.refs if ref.variable in self.data.objects), None)
        if known is None and self.data.objects.get(name) and any(ref.step for ref in binding.refs):
            known = name  # what another step writes, by its name
        if known is not None:
            about = binding.description or ""
            target = about.removeprefix("as ") if about.startswith("as ") else name
            key = self.declare("dataInput", target)
            self.associations.append(Association(False, self.data.objects[known], key))
        elif binding.value is not None:
            value = said_value(binding.value)
            self.associations.append(Association(False, None, self.declare("dataInput", name), value))
        else:
            self.declare("dataInput", name)

    def write(self, element: ET.Element, wrapped: bool) -> None:
        """All of it, in the order of the schema; activities wrap their declarations, events do not."""
        if not self.declared and not self.associations:
            return
        unique = self.data.shared.unique_id
        holder = ET.SubElement(element, B + "ioSpecification", {"id": unique("io")}) if wrapped else element
        sets: dict[str, list[str]] = {"dataInput": [], "dataOutput": []}
        for tag, ids in sets.items():
            for (declared, name), key in self.declared.items():
                if declared == tag:
                    ET.SubElement(holder, B + tag, {"id": key, "name": clean_text(name)})
                    ids.append(key)
        if wrapped:
            self._write_sets(holder, sets)
        for line in sorted(self.associations, key=lambda line: line.outward):
            self._write_association(element, line)

    def _write_sets(self, holder: ET.Element, sets: dict[str, list[str]]) -> None:
        for tag, ids in sets.items():
            word = "inputSet" if tag == "dataInput" else "outputSet"
            made = ET.SubElement(holder, B + word)
            for key in ids:
                ET.SubElement(made, B + f"{tag}Refs").text = key

    def _write_association(self, element: ET.Element, line: Association) -> None:
        tag = "dataOutputAssociation" if line.outward else "dataInputAssociation"
        made = ET.SubElement(element, B + tag)
        if line.source is not None:
            ET.SubElement(made, B + "sourceRef").text = line.source
        ET.SubElement(made, B + "targetRef").text = line.target
        if line.change is not None:
            ET.SubElement(made, B + "transformation").text = clean_text(line.change)
        if line.value is not None:
            put = ET.SubElement(made, B + "assignment")
            ET.SubElement(put, B + "from").text = clean_text(line.value)
            ET.SubElement(put, B + "to").text = line.target
