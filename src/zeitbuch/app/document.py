# Documents that people sign: a page a flow, its map, and an index.
"""Documents of an estate."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.records import Flow
from zeitbuch.core.report.document import flow_page, index_page
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text


def flow_documents(
    flows: Sequence[Flow], result: EstateEstimate | None, unread: Sequence[str] = ()
) -> Iterator[FlowDocument]:
    """The documents of flows, one by one, and at the end their index, which names the files that could not be read."""
    names = file_names([flow.title for flow in flows])
    for flow, name in zip(flows, names, strict=True):
        yield document_flow(flow, name, result)
    yield FlowDocument(index_page(list(flows), names, result, unread))


def document_flow(flow: Flow, name: str, result: EstateEstimate | None) -> FlowDocument:
    """The document of one flow; ``name`` is its file name without suffix."""
    drawn = draw_scene(Graph(flow), measure_text)
    return FlowDocument(flow_page(flow, name, result), lambda inline: to_svg(drawn, inline=inline))
