# Changes as one HTML file: a table of flows, then for each its changes by word, both versions in one map, and the two maps
# side by side. No script; names are escaped; marks are words and patterns before they are colours.
"""Changes as a page."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

from zeitbuch.core.diff.records import Change, EstateChanges, FlowChanges
from zeitbuch.core.diff.word_diff import Word
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.scene import scene
from zeitbuch.core.layout.views import View
from zeitbuch.core.report import document as d
from zeitbuch.core.report.change_maps import Maps
from zeitbuch.core.report.change_tables import (
    SIGN,
    STATUS,
    figures_words,
    line,
    match_words,
    places,
    share_words,
    summary,
    summary_sheet,
)
from zeitbuch.core.report.presentations import ChangesReport
from zeitbuch.writers.document.html import STYLE, block_html
from zeitbuch.writers.escape.text import inert
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure
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
    "A heavy second outline and the word NEW mark what came, a broken outline with a stroke through the card and the word GONE what "
    "went, a dotted outline and the word changed what is set otherwise. Links that came are heavy, links that went are dotted; "
    "both say so on their tabs."
)


def _t(text: str) -> str:
    return escape(inert(text, keep_lines=False))


def _words(words: tuple[Word, ...]) -> str:
    parts = []
    for word in words:
        text = escape(inert(word.text))
        tag = {"old": "del", "new": "ins"}.get(word.mark)
        parts.append(f"<{tag}>{text}</{tag}>" if tag and word.text.strip() else text)
    return f"<div class=words>{''.join(parts)}</div>"


def _change(change: Change, currency: str) -> str:
    parts = [f'<li class={change.weight} data-sign="{SIGN[change.weight]}">{_t(line(change))}']
    if change.words:
        parts.append(_words(change.words))
    if change.remarks:
        parts.append(f"<span class=share>{_t('; '.join(change.remarks))}</span>")
    share = share_words(change.share, currency)
    if share:
        parts.append(f"<span class=share>this change alone: {_t(share)}</span>")
    spot = places(change)
    if spot:
        sure = f"; the step was matched by content, {change.confidence:.2f} sure" if change.confidence < 0.995 else ""
        parts.append(f"<span class=spot>at {_t(spot)}{sure}</span>")
    return "".join([*parts, "</li>"])


def _map(drawn: tuple[View, Showing]) -> str:
    view, showing = drawn
    return f"<div class=map tabindex=0>{to_svg(scene(view.graph, measure, showing, view.facts), inline=True)}</div>"


def _flow(flow: FlowChanges, anchor: str, currency: str, maps: Maps | None) -> str:
    parts = [f"<section class=flow><h2 id={anchor}>{_t(flow.name)} ({_t(STATUS[flow.status])})</h2>"]
    matched = match_words(flow)
    if matched:
        parts.append(f"<p class=quiet>This flow {_t(matched)}.</p>")
    parts.append("<ul class=changes>" + "".join(_change(change, currency) for change in flow.changes) + "</ul>")
    together = share_words(flow.interaction, currency)
    if together:
        parts.append(f"<p class=quiet>The changes together, beyond the sum of each: {_t(together)}</p>")
    money = figures_words(flow, currency)
    if money:
        parts.append(f"<p>{_t(money)}</p>")
    if maps is not None:
        parts.append(f"<h3>Both versions in one map</h3>{_map(maps.both)}<p class=quiet>{LEGEND}</p>")
        parts.append(
            "<details open><summary>Side by side</summary><div class=pair>"
            f"<div><h4>before</h4>{_map(maps.before)}</div><div><h4>after</h4>{_map(maps.after)}</div></div></details>"
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
        f'<a href="#{first}">{_t(flow_changes.name)}</a>'
        for first, flow_changes in zip(anchors, found.flows, strict=True)
    )
    body = [f"<h1>Changes</h1><p>{_t(summary(found))}</p>", *[f"<p class=quiet>{_t(name)}</p>" for name in notes]]
    if found.flows:
        body.append(block_html(d.Table(summary_sheet(found, currency))))
    for flow, anchor in zip(found.flows, anchors, strict=True):
        body.append(_flow(flow, anchor, currency, maps(flow)))
    return (
        "<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n"
        "<meta name=viewport content='width=device-width, initial-scale=1'>\n"
        f"<title>Changes</title>\n<style>{STYLE}{OWN}</style>\n</head>\n<body>\n<main>\n"
        f"<nav aria-label='On this page'>{nav}</nav>\n" + "\n".join(body) + "\n</main>\n</body>\n</html>\n"
    )


def write_page(report: ChangesReport, look: TextLook) -> str:
    """Changes as a page."""
    return to_changes_page(report.changes, report.body.currency, report.maps)
