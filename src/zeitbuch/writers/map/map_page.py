# The map as one page that needs nothing else: the drawing, a list of the same content, and our own script and style. Names
# are escaped, the script builds no markup from them, and a content policy lets no other script run.
"""Maps as an HTML page."""

from __future__ import annotations

import base64
import hashlib
from html import escape
from importlib.resources import files
from typing import Any

import msgspec

from zeitbuch.core.assumptions.money import evidence_words, money_words
from zeitbuch.core.estimate.records import EstateEstimate, StepEstimate
from zeitbuch.core.graph.pattern_class import pattern_of, pattern_reason
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.geometry import TAB_HEIGHT, Scene
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import count_words, trigger_words
from zeitbuch.core.passes.reachability import Reachability, Read
from zeitbuch.core.report.blocks import Block, Bullets, Facts, Heading, Paragraph
from zeitbuch.core.report.sentences import summary_sentences
from zeitbuch.core.report.step_sections import step_blocks
from zeitbuch.writers.document.html import block_html
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.look import FONT, PAGE
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing
from .svg import MARKS, Drawing, coordinate, head_and_legend


def to_map_page(graph: Graph, scene: Scene, showing: Showing, result: EstateEstimate | None) -> str:
    """The page of a map; ``result`` puts the estimate of its flow into the steps' cards."""
    page = _Page(graph, scene, showing, result)
    script = files(__package__).joinpath("page/map.js").read_text("utf-8")
    style = files(__package__).joinpath("page/map.css").read_text("utf-8")
    mark = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    policy = f"default-src 'none'; script-src 'sha256-{mark}'; style-src 'unsafe-inline'"
    data = (
        msgspec.json.encode(page.shape_record())
        .decode()
        .replace("<", "\\u003c")
        .replace("\u2028", "\\u2028")
        .replace("\u2029", "\\u2029")
    )
    title = _escape_text(scene.title)
    return f"""<!doctype html>
<html lang=en>
<head>
<meta charset=utf-8>
<meta name=viewport content="width=device-width, initial-scale=1">
<meta http-equiv=Content-Security-Policy content="{policy}">
<title>Map of {title}</title>
<style>{style}</style>
</head>
<body>
<header>
<div class=name><h1>{title}</h1></div>
<div class=bar role=group aria-label="Map">
<form id=find role=search><label for=q>Find</label><input id=q type=search autocomplete=off placeholder="step, model, operation"><button>Next</button>
<output id=hits aria-live=polite></output></form>
<button id=out aria-label="Smaller">−</button><button id=in aria-label="Larger">+</button><button id=fit>Fit</button>
<button id=fold>Fold all</button><button id=unfold>Unfold all</button>
<button id=view aria-pressed=false>List</button><button id=theme aria-pressed=false>Dark</button><button id=sheets>Print on sheets</button>
</div>
</header>
<main>
<div id=field>
<section id=map tabindex=0 aria-label="Map of {title}">
{page.drawing()}
</section>
<div id=small aria-hidden=true>{page.overview()}</div>
</div>
<section id=list aria-label="List of steps" tabindex=0><div>
{page.listing()}
</div></section>
<aside id=panel aria-label="Step" hidden><div class=top><button id=close>Close</button><button id=shutone hidden>Fold</button></div><div id=said></div></aside>
</main>
<script type="application/json" id=shape>{data}</script>
<script>{script}</script>
</body>
</html>
"""


def _box(x: float, y: float, width: float, height: float) -> str:
    """Place and size as attributes of SVG."""
    return f'x="{coordinate(x)}" y="{coordinate(y)}" width="{coordinate(width)}" height="{coordinate(height)}"'


def _escape_text(text: str) -> str:
    return escape(make_inert(text, keep_lines=False))


class _Page:
    def __init__(self, graph: Graph, scene: Scene, showing: Showing, result: EstateEstimate | None) -> None:
        self.graph, self.scene, self.showing = graph, scene, showing
        self.key = {placed_card.card.id: f"n{index}" for index, placed_card in enumerate(scene.cards)}
        self.key.update({frame.card.id: f"n{len(scene.cards) + index}" for index, frame in enumerate(scene.frames)})
        self.draw = Drawing(PAGE)
        self.estate = graph.flow.format == "estate"
        self.ways = Reachability(graph)
        found = (
            next((flow_estimate for flow_estimate in result.flows if flow_estimate.id == graph.flow.id), None)
            if result is not None
            else None
        )
        self.estimates: dict[str, StepEstimate] = (
            {step_estimate.id: step_estimate for step_estimate in found.steps} if found is not None else {}
        )
        self.reads: dict[str, list[Read]] = {}
        self.uses: dict[str, list[Read]] = {}
        for read in self.ways.reads:
            self.reads.setdefault(graph.card_of(read.reader), []).append(read)
            self.uses.setdefault(graph.card_of(read.source), []).append(read)
        self.currency = result.currency if result is not None else ""

    def _scope_key(self, scope: str) -> str:
        return self.key[scope] if scope else ""

    # -- what the script needs -----------------------------------------------------------------------------------

    def shape_record(self) -> dict[str, Any]:
        """Rows, boxes and lines with their places, and the words that the search looks through."""
        scene, key = self.scene, self.key
        items: list[list[Any]] = [
            [
                key[placed_card.card.id],
                self._scope_key(placed_card.scope),
                placed_card.row,
                placed_card.y,
                placed_card.card.height,
                int(bool(placed_card.card.tabs)),
                0,
            ]
            for placed_card in scene.cards
        ]
        items += [
            [
                key[frame.card.id],
                self._scope_key(frame.scope),
                frame.row,
                frame.y,
                frame.height,
                int(bool(frame.card.tabs)),
                1,
            ]
            for frame in scene.frames
        ]
        order = [*self.graph.triggers, *[step.id for step in self.graph.in_order()]]
        return {
            "width": scene.width,
            "height": scene.height,
            "bands": [[self._scope_key(second.scope), second.row, second.top, second.height] for second in scene.bands],
            "items": items,
            "routes": [
                [
                    f"r{index}",
                    self._scope_key(route.scope),
                    key.get(route.leaves, ""),
                    key.get(route.reaches, ""),
                    route.points,
                ]
                for index, route in enumerate(scene.routes)
            ],
            "order": [key[name] for name in order if name in key],
            "names": {key[name]: make_inert(self._name_of(name), keep_lines=False) for name in key},
            "text": {key[name]: self._search_words(name) for name in key},
        }

    def _name_of(self, id: str) -> str:
        trigger = self.graph.triggers.get(id)
        if trigger is not None:
            return trigger.title
        return f"{self.graph.numbers.get(id, '')} {self.graph.steps[id].title}".strip()

    def _search_words(self, id: str) -> str:
        """What a search finds a step by: name, operation, model, kind, helpers, prompts."""
        step = self.graph.steps.get(id)
        if step is None:
            return f"{self._name_of(id)} {trigger_words(self.graph.triggers[id])}".lower()
        words = [self._name_of(id), step.operation, KINDS[step.kind].words, step.connection or ""]
        for one in (step, *self.graph.helpers_of(id)):
            words += [one.title, one.model.name or "" if one.model is not None else ""]
            words += [prompt.text[:2000] for prompt in one.model.prompts] if one.model is not None else []
        return " ".join(word for word in words if word).lower()

    # -- the drawing ---------------------------------------------------------------------------------------------

    def drawing(self) -> str:
        scene = self.scene
        head, foot = head_and_legend(scene, self.draw, ' id="rail"')
        parts = [
            f'<svg id=drawing xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {coordinate(scene.width)} {coordinate(scene.height)}" width="{coordinate(scene.width)}" '
            f'height="{coordinate(scene.height)}" role="group" aria-label="Steps, arrow keys move between them" font-family="{FONT}">'
            f"<defs>{MARKS}</defs><g id=whole>{head}"
        ]
        tops = {second.top: second.row for second in scene.bands if not second.scope}
        for y, words in scene.margin:
            parts.append(
                f"<g id=row{tops.get(y, 0)}>{self.draw.text(44, y + 20, words, 10, colour=PAGE.quiet, anchor='end')}</g>"
            )
        for frame in scene.frames:
            inside = sum(step.kind != "note" for step in self.graph.contents.get(frame.card.id, ()))
            x, y, shut = frame.x + frame.width - 40, frame.y + 8, f"folded: {count_words(inside, 'step')}"
            parts.append(
                f'<g id={self.key[frame.card.id]} class="node frame" role=button tabindex=-1>'
                f'<rect class=halo x="{coordinate(frame.x - 4)}" y="{coordinate(frame.y - 4)}" width="{coordinate(frame.width + 8)}" height="{coordinate(frame.height + 8)}"/>'
                f"<g class=tabs>{self.draw.tabs(frame.card, frame.x, frame.y, frame.width, frame.height)}</g><g class=edge>{self.draw.frame(frame, False)}</g>"
                f"<g class=toggle aria-hidden=true aria-expanded=true><title>fold or unfold</title>"
                f'<rect x="{coordinate(x - 6)}" y="{coordinate(y - 6)}" width="28" height="28" fill="{PAGE.paper}" fill-opacity="0"/>'
                f'<rect x="{coordinate(x)}" y="{coordinate(y)}" width="16" height="16" fill="{PAGE.card}" stroke="{PAGE.ink}"/>'
                f'<path d="M{coordinate(x + 4)} {coordinate(y + 8)}h8" stroke="{PAGE.ink}" stroke-width="1.6"/>'
                f'<path class=cross d="M{coordinate(x + 8)} {coordinate(y + 4)}v8" stroke="{PAGE.ink}" stroke-width="1.6"/></g>'
                f"<g class=shut-only>{self.draw.text(frame.x + 18, frame.y + 40, shut, 10)}</g></g>"
            )
        for index, route in enumerate(scene.routes):
            parts.append(f"<g id=r{index}>{self.draw.route(route)}</g>")
        for placed_card in scene.cards:
            low = TAB_HEIGHT if placed_card.card.tabs else 0.0
            parts.append(
                f'<g id={self.key[placed_card.card.id]} class="node" role=button tabindex=-1>'
                f'<rect class=halo x="{coordinate(placed_card.x - 6)}" y="{coordinate(placed_card.y - 6)}" '
                f'width="{coordinate(placed_card.card.width + 12)}" height="{coordinate(placed_card.card.height + 12 + low)}"/>'
                f"{self.draw.card(placed_card)}</g>"
            )
        parts.append(f"<g id=foot>{foot}</g></g></svg>")
        return "\n".join(parts)

    def overview(self) -> str:
        scene = self.scene
        dots = [
            f"<rect id=d{self.key[frame.card.id]} class=field {_box(frame.x, frame.y, frame.width, frame.height)} "
            f'stroke-width="1" vector-effect="non-scaling-stroke"/>'
            for frame in scene.frames
        ]
        dots += [
            f"<rect id=d{self.key[placed.card.id]} {_box(placed.x, placed.y, placed.card.width, placed.card.height)}/>"
            for placed in scene.cards
        ]
        return (
            f'<svg id=dots viewBox="0 0 {coordinate(scene.width)} {coordinate(scene.height)}" width="100%" height="100%">{"".join(dots)}'
            '<rect id=eye class=eye stroke-width="2" vector-effect="non-scaling-stroke"/></svg>'
        )

    # -- the list --------------------------------------------------------------------------------------------------

    def listing(self) -> str:
        graph = self.graph
        parts = []
        if not self.estate:
            longest = " → ".join(graph.numbers.get(s, "") for s in self.ways.longest[:40])
            pairs = [
                ("Pattern", f"{pattern_of(graph.flow)}: {pattern_reason(graph)}"),
                ("Longest way", f"{count_words(len(self.ways.longest), 'step')}: {longest}"),
                ("Nothing leads to", self._names_of(self.ways.unreachable)),
                ("Nobody uses", self._names_of(self.ways.dead_ends)),
            ]
            parts.append(
                f"<div class=body><p>{_escape_text(summary_sentences(graph))}</p>{block_html(Facts(tuple((key, value) for key, value in pairs if value)))}</div>"
            )
            parts.append("<h2>Triggers</h2><ol>")
            for trigger in graph.triggers.values():
                leads = self._names_of([edge.target for edge in graph.levels[None].edges if edge.source == trigger.id])
                blocks: list[Block] = [
                    Paragraph(trigger_words(trigger)),
                    Paragraph(f"Leads to {leads}" if leads else "Leads nowhere", quiet=True),
                ]
                parts.append(self._list_entry(trigger.id, trigger.title, blocks))
            parts.append("</ol>")
        parts.append(f"<h2>{'Flows' if self.estate else 'Steps'}</h2>")
        parts.append(self._level_list(None))
        return "\n".join(parts)

    def _names_of(self, ids: list[str]) -> str:
        return ", ".join(self._name_of(key) for key in ids)

    def _level_list(self, scope: str | None) -> str:
        if scope not in self.graph.levels:
            return ""
        steps = [step for step in self.graph.levels[scope].steps if step.kind != "note"]
        rows = [
            self._list_entry(step.id, self._name_of(step.id), self._step_details(step), self._level_list(step.id))
            for step in steps
        ]
        return "<ol>" + "\n".join(rows) + "</ol>" if rows else ""

    def _list_entry(self, id: str, title: str, blocks: list[Block], inner: str = "") -> str:
        anchor = f" id=l{self.key[id]}" if id in self.key else ""
        body = "".join(block_html(second) for second in blocks)
        return f"<li{anchor}><details><summary>{_escape_text(title)}</summary><div class=body>{body}</div></details>{inner}</li>"

    def _step_details(self, step: Step) -> list[Block]:
        """Everything about a step: sentence, settings, prompts, data in and out, estimate, place in the export."""
        graph, ways = self.graph, self.ways
        blocks: list[Block] = []
        self._about_step(step, blocks, graph)
        remarks = self.showing.remarks.get(step.id, ())
        if remarks:
            blocks.append(Bullets(remarks))
        own = {step.id, *[h.id for h in graph.helpers_of(step.id)]}
        taken = [ways.read_words(read) for read in self.reads.get(step.id, [])]
        given = [
            f"{self._name_of(read.reader)}: {read.where}"
            for read in self.uses.get(step.id, [])
            if read.reader not in own
        ]
        for title, lines in (("Takes", taken), ("Is used by", given)):
            if lines:
                blocks += [Heading(3, title), Bullets(tuple(dict.fromkeys(lines)))]
        if points := self.showing.points.get(step.id, ()):
            blocks += [Heading(3, "Open points"), Bullets(points)]
        found = self.estimates.get(step.id)
        if found is not None:
            self._estimate_blocks(found, blocks)
        if told := self.showing.told.get(step.id):
            blocks += [Heading(3, "What really happened"), Facts(told)]
        if step.origin is not None:
            blocks.append(Paragraph(f"In the export: {step.origin}", quiet=True))
        return blocks

    def _about_step(self, step: Step, blocks: list[Block], graph: Graph) -> None:
        if not self.estate:
            blocks += [second for second in step_blocks(graph, step) if not isinstance(second, Heading)]
            for helper in graph.helpers_of(step.id):
                blocks.append(Heading(3, f"{helper.title} ({KINDS[helper.kind].words})"))
                blocks += [second for second in step_blocks(graph, helper) if not isinstance(second, Heading)]
        else:
            calls = graph.leaving.get(step.id, [])
            blocks += (
                [
                    Bullets(
                        tuple(
                            f"leads to {graph.names[link.target]}{f' ({link.label})' if link.label else ''}"
                            for link in calls
                        )
                    )
                ]
                if calls
                else []
            )

    def _estimate_blocks(self, found: StepEstimate, blocks: list[Block]) -> None:
        pairs = [
            ("Passes per run", number_text(found.passes)),
            ("Model calls per run", number_text(found.calls) if found.calls else ""),
        ]
        if found.calls:
            pairs += [
                ("Tokens per run", f"{found.input_tokens:,.0f} in, {found.output_tokens:,.0f} out"),
                ("Cost per run", money_words(found.cost, self.currency)),
                ("Based on", evidence_words(found.evidence)),
            ]
        blocks += [Heading(3, "Estimate"), Facts(tuple((key, value) for key, value in pairs if value))]


def write_html(drawing: MapDrawing, look: TextLook) -> str:
    """A page to search, fold and click."""
    return to_map_page(drawing.view.graph, drawing.scene(), drawing.showing, drawing.result)
