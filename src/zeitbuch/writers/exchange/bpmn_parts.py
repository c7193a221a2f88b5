# Small parts of writing BPMN that need nothing but their element.
"""Parts of BPMN elements, written."""

from __future__ import annotations

from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import Said, said_of_named
from zeitbuch.core.model.records import Step, Trigger

from .bpmn_names import B, clean_text

if TYPE_CHECKING:
    from .bpmn_process import ProcessWriter


def said_by(element: ET.Element) -> Said:
    """What an element says, without its namespaces."""
    attributes = {key: value for key, value in element.attrib.items() if not key.startswith("{")}
    children = tuple(said_by(child) for child in element if child.tag.rpartition("}")[2] not in E.NODES)
    return Said(element.tag.rpartition("}")[2], attributes, element.text or "", children)


def named_words(element: ET.Element) -> str | None:
    """What stands for a shared element where something refers to it."""
    return said_of_named(element.tag.rpartition("}")[2], element.attrib)


def write_lanes(p: ProcessWriter, process: ET.Element) -> None:
    """The lanes of a process; the name of a lane within a lane is the whole way down."""
    records: list[Step | Trigger] = [*p.flow.triggers, *p.flow.steps]
    lanes: dict[str, list[str]] = {}
    for record in records:
        for binding in record.inputs:
            if binding.name == "lane" and isinstance(binding.value, str):
                lanes.setdefault(binding.value, []).append(record.id)
    sets: dict[str, ET.Element] = {}
    made: dict[str, ET.Element] = {}
    members: dict[str, list[ET.Element]] = {}
    for lane, ids in lanes.items():
        way = lane.split(" / ")
        for depth in range(1, len(way) + 1):
            name, outer = " / ".join(way[:depth]), " / ".join(way[: depth - 1])
            if name not in made:
                if outer not in sets:
                    tag = "childLaneSet" if outer else "laneSet"
                    above = made.get(outer, process)
                    sets[outer] = ET.SubElement(above, B + tag, {"id": p.element_id(f"lanes {outer}", f"p{p.number}_")})
                made[name] = ET.SubElement(
                    sets[outer], B + "lane", {"id": p.element_id(name, "lane_"), "name": clean_text(way[depth - 1])}
                )
        for key in ids:
            reference = ET.Element(B + "flowNodeRef")
            reference.text = p.element_id(key)
            members.setdefault(lane, []).append(reference)
    for lane, references in members.items():
        for place, reference in enumerate(references):
            made[lane].insert(place, reference)  # before the lanes within (order of the schema)


# Brackets and ampersands inside the JSON of an extension are escaped there, so that it stays readable as text.
ESCAPES = {
    ord("<"): "\\u003c",
    ord(">"): "\\u003e",
    ord("&"): "\\u0026",
    0x7F: "\\u007f",
    0xFFFE: "\\ufffe",
    0xFFFF: "\\uffff",
}
