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
from zeitbuch.core.graph.pattern_class import pattern_reason
from zeitbuch.core.graph.topology import Graph, pattern_of
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.geometry import TAB_HEIGHT, Scene
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import number
from zeitbuch.core.model.words import KIND_WORDS, plural, trigger_words
from zeitbuch.core.passes.reachability import Read, Ways
from zeitbuch.core.report.document import Block, Bullets, Facts, Heading, Paragraph, step_blocks
from zeitbuch.core.report.sentences import summary
from zeitbuch.writers.document.html import block_html
from zeitbuch.writers.escape.text import inert
from zeitbuch.writers.theme.look import FONT, PAGE
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing
from .svg import MARKS, Drawing, head_and_legend, n


def to_map_page(graph: Graph, scene: Scene, showing: Showing, result: EstateEstimate | None) -> str:
    """The page of a map; ``result`` puts the estimate of its flow into the steps' cards."""
    page = _Page(graph, scene, showing, result)
    script = files(__package__).joinpath("page/map.js").read_text("utf-8")
    style = files(__package__).joinpath("page/map.css").read_text("utf-8")
    mark = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    policy = f"default-src 'none'; script-src 'sha256-{mark}'; style-src 'unsafe-inline'"
    data = (
        msgspec.json.encode(page.shape())
        .decode()
        .replace("<", "\\u003c")
        .replace("\u2028", "\\u2028")
        .replace("\u2029", "\\u2029")
    )
    title = _t(scene.title)
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


def _t(text: str) -> str:
    return escape(inert(text, keep_lines=False))


class _Page:
    def __init__(self, graph: Graph, scene: Scene, showing: Showing, result: EstateEstimate | None) -> None:
        self.graph, self.scene, self.showing = graph, scene, showing
        self.key = {c.card.id: f"n{i}" for i, c in enumerate(scene.cards)}
        self.key.update({f.card.id: f"n{len(scene.cards) + i}" for i, f in enumerate(scene.frames)})
        self.draw = Drawing(PAGE)
        self.estate = graph.flow.format == "estate"
        self.ways = Ways(graph)
        found = next((f for f in result.flows if f.id == graph.flow.id), None) if result is not None else None
        self.estimates: dict[str, StepEstimate] = {s.id: s for s in found.steps} if found is not None else {}
        self.reads: dict[str, list[Read]] = {}
        self.uses: dict[str, list[Read]] = {}
        for r in self.ways.reads:
            self.reads.setdefault(graph.host.get(r.reader, r.reader), []).append(r)
            self.uses.setdefault(graph.host.get(r.source, r.source), []).append(r)
        self.currency = result.currency if result is not None else ""

    def _scope(self, scope: str) -> str:
        return self.key[scope] if scope else ""

    # -- what the script needs -----------------------------------------------------------------------------------

    def shape(self) -> dict[str, Any]:
        """Rows, boxes and lines with their places, and the words that the search looks through."""
        scene, key = self.scene, self.key
        items: list[list[Any]] = [
            [key[c.card.id], self._scope(c.scope), c.row, c.y, c.card.height, int(bool(c.card.tabs)), 0]
            for c in scene.cards
        ]
        items += [
            [key[f.card.id], self._scope(f.scope), f.row, f.y, f.height, int(bool(f.card.tabs)), 1]
            for f in scene.frames
        ]
        order = [*self.graph.triggers, *[s.id for s in self.graph.in_order()]]
        return {
            "width": scene.width,
            "height": scene.height,
            "bands": [[self._scope(b.scope), b.row, b.top, b.height] for b in scene.bands],
            "items": items,
            "routes": [
                [f"r{i}", self._scope(r.scope), key.get(r.leaves, ""), key.get(r.reaches, ""), r.points]
                for i, r in enumerate(scene.routes)
            ],
            "order": [key[i] for i in order if i in key],
            "names": {key[i]: inert(self._name(i), keep_lines=False) for i in key},
            "text": {key[i]: self._searched(i) for i in key},
        }

    def _name(self, id: str) -> str:
        trigger = self.graph.triggers.get(id)
        if trigger is not None:
            return trigger.title
        return f"{self.graph.numbers.get(id, '')} {self.graph.steps[id].title}".strip()

    def _searched(self, id: str) -> str:
        """What a search finds a step by: name, operation, model, kind, helpers, prompts."""
        step = self.graph.steps.get(id)
        if step is None:
            return f"{self._name(id)} {trigger_words(self.graph.triggers[id])}".lower()
        words = [self._name(id), step.operation, KIND_WORDS[step.kind], step.connection or ""]
        for one in (step, *self.graph.attached.get(id, [])):
            words += [one.title, one.model.name or "" if one.model is not None else ""]
            words += [p.text[:2000] for p in one.model.prompts] if one.model is not None else []
        return " ".join(w for w in words if w).lower()

    # -- the drawing ---------------------------------------------------------------------------------------------

    def drawing(self) -> str:
        scene = self.scene
        head, foot = head_and_legend(scene, self.draw, ' id="rail"')
        parts = [
            f'<svg id=drawing xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {n(scene.width)} {n(scene.height)}" width="{n(scene.width)}" '
            f'height="{n(scene.height)}" role="group" aria-label="Steps, arrow keys move between them" font-family="{FONT}">'
            f"<defs>{MARKS}</defs><g id=whole>{head}"
        ]
        tops = {b.top: b.row for b in scene.bands if not b.scope}
        for y, words in scene.margin:
            parts.append(
                f"<g id=row{tops.get(y, 0)}>{self.draw.text(44, y + 20, words, 10, colour=PAGE.quiet, anchor='end')}</g>"
            )
        for f in scene.frames:
            inside = sum(s.kind != "note" and f.card.id in self.graph.path(s.id) for s in self.graph.flow.steps)
            x, y, shut = f.x + f.width - 40, f.y + 8, f"folded: {plural(inside, 'step')}"
            parts.append(
                f'<g id={self.key[f.card.id]} class="node frame" role=button tabindex=-1>'
                f'<rect class=halo x="{n(f.x - 4)}" y="{n(f.y - 4)}" width="{n(f.width + 8)}" height="{n(f.height + 8)}"/>'
                f"<g class=tabs>{self.draw.tabs(f.card, f.x, f.y, f.width, f.height)}</g><g class=edge>{self.draw.frame(f, False)}</g>"
                f"<g class=toggle aria-hidden=true aria-expanded=true><title>fold or unfold</title>"
                f'<rect x="{n(x - 6)}" y="{n(y - 6)}" width="28" height="28" fill="{PAGE.paper}" fill-opacity="0"/>'
                f'<rect x="{n(x)}" y="{n(y)}" width="16" height="16" fill="{PAGE.card}" stroke="{PAGE.ink}"/>'
                f'<path d="M{n(x + 4)} {n(y + 8)}h8" stroke="{PAGE.ink}" stroke-width="1.6"/>'
                f'<path class=cross d="M{n(x + 8)} {n(y + 4)}v8" stroke="{PAGE.ink}" stroke-width="1.6"/></g>'
                f"<g class=shut-only>{self.draw.text(f.x + 18, f.y + 40, shut, 10)}</g></g>"
            )
        for i, r in enumerate(scene.routes):
            parts.append(f"<g id=r{i}>{self.draw.route(r)}</g>")
        for c in scene.cards:
            low = TAB_HEIGHT if c.card.tabs else 0.0
            parts.append(
                f'<g id={self.key[c.card.id]} class="node" role=button tabindex=-1>'
                f'<rect class=halo x="{n(c.x - 6)}" y="{n(c.y - 6)}" width="{n(c.card.width + 12)}" height="{n(c.card.height + 12 + low)}"/>'
                f"{self.draw.card(c)}</g>"
            )
        parts.append(f"<g id=foot>{foot}</g></g></svg>")
        return "\n".join(parts)

    def overview(self) -> str:
        scene = self.scene
        dots = [
            f'<rect id=d{self.key[f.card.id]} class=field x="{n(f.x)}" y="{n(f.y)}" width="{n(f.width)}" height="{n(f.height)}" stroke-width="4"/>'
            for f in scene.frames
        ]
        dots += [
            f'<rect id=d{self.key[c.card.id]} x="{n(c.x)}" y="{n(c.y)}" width="{n(c.card.width)}" height="{n(c.card.height)}"/>'
            for c in scene.cards
        ]
        return (
            f'<svg id=dots viewBox="0 0 {n(scene.width)} {n(scene.height)}" width="100%" height="100%">{"".join(dots)}'
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
                ("Longest way", f"{plural(len(self.ways.longest), 'step')}: {longest}"),
                ("Nothing leads to", self._named(self.ways.unreachable)),
                ("Nobody uses", self._named(self.ways.dead_ends)),
            ]
            parts.append(
                f"<div class=body><p>{_t(summary(graph))}</p>{block_html(Facts(tuple((k, v) for k, v in pairs if v)))}</div>"
            )
            parts.append("<h2>What sets it off</h2><ol>")
            for trigger in graph.triggers.values():
                leads = self._named([e.target for e in graph.levels[None].edges if e.source == trigger.id])
                blocks: list[Block] = [
                    Paragraph(trigger_words(trigger)),
                    Paragraph(f"Leads to {leads}" if leads else "Leads nowhere", quiet=True),
                ]
                parts.append(self._entry(trigger.id, trigger.title, blocks))
            parts.append("</ol>")
        parts.append(f"<h2>{'Flows' if self.estate else 'Steps'}</h2>")
        parts.append(self._level(None))
        return "\n".join(parts)

    def _named(self, ids: list[str]) -> str:
        return ", ".join(self._name(i) for i in ids)

    def _level(self, scope: str | None) -> str:
        if scope not in self.graph.levels:
            return ""
        steps = [s for s in self.graph.levels[scope].steps if s.kind != "note"]
        rows = [self._entry(s.id, self._name(s.id), self._said(s), self._level(s.id)) for s in steps]
        return "<ol>" + "\n".join(rows) + "</ol>" if rows else ""

    def _entry(self, id: str, title: str, blocks: list[Block], inner: str = "") -> str:
        anchor = f" id=l{self.key[id]}" if id in self.key else ""
        body = "".join(block_html(b) for b in blocks)
        return f"<li{anchor}><details><summary>{_t(title)}</summary><div class=body>{body}</div></details>{inner}</li>"

    def _said(self, step: Step) -> list[Block]:
        """Everything about a step: sentence, settings, prompts, data in and out, estimate, place in the export."""
        graph, ways = self.graph, self.ways
        blocks: list[Block] = []
        if not self.estate:
            blocks += [b for b in step_blocks(graph, step) if not isinstance(b, Heading)]
            for helper in graph.attached.get(step.id, []):
                blocks.append(Heading(3, f"{helper.title} ({KIND_WORDS[helper.kind]})"))
                blocks += [b for b in step_blocks(graph, helper) if not isinstance(b, Heading)]
        else:
            calls = [k for k in graph.flow.links if k.source == step.id]
            blocks += (
                [Bullets(tuple(f"leads to {graph.names[k.target]}{f' ({k.label})' if k.label else ''}" for k in calls))]
                if calls
                else []
            )
        remarks = self.showing.remarks.get(step.id, ())
        if remarks:
            blocks.append(Bullets(remarks))
        own = {step.id, *[h.id for h in graph.attached.get(step.id, [])]}
        taken = [ways.words(r) for r in self.reads.get(step.id, [])]
        given = [f"{self._name(r.reader)}: {r.where}" for r in self.uses.get(step.id, []) if r.reader not in own]
        for title, lines in (("Takes", taken), ("Is used by", given)):
            if lines:
                blocks += [Heading(3, title), Bullets(tuple(dict.fromkeys(lines)))]
        found = self.estimates.get(step.id)
        if found is not None:
            pairs = [
                ("Passes a run", number(found.passes)),
                ("Model calls a run", number(found.calls) if found.calls else ""),
            ]
            if found.calls:
                pairs += [
                    ("Tokens a run", f"{found.input_tokens:,.0f} in, {found.output_tokens:,.0f} out"),
                    ("Cost a run", money_words(found.cost, self.currency)),
                    ("Rests on", evidence_words(found.evidence)),
                ]
            blocks += [Heading(3, "Estimate"), Facts(tuple((k, v) for k, v in pairs if v))]
        if step.origin is not None:
            blocks.append(Paragraph(f"In the export: {step.origin}", quiet=True))
        return blocks


def write_html(drawing: MapDrawing, look: TextLook) -> str:
    """A page to search, fold and click."""
    return to_map_page(drawing.view.graph, drawing.scene(), drawing.showing, drawing.result)
