# Documents that people sign: a page a flow, its map, and an index.
"""Documents of an estate."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import structs

from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow
from zeitbuch.core.report.document import Paragraph, Picture, flow_page, index_page
from zeitbuch.core.report.finding_marks import open_points
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text

from .faults import problem_of_flow


def flow_documents(
    flows: Sequence[Flow],
    result: EstateEstimate | None,
    unread: Sequence[str],
    problems: list[Problem],
    found: Mapping[str, Sequence[CheckFinding]] | None = None,
) -> Iterator[FlowDocument]:
    """The documents of flows, one by one, and at the end their index, which names the files that could not be read. A flow that cannot
    be drawn has a document without a map; one that cannot be documented has none. Both are added to ``problems``. ``found`` are the
    findings of each flow (by id), told as open points; without it nothing is said of them."""
    names = file_names([flow.title for flow in flows])
    written: list[tuple[Flow, str]] = []
    for flow, name in zip(flows, names, strict=True):
        try:
            document = document_flow(
                flow, name, result, problems, found.get(flow.id, ()) if found is not None else None
            )
        except Exception as error:  # the others are documented all the same
            problems.append(problem_of_flow(error, "document", flow))
            continue
        written.append((flow, name))
        yield document
    yield FlowDocument(index_page([flow for flow, _ in written], [name for _, name in written], result, unread))


def document_flow(
    flow: Flow,
    name: str,
    result: EstateEstimate | None,
    problems: list[Problem] | None = None,
    found: Sequence[CheckFinding] | None = None,
) -> FlowDocument:
    """The document of one flow; ``name`` is its file name without suffix. Raises ZeitbuchError when it cannot be drawn, unless that may
    be added to ``problems``."""
    page = flow_page(flow, name, result, open_points(found) if found is not None else ())
    try:
        drawn = draw_scene(Graph(flow), measure_text)
        inlined = to_svg(drawn, inline=True)  # drawn here, where a fault costs no more than the picture
    except Exception as error:
        if problems is None:
            raise
        problem = problem_of_flow(error, "draw", flow)
        problems.append(problem)
        blocks = tuple([Paragraph(problem.message) if isinstance(block, Picture) else block for block in page.blocks])
        return FlowDocument(structs.replace(page, blocks=blocks))
    return FlowDocument(page, lambda inline: inlined if inline else to_svg(drawn))
