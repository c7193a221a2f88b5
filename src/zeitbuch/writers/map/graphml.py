# Flows as GraphML (graphdrawing.org, schema 1.1): scopes are nodes with a graph inside, positions are data of the nodes.
"""Maps as GraphML."""

from __future__ import annotations

from xml.etree import ElementTree as ET

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.geometry import Scene
from zeitbuch.core.model.records import Step
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing

_SPACE = "http://graphml.graphdrawing.org/xmlns"
_KEYS = (
    ("id", "node", "string"), ("name", "node", "string"), ("kind", "node", "string"), ("number", "node", "string"),
    ("effect", "node", "string"), ("operation", "node", "string"), ("x", "node", "double"), ("y", "node", "double"),
    ("width", "node", "double"), ("height", "node", "double"), ("role", "edge", "string"), ("label", "edge", "string"),
    ("condition", "edge", "string"),
)  # fmt: skip


def to_graphml(graph: Graph, scene: Scene) -> str:
    """The flow with the places of its cards; helpers of an agent are nodes linked to it by the role ``attach``."""
    ET.register_namespace("", _SPACE)
    root = ET.Element(f"{{{_SPACE}}}graphml")
    for name, domain, kind in _KEYS:
        ET.SubElement(
            root, f"{{{_SPACE}}}key", {"id": f"{domain}.{name}", "for": domain, "attr.name": name, "attr.type": kind}
        )
    top = ET.SubElement(root, f"{{{_SPACE}}}graph", {"id": "flow", "edgedefault": "directed"})
    writing = _Writing(graph, scene)
    for trigger in graph.triggers.values():
        writing.add_node(top, trigger.id, {"name": trigger.title, "kind": f"trigger: {trigger.kind}"})
    writing.add_level(None, top)
    writing.add_edges(top)
    ET.indent(root, " ")
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


class _Writing:
    """Nodes and edges of one flow."""

    def __init__(self, graph: Graph, scene: Scene) -> None:
        self.graph = graph
        self.ids = {id: f"n{index}" for index, id in enumerate([*graph.triggers, *graph.steps])}
        self.places = {
            placed.card.id: (placed.x, placed.y, placed.card.width, placed.card.height) for placed in scene.cards
        }
        self.places |= {frame.card.id: (frame.x, frame.y, frame.width, frame.height) for frame in scene.frames}

    def add_node(self, parent: ET.Element, id: str, values: dict[str, str]) -> ET.Element:
        made = ET.SubElement(parent, f"{{{_SPACE}}}node", {"id": self.ids[id]})
        place = self.places.get(id)
        if place is not None:
            values.update(zip(("x", "y", "width", "height"), [f"{value:g}" for value in place], strict=True))
        _add_data(made, "node", {"id": id, **values})
        return made

    def add_level(self, scope: str | None, parent: ET.Element) -> None:
        for step in self.graph.levels[scope].steps:
            made = self.add_node(parent, step.id, self._values_of(step))
            if step.id in self.graph.levels:
                inner = {"id": f"{self.ids[step.id]}.g", "edgedefault": "directed"}
                self.add_level(step.id, ET.SubElement(made, f"{{{_SPACE}}}graph", inner))
            for helper in self.graph.helpers_of(step.id):
                self.add_node(parent, helper.id, self._values_of(helper))

    def _values_of(self, step: Step) -> dict[str, str]:
        number = self.graph.numbers.get(step.id, "")
        return {
            "name": step.title, "kind": step.kind, "number": number, "effect": step.effect, "operation": step.operation,
        }  # fmt: skip

    def add_edges(self, parent: ET.Element) -> None:
        for position, link in enumerate(self.graph.flow.links):
            if link.source in self.ids and link.target in self.ids:
                ends = {"source": self.ids[link.source], "target": self.ids[link.target]}
                edge = ET.SubElement(parent, f"{{{_SPACE}}}edge", {"id": f"e{position}", **ends})
                _add_data(edge, "edge", {"role": link.role, "label": link.label, "condition": link.condition})


def _add_data(element: ET.Element, domain: str, values: dict[str, str]) -> None:
    for name, value in values.items():
        if value:
            ET.SubElement(element, f"{{{_SPACE}}}data", {"key": f"{domain}.{name}"}).text = make_inert(value)


def write_graphml(drawing: MapDrawing, look: TextLook) -> str:
    """The graph with its places."""
    return to_graphml(drawing.view.graph, drawing.scene())
