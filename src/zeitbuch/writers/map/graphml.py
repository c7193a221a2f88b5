# Flows as GraphML (graphdrawing.org, schema 1.1): scopes are nodes with a graph inside, positions are data of the nodes.
"""Maps as GraphML."""

from __future__ import annotations

from xml.etree import ElementTree as ET

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.geometry import Scene
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
    ids = {id: f"n{index}" for index, id in enumerate([*graph.triggers, *graph.steps])}
    places = {
        placed_card.card.id: (placed_card.x, placed_card.y, placed_card.card.width, placed_card.card.height)
        for placed_card in scene.cards
    }
    places.update({frame.card.id: (frame.x, frame.y, frame.width, frame.height) for frame in scene.frames})

    def data(element: ET.Element, domain: str, values: dict[str, str]) -> None:
        for name, value in values.items():
            if value:
                ET.SubElement(element, f"{{{_SPACE}}}data", {"key": f"{domain}.{name}"}).text = make_inert(value)

    def node(parent: ET.Element, id: str, values: dict[str, str]) -> ET.Element:
        made = ET.SubElement(parent, f"{{{_SPACE}}}node", {"id": ids[id]})
        place = places.get(id)
        if place is not None:
            values.update(zip(("x", "y", "width", "height"), [f"{value:g}" for value in place], strict=True))
        data(made, "node", {"id": id, **values})
        return made

    for trigger in graph.triggers.values():
        node(top, trigger.id, {"name": trigger.title, "kind": f"trigger: {trigger.kind}"})

    def level(scope: str | None, parent: ET.Element) -> None:
        for step in graph.levels[scope].steps:
            for one in (step, *graph.attached.get(step.id, [])):
                made = node(
                    parent,
                    one.id,
                    {
                        "name": one.title, "kind": one.kind, "number": graph.numbers.get(one.id, ""), "effect": one.effect,
                        "operation": one.operation,
                    },
                )  # fmt: skip
                if one is step and step.id in graph.levels:
                    inner = ET.SubElement(
                        made, f"{{{_SPACE}}}graph", {"id": f"{ids[step.id]}.g", "edgedefault": "directed"}
                    )
                    level(step.id, inner)

    level(None, top)
    for position, link in enumerate(graph.flow.links):
        if link.source in ids and link.target in ids:
            edge = ET.SubElement(
                top, f"{{{_SPACE}}}edge", {"id": f"e{position}", "source": ids[link.source], "target": ids[link.target]}
            )
            data(edge, "edge", {"role": link.role, "label": link.label, "condition": link.condition})
    ET.indent(root, " ")
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def write_graphml(drawing: MapDrawing, look: TextLook) -> str:
    """The graph with its places."""
    return to_graphml(drawing.view.graph, drawing.scene())
