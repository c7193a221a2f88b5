# One place that knows every format of a map.
"""Maps in all their formats."""

from __future__ import annotations

from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.scene import scene
from zeitbuch.core.layout.views import View
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.writers.theme.fonts import measure
from zeitbuch.writers.theme.look import MAP_FORMATS


def drawn(
    view: View, showing: Showing, form: str, scale: float = 2.0, width: int = 1000, result: EstateEstimate | None = None
) -> str | bytes:
    """A view in a format. ``scale`` is pixels a point (PNG), ``width`` cells (text), ``result`` the estimate on the cards of a
    page. Raises ZeitbuchError for an unknown format."""
    graph = view.graph
    direction = "right" if showing.turned else "down"
    match form:
        case "text":
            from .tree import to_tree

            return to_tree(view, width, showing)
        case "dot":
            from .graph_text import to_dot

            return to_dot(graph, showing, direction)
        case "mermaid":
            from .graph_text import to_mermaid

            return to_mermaid(graph, showing, direction)
        case "bpmn":
            from zeitbuch.writers.exchange.bpmn import to_bpmn

            return to_bpmn(Estate(flows=(graph.flow,)))
    if form not in MAP_FORMATS:
        raise fail("format", f"expected one of the formats {', '.join(MAP_FORMATS)}, found '{form}'")
    made = scene(graph, measure, showing, view.facts)
    match form:
        case "png":
            from .png import to_png

            return to_png(made, scale)
        case "json":
            from zeitbuch.core.layout.map_record import map_record
            from zeitbuch.writers.table.tables import to_json

            return to_json("map", map_record(graph, made))
        case "graphml":
            from .graphml import to_graphml

            return to_graphml(graph, made)
        case "html":
            from .map_page import to_map_page

            return to_map_page(graph, made, showing, result)
    from .svg import to_svg

    return to_svg(made)
