# How often an activity is repeated: the markers of BPMN (OMG formal/2011-01-03, clause 10.2.8), on the activity itself where a
# loop holds just that one.
"""Loop markers of BPMN, written."""

from __future__ import annotations

from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Flow, Step

from .bpmn_data import DataWriter
from .bpmn_events import FORMAL, Left
from .bpmn_names import B, clean_text


def wrapped_loops(flow: Flow, inside: dict[str | None, list[Step]]) -> dict[str, Step]:
    """The loops that stand for a marker on one task, and that task: as the reader makes them."""
    found: dict[str, Step] = {}
    for step in flow.steps:
        held = inside.get(step.id, ())
        if step.kind == "loop" and step.operation in E.MARKERS and len(held) == 1:
            (task,) = held
            marked = all(binding.name in E.MARKER_INPUTS for binding in step.inputs)
            named = step.id == f"{task.id}.each" and step.name == E.repeat_name(task.name)
            if marked and named and task.operation in E.TASKS and task.id not in inside:
                found[step.id] = task
    ends = {end for link in flow.links for end in (link.source, link.target)}
    return {key: task for key, task in found.items() if task.id not in ends}


def write_marker(element: ET.Element, step: Step, data: DataWriter, process: ET.Element) -> ET.Element:
    """The marker of a loop on its activity."""
    left = Left(step.inputs)
    repeat = step.repeat
    many = repeat is not None and bool(repeat.items or repeat.count is not None) and not repeat.until
    if E.MARKERS[0] in step.operation or (many and E.MARKERS[1] not in step.operation):
        return _write_many(ET.SubElement(element, B + E.MARKERS[0]), step, left, data, process)
    marker = ET.SubElement(element, B + E.MARKERS[1])
    if left.pop(E.TEST_BEFORE) in (True, "true"):
        marker.set("testBefore", "true")
    if repeat is not None and repeat.cap is not None:
        marker.set("loopMaximum", str(repeat.cap))
    if repeat is not None and repeat.until:
        ET.SubElement(marker, B + "loopCondition", FORMAL).text = clean_text(repeat.until)
    return marker


def _write_many(marker: ET.Element, step: Step, left: Left, data: DataWriter, process: ET.Element) -> ET.Element:
    repeat = step.repeat
    if left.pop("sequential") in (True, "true"):
        marker.set("isSequential", "true")
    if repeat is not None and repeat.count is not None:
        ET.SubElement(marker, B + "loopCardinality", FORMAL).text = str(repeat.count)
    elif repeat is not None and repeat.items:
        if data.flow.format == "bpmn" and repeat.items not in data.objects:
            ET.SubElement(marker, B + "loopCardinality", FORMAL).text = clean_text(repeat.items)
        else:
            ET.SubElement(marker, B + "loopDataInputRef").text = data.write_object(process, repeat.items)
    out = left.pop("loopDataOutputRef")
    if isinstance(out, str):
        ET.SubElement(marker, B + "loopDataOutputRef").text = data.write_object(process, out)
    for tag in ("inputDataItem", "outputDataItem"):
        name = left.pop(tag)
        if isinstance(name, str):
            ET.SubElement(marker, B + tag, {"id": data.shared.unique_id(tag), "name": clean_text(name)})
    if repeat is not None and repeat.until:
        ET.SubElement(marker, B + "completionCondition", FORMAL).text = clean_text(repeat.until)
    return marker
