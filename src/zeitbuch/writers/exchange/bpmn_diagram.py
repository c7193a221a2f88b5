# Where the elements of a BPMN file stand: the builder's own positions when all are known, else those of our map.
"""The diagram part of BPMN output."""

from __future__ import annotations

from typing import Protocol
from xml.etree import ElementTree as ET

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Flow, Step, Trigger
from zeitbuch.writers.theme.fonts import measure_text

_D = f"{{{E.DIAGRAM_SPACE}}}"
_DC = "{http://www.omg.org/spec/DD/20100524/DC}"
_DI = "{http://www.omg.org/spec/DD/20100524/DI}"


class Drawn(Protocol):
    """What the diagram needs of a written process."""

    flow: Flow
    number: int
    elements: dict[str, ET.Element]
    tags: dict[str, str]
    edges: list[tuple[str, str, str]]
    catchers: dict[str, str]

    def element_id(self, key: str, prefix: str = "") -> str: ...


def write_diagram(p: Drawn, process_id: str) -> ET.Element:
    boxes = _element_boxes(p)
    diagram = ET.Element(_D + "BPMNDiagram", {"id": p.element_id("diagram", f"p{p.number}_")})
    plane = ET.SubElement(
        diagram, _D + "BPMNPlane", {"id": p.element_id("plane", f"p{p.number}_"), "bpmnElement": process_id}
    )
    for key in p.elements:
        x, y, width, height = boxes[key]
        shape = ET.SubElement(
            plane, _D + "BPMNShape", {"id": p.element_id(key, "shape_"), "bpmnElement": p.element_id(key)}
        )
        if p.tags.get(key) in E.SCOPES:
            shape.set("isExpanded", "true")
        ET.SubElement(
            shape,
            _DC + "Bounds",
            {"x": _coordinate(x), "y": _coordinate(y), "width": _coordinate(width), "height": _coordinate(height)},
        )
    for key, source in p.catchers.items():
        x, y, _, height = boxes[source]
        shape = ET.SubElement(plane, _D + "BPMNShape", {"id": p.element_id(key, "shape_"), "bpmnElement": key})
        ET.SubElement(
            shape,
            _DC + "Bounds",
            {"x": _coordinate(x + 10), "y": _coordinate(y + height - 18), "width": "36", "height": "36"},
        )
    for edge, source, target in p.edges:
        made = ET.SubElement(plane, _D + "BPMNEdge", {"id": p.element_id(edge, "edge_"), "bpmnElement": edge})
        first, second = boxes[source], boxes[target]
        down = first[1] + first[3] <= second[1]
        ends = (
            ((first[0] + first[2] / 2, first[1] + first[3]), (second[0] + second[2] / 2, second[1]))
            if down
            else ((first[0] + first[2], first[1] + first[3] / 2), (second[0] + second[2], second[1] + second[3] / 2))
        )
        for x, y in ends:
            ET.SubElement(made, _DI + "waypoint", {"x": _coordinate(x), "y": _coordinate(y)})
    return diagram


def _element_boxes(p: Drawn) -> dict[str, tuple[float, float, float, float]]:
    """Where each element stands: the builder's own positions, else those of our map."""
    boxes = _boxes_of_map(p)
    records: list[Step | Trigger] = [*p.flow.steps, *p.flow.triggers]
    given = {record.id: record.position for record in records if record.position is not None}
    bottom = max((y + h for _, y, _, h in boxes.values()), default=0.0) + 40
    whole = {key for key in p.elements if key in given} == set(p.elements)
    result: dict[str, tuple[float, float, float, float]] = {}
    for number, key in enumerate(p.elements):
        box = boxes.get(key, (40.0 + 180 * (number % 6), bottom + 90 * (number // 6), 150.0, 60.0))
        if p.tags.get(key, "").endswith(("Event", "Gateway")):
            box = (box[0], box[1], 40.0, 40.0)
        if whole:
            box = (*given[key], box[2], box[3])
        result[key] = box
    return result


def _boxes_of_map(p: Drawn) -> dict[str, tuple[float, float, float, float]]:
    drawn = draw_scene(Graph(p.flow), measure_text)
    boxes: dict[str, tuple[float, float, float, float]] = {
        frame.card.id: (frame.x, frame.y, frame.width, frame.height) for frame in drawn.frames
    }
    boxes |= {
        placed_card.card.id: (placed_card.x, placed_card.y, placed_card.card.width, placed_card.card.height)
        for placed_card in drawn.cards
    }
    return boxes


def _coordinate(value: float) -> str:
    return f"{value:.1f}".rstrip("0").rstrip(".")
