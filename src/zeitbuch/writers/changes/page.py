# Changes as one HTML file: a table of flows, then for each its changes by word, both versions in one map, and the two maps
# side by side. No script; names are escaped; marks are words and patterns before they are colours.
"""Changes as a page."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

from zeitbuch.core.diff.records import Change, EstateChanges, FlowChanges
from zeitbuch.core.diff.word_diff import Word
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.layout.views import View
from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.change_head import first_lines, head_sentences
from zeitbuch.core.report.change_maps import Maps
from zeitbuch.core.report.change_tables import (
    SIGN,
    STATUS,
    change_line,
    change_places,
    figures_words,
    match_words,
    share_words,
    summary_sheet,
)
from zeitbuch.core.report.finding_changes import finding_notes
from zeitbuch.core.report.presentations import ChangesReport
from zeitbuch.writers.document.html import STYLE, block_html
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text
from zeitbuch.writers.theme.terminal import TextLook

OWN = """
main { max-width: 84rem; }
ul.changes { list-style: none; padding: 0; } ul.changes > li { padding: .5rem 0 .5rem 2.2rem; border-top: 1px solid var(--rule); position: relative; }
ul.changes > li::before { content: attr(data-sign); position: absolute; left: .6rem; font-weight: bold; font-size: 1.1rem; }
li.risk { border-left: 4px solid var(--ink); } li.meaning { border-left: 4px double var(--rule); } li.note { border-left: 4px dotted var(--rule); }
.share, .spot { display: block; font-size: .85rem; color: var(--quiet); overflow-wrap: anywhere; }
.words { margin: .4rem 0; padding: .6rem .9rem; background: var(--card); border: 1px solid var(--rule); white-space: pre-wrap; overflow-wrap: anywhere; }
del { text-decoration: line-through; background: #f1ddd2; } ins { text-decoration: underline; text-decoration-thickness: 2px; font-weight: bold; background: #dfe9e2; }
.pair { display: grid; grid-template-columns: 1fr 1fr; gap: 1rem; } .pair h4 { margin: .2rem 0; font-size: .95rem; }
summary { cursor: pointer; margin: .6rem 0; } .flow { margin-top: 2.5rem; }
@media (max-width: 60rem) { .pair { grid-template-columns: 1fr; } }
@media print { del, ins { background: none; } details { display: block; } }
"""
LEGEND = (
    "A heavy second outline and the word ADDED mark what was added, a broken outline with a stroke through the card and the word REMOVED what "
    "was removed, a dotted outline and the word changed what is set otherwise. Links that were added are heavy, links that were removed are dotted; "
    "both say so on their tabs."
)


def _escape_text(text: str) -> str:
    return escape(make_inert(text, keep_lines=False))


def _words_html(words: tuple[Word, ...]) -> str:
    parts = []
    for word in words:
        text = escape(make_inert(word.text))
        tag = {"old": "del", "new": "ins"}.get(word.mark)
        parts.append(f"<{tag}>{text}</{tag}>" if tag and word.text.strip() else text)
    return f"<div class=words>{''.join(parts)}</div>"


def _change_html(change: Change, currency: str) -> str:
    parts = [f'<li class={change.weight} data-sign="{SIGN[change.weight]}">{_escape_text(change_line(change))}']
    if change.words:
        parts.append(_words_html(change.words))
    if change.remarks:
        parts.append(f"<span class=share>{_escape_text('; '.join(change.remarks))}</span>")
    share = share_words(change.share, currency)
    if share:
        parts.append(f"<span class=share>this change alone: {_escape_text(share)}</span>")
    spot = change_places(change)
    if spot:
        sure = f"; the step was matched by content, {change.confidence:.2f} sure" if change.confidence < 0.995 else ""
        parts.append(f"<span class=spot>at {_escape_text(spot)}{sure}</span>")
    return "".join([*parts, "</li>"])


def _map_html(drawn: tuple[View, Showing]) -> str:
    view, showing = drawn
    return f"<div class=map tabindex=0>{to_svg(draw_scene(view.graph, measure_text, showing, view.facts), inline=True)}</div>"


def _flow_html(flow: FlowChanges, anchor: str, currency: str, maps: Maps | None) -> str:
    parts = [
        f"<section class=flow><h2 id={anchor}>{_escape_text(flow.name)} ({_escape_text(STATUS[flow.status])})</h2>"
    ]
    matched = match_words(flow)
    if matched:
        parts.append(f"<p class=quiet>This flow {_escape_text(matched)}.</p>")
    parts.append("<ul class=changes>" + "".join(_change_html(change, currency) for change in flow.changes) + "</ul>")
    together = share_words(flow.interaction, currency)
    if together:
        parts.append(f"<p class=quiet>The changes together, beyond the sum of each: {_escape_text(together)}</p>")
    money = figures_words(flow, currency)
    if money:
        parts.append(f"<p>{_escape_text(money)}</p>")
    if maps is not None:
        parts.append(f"<h3>Both versions in one map</h3>{_map_html(maps.both)}<p class=quiet>{LEGEND}</p>")
        parts.append(
            "<details open><summary>Side by side</summary><div class=pair>"
            f"<div><h4>before</h4>{_map_html(maps.before)}</div><div><h4>after</h4>{_map_html(maps.after)}</div></div></details>"
        )
    return "\n".join([*parts, "</section>"])


def to_changes_page(
    found: EstateChanges,
    currency: str,
    maps: Callable[[FlowChanges], Maps | None],
    notes: tuple[str, ...] = (),
) -> str:
    """Changes as HTML; ``maps`` draws those of a flow, or gives None."""
    anchors = [f"f{index}" for index, _ in enumerate(found.flows, 1)]
    nav = "".join(
        f'<a href="#{first}">{_escape_text(flow_changes.name)}</a>'
        for first, flow_changes in zip(anchors, found.flows, strict=True)
    )
    body = [
        "<h1>Changes</h1>",
        *[f"<p>{_escape_text(said)}</p>" for said in head_sentences(found, currency)],
        *[f"<p class=quiet>{_escape_text(name)}</p>" for name in notes],
    ]
    if lines := first_lines(found):
        places = {(flow.id, flow.name): anchor for flow, anchor in zip(found.flows, anchors, strict=True)}
        items = "".join(
            f'<li><a href="#{places[one.id, one.flow]}">{_escape_text(words)}</a></li>'
            for words, one in zip(lines, found.first, strict=True)
        )
        body.append(f"<h2>Look at these first</h2><ol>{items}</ol>")
    if found.flows:
        body.append(block_html(d.Table(summary_sheet(found, currency))))
    for flow, anchor in zip(found.flows, anchors, strict=True):
        body.append(_flow_html(flow, anchor, currency, maps(flow)))
    return (
        "<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n"
        "<meta name=viewport content='width=device-width, initial-scale=1'>\n"
        f"<title>Changes</title>\n<style>{STYLE}{OWN}</style>\n</head>\n<body>\n<main>\n"
        f"<nav aria-label='On this page'>{nav}</nav>\n" + "\n".join(body) + "\n</main>\n</body>\n</html>\n"
    )


def write_page(report: ChangesReport, look: TextLook) -> str:
    """Changes as a page."""
    return to_changes_page(report.changes, report.body.currency, report.maps, finding_notes(report.body.findings))
