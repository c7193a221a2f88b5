# Documents that people sign: a page a flow, its map, and an index.
"""Documents of an estate."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import structs

from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.flow_calls import Call, calls_of
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.core.report.document import Page, Paragraph, Picture, flow_page, index_page, step_anchor
from zeitbuch.core.report.first_sheet.sheet import SheetFacts, first_sheet
from zeitbuch.core.report.house_notes import HouseNote, lost_notes, sections_of, with_notes
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.map.png import to_png
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text

from .faults import problem_of_flow
from .shown_places import with_shown_places

_CALLS = frozenset({"subflow", "tool", "webhook"})
PICTURE_SCALE = 2.0  # pixels a point of a map in a Word file


def flow_documents(
    flows: Sequence[Flow],
    result: EstateEstimate | None,
    unread: Sequence[str],
    problems: list[Problem],
    found: Mapping[str, Sequence[CheckFinding]] | None = None,
    estate: Estate | None = None,
    notes: Mapping[str, Sequence[HouseNote]] | None = None,
) -> Iterator[FlowDocument]:
    """The documents of flows, one by one, and at the end their index, which names the files that could not be read. A flow that cannot
    be drawn has a document without a map; one that cannot be documented has none. Both are added to ``problems``. ``found`` are the
    findings of each flow (by id), told as open points; without it nothing is said of them. ``estate`` is what
    the flows call and are called by, where it is more than they; ``notes`` are those of the house, by flow."""
    whole = estate if estate is not None else Estate(tuple(flows))
    calls = calls_of(whole)
    flows = with_shown_places(flows, whole.flows)
    names = file_names([flow.title for flow in flows])
    written: list[tuple[Flow, str]] = []
    for flow, name in zip(flows, names, strict=True):
        try:
            facts = sheet_facts(flow, result, calls, found)
            document = document_flow(flow, name, result, problems, facts, (notes or {}).get(flow.id, ()))
        except Exception as error:  # the others are documented all the same
            problems.append(problem_of_flow(error, "document", flow))
            continue
        written.append((flow, name))
        yield document
    yield FlowDocument(index_page([flow for flow, _ in written], [name for _, name in written], result, unread))


def sheet_facts(
    flow: Flow, result: EstateEstimate | None, calls: Sequence[Call], found: Mapping[str, Sequence[CheckFinding]] | None
) -> SheetFacts:
    """What stands beside a flow on its first sheet."""
    names = {one.id: one.name for one in result.flows} if result is not None else {}
    estimate = next((one for one in result.flows if one.id == flow.id), None) if result is not None else None
    callers = [
        quote_name(names.get(call.source, call.source))
        for call in calls
        if call.target == flow.id and call.how in _CALLS
    ]
    mine = [call for call in calls if call.source == flow.id]
    called = [quote_name(names.get(call.target, call.name)) for call in mine if call.how in _CALLS]
    handlers = [names.get(call.target, call.name) for call in mine if call.how == "fault"]
    findings = found.get(flow.id, ()) if found is not None else None
    return SheetFacts(
        estimate, result, findings, *[tuple(dict.fromkeys(found)) for found in (callers, called, handlers)]
    )


def document_flow(
    flow: Flow,
    name: str,
    result: EstateEstimate | None,
    problems: list[Problem] | None = None,
    facts: SheetFacts | None = None,
    notes: Sequence[HouseNote] = (),
) -> FlowDocument:
    """The document of one flow; ``name`` is its file name without suffix. Raises ZeitbuchError when it cannot be drawn, unless that may
    be added to ``problems``."""
    graph = Graph(flow)
    page = _with_notes(graph, flow_page(flow, name, result, first_sheet(graph, facts or SheetFacts())), notes, problems)
    try:
        drawn = draw_scene(graph, measure_text)
        inlined = to_svg(drawn, inline=True)  # drawn here, where a fault costs no more than the picture
    except Exception as error:
        if problems is None:
            raise
        problem = problem_of_flow(error, "draw", flow)
        problems.append(problem)
        blocks = tuple([Paragraph(problem.message) if isinstance(block, Picture) else block for block in page.blocks])
        return FlowDocument(structs.replace(page, blocks=blocks))
    return FlowDocument(page, lambda inline: inlined if inline else to_svg(drawn), lambda: to_png(drawn, PICTURE_SCALE))


def _with_notes(graph: Graph, page: Page, notes: Sequence[HouseNote], problems: list[Problem] | None) -> Page:
    """The page with its notes; those whose place is gone are told."""
    anchors = {step.id: step_anchor(graph, step) for step in graph.flow.steps if step.kind != "note"}
    told = problems if problems is not None else []
    for note in lost_notes(page, notes, anchors):
        thing = "id of a step" if note.place == "step" else "title of a section"
        steps = [f"{step.id} ({step.title})" for step in graph.in_order() if step.id in anchors]
        known = steps if note.place == "step" else sections_of(page)
        words = (
            f"expected the {thing} of {quote_name(graph.flow.title)}, found '{note.name}': the note stands at the end"
        )
        hint = f"one of {', '.join(known[:12])}{', ...' if len(known) > 12 else ''}"
        told.append(Problem("notes-place", "warning", words, Origin(note.file, line=note.line), hint))
    return with_notes(page, notes, anchors)
