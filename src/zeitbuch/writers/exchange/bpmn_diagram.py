# Where the elements of a BPMN file stand: the builder's own positions when all are known, else those of our map. Processes that
# exchange messages share one diagram, a pool each; all others have their own.
"""The diagram part of BPMN output."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from xml.etree import ElementTree as ET

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Flow, Step, Trigger
from zeitbuch.writers.theme.fonts import measure_text

from .bpmn_collaboration import Collaboration
from .bpmn_names import DC, DI, D
from .bpmn_process import ProcessWriter

Box = tuple[float, float, float, float]  # x, y, width, height
_MARGIN = 40.0
_POOL_NAME = 30.0  # the strip at the left of a pool that holds its name
_POOL_HEIGHT = 60.0


def write_diagrams(writers: Sequence[ProcessWriter], collaboration: Collaboration) -> Iterator[ET.Element]:
    """The diagrams of a file."""
    pooled = [writer for writer in writers if writer.process_id in collaboration.pools]
    if pooled:
        diagram, plane = _diagram_of(pooled[0], collaboration.key)
        _draw_pools(plane, pooled, collaboration)
        yield diagram
    for writer in writers:
        if writer.process_id not in collaboration.pools:
            diagram, plane = _diagram_of(writer, writer.process_id)
            _draw_process(plane, writer, _element_boxes(writer)[0])
            yield diagram


def _diagram_of(p: ProcessWriter, about: str) -> tuple[ET.Element, ET.Element]:
    diagram = ET.Element(D + "BPMNDiagram", {"id": p.element_id("diagram", f"p{p.number}_")})
    named = {"id": p.element_id("plane", f"p{p.number}_"), "bpmnElement": about}
    return diagram, ET.SubElement(diagram, D + "BPMNPlane", named)


def _draw_pools(plane: ET.Element, writers: Sequence[ProcessWriter], collaboration: Collaboration) -> None:
    """Pool under pool; where all positions are those of the export, the pools stand where they stood."""
    shared = collaboration.shared
    placed = [_element_boxes(writer) for writer in writers]
    given = all(whole for _, whole in placed)
    ends: dict[str, Box] = {}
    bottom = 0.0
    for writer, (boxes, _) in zip(writers, placed, strict=True):
        pool = _pool_around(boxes)
        if not given:
            down = bottom + _MARGIN - pool[1]
            boxes = {key: (x, y + down, width, height) for key, (x, y, width, height) in boxes.items()}
            pool = (pool[0], pool[1] + down, pool[2], pool[3])
        bottom = max(bottom, pool[1] + pool[3])
        key = collaboration.pools[writer.process_id]
        ends[key] = pool
        shape = _draw_shape(plane, shared.unique_id(f"shape_{key}"), key, pool)
        shape.set("isHorizontal", "true")
        ends |= {writer.element_id(name): box for name, box in boxes.items()}
        _draw_process(plane, writer, boxes)
    left = min(box[0] for box in ends.values())
    width = max(box[0] + box[2] for box in ends.values()) - left
    for key in collaboration.outside.values():
        ends[key] = (left, bottom + _MARGIN, width, _POOL_HEIGHT)
        bottom += _MARGIN + _POOL_HEIGHT
        shape = _draw_shape(plane, shared.unique_id(f"shape_{key}"), key, ends[key])
        shape.set("isHorizontal", "true")
    for edge, source, target in collaboration.flows:
        _draw_message(plane, shared.unique_id(f"edge_{edge}"), edge, ends[source], ends[target])


def _pool_around(boxes: dict[str, Box]) -> Box:
    if not boxes:
        return (0.0, 0.0, 300.0, _POOL_HEIGHT)
    left, top = min(box[0] for box in boxes.values()), min(box[1] for box in boxes.values())
    right = max(box[0] + box[2] for box in boxes.values())
    bottom = max(box[1] + box[3] for box in boxes.values())
    wide = right - left + 2 * _MARGIN + _POOL_NAME
    return (left - _MARGIN - _POOL_NAME, top - _MARGIN, wide, bottom - top + 2 * _MARGIN)


def _draw_process(plane: ET.Element, p: ProcessWriter, boxes: dict[str, Box]) -> None:
    for key in p.elements:
        shape = _draw_shape(plane, p.element_id(key, "shape_"), p.element_id(key), boxes[key])
        if p.tags.get(key) in E.SCOPES:
            shape.set("isExpanded", "true")
    for edge, source, target in p.edges:
        _draw_edge(plane, p.element_id(edge, "edge_"), edge, boxes[source], boxes[target])


def _draw_shape(plane: ET.Element, key: str, about: str, box: Box) -> ET.Element:
    shape = ET.SubElement(plane, D + "BPMNShape", {"id": key, "bpmnElement": about})
    named = dict(zip(("x", "y", "width", "height"), map(_coordinate, box), strict=True))
    ET.SubElement(shape, DC + "Bounds", named)
    return shape


def _draw_edge(plane: ET.Element, key: str, about: str, first: Box, second: Box) -> None:
    down = first[1] + first[3] <= second[1]
    ends = (
        ((first[0] + first[2] / 2, first[1] + first[3]), (second[0] + second[2] / 2, second[1]))
        if down
        else ((first[0] + first[2], first[1] + first[3] / 2), (second[0] + second[2], second[1] + second[3] / 2))
    )
    _draw_line(plane, key, about, ends)


def _draw_message(plane: ET.Element, key: str, about: str, first: Box, second: Box) -> None:
    """A message runs from middle to middle; at a pool, straight below or above the other end."""
    small = first if first[2] < second[2] else second
    ways = [one[0] + one[2] / 2 if one[2] < 2 * small[2] else small[0] + small[2] / 2 for one in (first, second)]
    down = first[1] + first[3] <= second[1]
    heights = (first[1] + first[3], second[1]) if down else (first[1], second[1] + second[3])
    ends = tuple(zip(ways, heights, strict=True))
    _draw_line(plane, key, about, ends)


def _draw_line(plane: ET.Element, key: str, about: str, ends: Sequence[tuple[float, float]]) -> None:
    made = ET.SubElement(plane, D + "BPMNEdge", {"id": key, "bpmnElement": about})
    for x, y in ends:
        ET.SubElement(made, DI + "waypoint", {"x": _coordinate(x), "y": _coordinate(y)})


def _element_boxes(p: ProcessWriter) -> tuple[dict[str, Box], bool]:
    """Where each element stands, and whether all of it comes from the export."""
    boxes = _boxes_of_map(p.flow)
    records: list[Step | Trigger] = [*p.flow.steps, *p.flow.triggers]
    given = {record.id: record.position for record in records if record.position is not None}
    bottom = max((y + h for _, y, _, h in boxes.values()), default=0.0) + 40
    whole = all(key in given for key in p.elements)
    result: dict[str, Box] = {}
    for number, key in enumerate(p.elements):
        box = boxes.get(key, (40.0 + 180 * (number % 6), bottom + 90 * (number // 6), 150.0, 60.0))
        if p.tags.get(key, "").endswith(("Event", "Gateway")):
            box = (box[0], box[1], 40.0, 40.0)
        if whole:
            box = (*given[key], box[2], box[3])
        result[key] = box
    for key, activity in () if whole else p.borders.items():
        x, y, _, height = result.get(activity) or boxes[activity]
        result[key] = (x + 10, y + height - 18, 36.0, 36.0)
    for loop, task in p.wrapped.items():
        result[loop] = result[task.id]
    return result, whole


def _boxes_of_map(flow: Flow) -> dict[str, Box]:
    drawn = draw_scene(Graph(flow), measure_text)
    boxes: dict[str, Box] = {frame.card.id: (frame.x, frame.y, frame.width, frame.height) for frame in drawn.frames}
    boxes |= {
        placed_card.card.id: (placed_card.x, placed_card.y, placed_card.card.width, placed_card.card.height)
        for placed_card in drawn.cards
    }
    return boxes


def _coordinate(value: float) -> str:
    return f"{value:.1f}".rstrip("0").rstrip(".")
