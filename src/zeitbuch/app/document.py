# Documents that people sign: a page a flow, its map, and an index.
"""Documents of an estate."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct, structs

from zeitbuch.core.actuals.step_records import FlowActuals
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.flow_calls import Call, calls_of, titles_of
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import PLAIN
from zeitbuch.core.layout.geometry import Scene
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.blocks import Block, Heading, Links, Page, Paragraph, Picture
from zeitbuch.core.report.brief.brief import FlowDraft, draft_blocks
from zeitbuch.core.report.document import flow_page
from zeitbuch.core.report.first_sheet.sheet import SheetFacts, first_sheet
from zeitbuch.core.report.house_notes import HouseNote, lost_notes, sections_of, with_notes
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.core.report.review_states import FlowReview
from zeitbuch.core.report.sign_off import sign_off_blocks
from zeitbuch.core.report.site.rows import page_files
from zeitbuch.core.report.step_sections import is_listed_tool, section_anchor
from zeitbuch.core.report.usage_blocks import step_pairs, usage_lines, usage_section
from zeitbuch.writers.map.map_page import to_map_page
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.outputs.rows import Content
from zeitbuch.writers.theme.fonts import measure_text

from .faults import problem_of_flow
from .parallel_work import share_work
from .shown_places import with_shown_places

_CALLS = frozenset({"subflow", "tool", "webhook"})
PICTURE_SCALE = 2.0  # pixels a point of a map in a Word file


class UsageParts(Struct, frozen=True):
    """What logs have of a flow: the section of its page, and pairs by step for the panel of its map."""

    section: tuple[Block, ...] = ()
    told: Mapping[str, tuple[tuple[str, str], ...]] = {}


class PageParts(Struct, frozen=True):
    """What a page has beside what follows from its flow: notes of the house, the end of its first sheet, links to the flows
    around it, their titles, and what usage logs have of it."""

    notes: tuple[HouseNote, ...] = ()
    sign_off: tuple[Block, ...] = ()
    neighbours: tuple[Block, ...] = ()
    titles: Mapping[str, str] = {}
    usage: UsageParts = UsageParts()


NO_PARTS = PageParts()


class DocumentFacts(Struct, frozen=True):
    """What pages say beside the flows: the findings (by flow id; None: nobody looked), the ``estate`` of what flows call and are called by, the
    notes of the house, what became of the signatures and the drafts (all by flow id), the names of the pages of all flows of the estate, and the
    fingerprints of flows that are shown with placeholders, and what usage logs have of flows (None: nobody asked)."""

    estate: Estate
    found: Mapping[str, Sequence[CheckFinding]] | None = None
    notes: Mapping[str, Sequence[HouseNote]] = {}
    reviews: Mapping[str, FlowReview] = {}
    sentences: Mapping[str, str] = {}
    files: Sequence[str] = ()
    drafts: Mapping[str, FlowDraft] = {}
    fingerprints: Mapping[str, str] = {}
    actuals: Mapping[str, FlowActuals] | None = None


class DocumentMaker:
    """Makes the documents of flows of an estate. What all of them need is looked up once."""

    def __init__(self, flows: Sequence[Flow], result: EstateEstimate | None, about: DocumentFacts) -> None:
        self.result, self.about = result, about
        names = about.files or page_files(about.estate.flows)
        files = {id(flow): name for flow, name in zip(about.estate.flows, names, strict=True)}
        self.flows = with_shown_places(flows, about.estate.flows)
        self.files = [files[id(flow)] for flow in flows]
        self.pages = {flow.id: (flow.title, files[id(flow)]) for flow in reversed(about.estate.flows)}
        self.estimates = {one.id: one for one in reversed(result.flows)} if result is not None else {}
        self.titles = titles_of(about.estate.flows)
        self.by_id = {flow.id: flow for flow in reversed(about.estate.flows)}
        self.running: dict[str, frozenset[str]] = {}
        self.calls: dict[str, list[Call]] = {}
        for call in calls_of(about.estate):
            for key in dict.fromkeys((call.source, call.target)):
                self.calls.setdefault(key, []).append(call)

    def documents(self, places: Iterable[int], problems: list[Problem]) -> Iterator[FlowDocument]:
        """The documents of some of the flows, one by one. A flow that cannot be drawn has a document without a map; one that cannot be
        documented has none. Both are added to ``problems``."""
        for place in places:
            flow = self.flows[place]
            try:
                made = document_flow(
                    flow, self.files[place], self.result, problems, self.sheet_facts(flow), self._parts(flow)
                )
            except Exception as error:  # the others are documented all the same
                problems.append(problem_of_flow(error, "document", flow))
                continue
            yield made

    def _parts(self, flow: Flow) -> PageParts:
        about = self.about
        return PageParts(
            tuple(about.notes.get(flow.id, ())),
            tuple(
                sign_off_blocks(
                    about.fingerprints.get(flow.id) or fingerprint(flow), about.reviews.get(flow.id), about.sentences
                )
            ),
            tuple(neighbour_blocks(flow.id, self.calls.get(flow.id, ()), self.pages)),
            self.titles,
            self._usage_parts(flow),
        )

    def _usage_parts(self, flow: Flow) -> UsageParts:
        """What logs have of a flow: a section of its page, and facts for the panel of its map."""
        if self.about.actuals is None:
            return UsageParts()
        found = self.about.actuals.get(flow.id)
        told = {step.id: step_pairs(step, found) for step in found.steps} if found is not None else {}
        return UsageParts(tuple(usage_section(Graph(flow), found)), told)

    def sheet_facts(self, flow: Flow) -> SheetFacts:
        """What stands beside a flow on its first sheet."""
        calls = self.calls.get(flow.id, ())
        mine = [call for call in calls if call.source == flow.id]
        made = [call for call in calls if call.how in _CALLS and self._is_made(call)]
        callers = [self._name(call.source, call.source) for call in made if call.target == flow.id]
        called = [self._name(call.target, call.name) for call in made if call.source == flow.id]
        handlers = [
            self.pages[call.target][0] if call.target in self.pages else call.name
            for call in mine
            if call.how == "fault"
        ]
        found = self.about.found
        who_calls, whom, takers = (tuple(dict.fromkeys(names)) for names in (callers, called, handlers))
        return SheetFacts(
            self.estimates.get(flow.id),
            self.result,
            found.get(flow.id, ()) if found is not None else None,
            who_calls,
            whom,
            takers,
            draft_blocks(self.about.drafts.get(flow.id)),
            self.about.fingerprints.get(flow.id, ""),
            _recorded_words(self.about.reviews.get(flow.id)),
            usage_lines(Graph(flow), self.about.actuals.get(flow.id)) if self.about.actuals is not None else (),
        )

    def _is_made(self, call: Call) -> bool:
        """Whether some run comes to a step that makes a call."""
        if call.source not in self.running:
            source = self.by_id.get(call.source)
            self.running[call.source] = steps_that_may_run(Graph(source)) if source is not None else frozenset()
        return not self.running[call.source].isdisjoint(call.steps)

    def _name(self, key: str, otherwise: str) -> str:
        return quote_name(self.pages[key][0] if key in self.pages else otherwise)


def _recorded_words(review: FlowReview | None) -> str:
    return f"as version {review.recorded} since {review.since}" if review is not None and review.since else ""


def flow_files(
    maker: DocumentMaker, render: Callable[[FlowDocument], dict[str, Content]], problems: list[Problem]
) -> Iterator[tuple[str, dict[str, Content]]]:
    """The name and files of every document, of many flows by several processes; ``render`` makes the files of one."""

    def work(places: range) -> tuple[list[tuple[str, dict[str, Content]]], list[Problem]]:
        own: list[Problem] = []
        return [(made.page.name, render(made)) for made in maker.documents(places, own)], own

    for made, own in share_work(work, len(maker.flows)):
        problems += own
        yield from made


# How two flows hang together: what is said of the caller, and of the called one.
_AROUND = {
    "subflow": ("calls this flow", "is called by this flow"),
    "tool": ("may use this flow as a tool", "is a tool of this flow"),
    "webhook": ("starts this flow by a web request", "is started by a web request of this flow"),
    "fault": ("hands its failures to this flow", "takes the failures of this flow"),
}


def neighbour_blocks(key: str, calls: Sequence[Call], pages: Mapping[str, tuple[str, str]]) -> list[Block]:
    """Links to the pages of the flows that lead to a flow and that it leads to; ``pages`` are title and file by id."""
    items: dict[tuple[str, str, str], None] = {}
    for call in calls:
        if call.how not in _AROUND or call.source == call.target:
            continue
        if call.target == key and call.source in pages:
            items[(*pages[call.source], _AROUND[call.how][0])] = None
        elif call.source == key and call.target in pages:
            items[(*pages[call.target], _AROUND[call.how][1])] = None
    return [Heading(2, "Flows around it", "around"), Links(tuple(items))] if items else []


def document_flow(
    flow: Flow,
    name: str,
    result: EstateEstimate | None,
    problems: list[Problem] | None = None,
    facts: SheetFacts | None = None,
    parts: PageParts = NO_PARTS,
) -> FlowDocument:
    """The document of one flow; ``name`` is its file name without suffix. Raises ZeitbuchError when it cannot be drawn, unless that may
    be added to ``problems``."""
    graph = Graph(flow, parts.titles)
    sheet = first_sheet(graph, facts or SheetFacts())
    sign_off = parts.sign_off or sign_off_blocks(fingerprint(flow), None, {})
    page = flow_page(graph, name, result, sheet, sign_off, parts.neighbours, parts.usage.section)
    page = _with_notes(graph, page, parts.notes, problems)
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
    return FlowDocument(
        page,
        lambda inline: inlined if inline else to_svg(drawn),
        lambda: _as_png(drawn),
        lambda: to_map_page(graph, drawn, structs.replace(PLAIN, told=dict(parts.usage.told)), result),
    )


def _as_png(drawn: Scene) -> bytes:
    from zeitbuch.writers.map.png import to_png  # its library is an extra

    return to_png(drawn, PICTURE_SCALE)


def _with_notes(graph: Graph, page: Page, notes: Sequence[HouseNote], problems: list[Problem] | None) -> Page:
    """The page with its notes; those whose place is gone are told."""
    anchors = {step.id: section_anchor(graph, step) for step in graph.flow.steps if step.kind != "note"}
    listed = {step.id: quote_name(step.title) for step in graph.flow.steps if is_listed_tool(graph, step)}
    notes = [
        structs.replace(note, part=listed[note.name]) if note.place == "step" and note.name in listed else note
        for note in notes
    ]
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
