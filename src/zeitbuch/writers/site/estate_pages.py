# The map of the estate as pages: folded by owner, folder and connection, each card a link to the page on which its group stands open, each flow there a
# link to its sheet. A search over all flows says where each is drawn.
"""Maps of the estate for a site, as HTML."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape

from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.site.estate_maps import FoldedMap, folded_map, group_file, homes_of, opened_map
from zeitbuch.core.report.site.pages import GROUPINGS, Grouping, groups_of
from zeitbuch.core.report.site.rows import Site
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.theme.fonts import measure_text

from .scripted import inert_text, scripted_page

FOLDER = "estate"  # of the pages of opened groups
_DRAWN = tuple(grouping for grouping in GROUPINGS if grouping.file != "models")


def estate_pages(site: Site) -> Iterator[tuple[str, str]]:
    """The pages, by their file names: the folded maps, and one for each group."""
    yield "estate.html", _folded_page(site)
    for grouping in _DRAWN:
        homes = set(homes_of(site, grouping).values())
        for key, rows in groups_of(site, grouping).items():
            if key in homes:
                yield f"{FOLDER}/{group_file(grouping, key)}.html", _opened_page(site, grouping, key, len(rows))


def _picture(found: FoldedMap, here: str) -> str:
    """The drawing, its links as they are from ``here`` (a page of the site, or of the folder of opened groups)."""
    if found.view is None:
        return "<p class=quiet>Nothing here calls anything else, so there is no map.</p>"
    scene = draw_scene(found.view.graph, measure_text, found.showing, found.view.facts)
    inner = frozenset(card for card in found.links if not card.startswith("flow "))
    links = {
        card: (f"{file}.html" if here else f"{FOLDER}/{file}.html") if card in inner else f"../{file}.html"
        for card, file in found.links.items()
    }
    return f"<div class=map tabindex=0>{to_svg(scene, inline=True, links=links)}</div>"


def _folded_page(site: Site) -> str:
    parts = ["<nav aria-label='Other pages'><a href=index.html>All flows</a></nav>", "<h1>Map of the estate</h1>"]
    parts.append(
        "<p>Each card is a group of flows; it leads to the page on which the group stands open. An arrow says how many links there are from flows of "
        "one group to flows of the other: calls, tools, web requests, failures handed over.</p>"
    )
    parts.append(_search(site))
    for grouping in _DRAWN:
        found = folded_map(site, grouping)
        parts += [f"<h2 id={grouping.file}>{grouping.title}</h2>", _picture(found, "")]
        if found.left_out:
            items = "".join(
                f'<li><a href="{FOLDER}/{group_file(grouping, key)}.html">{inert_text(key)}</a></li>'
                for key in found.left_out
            )
            parts.append(f"<details><summary>{len(found.left_out):,} more, which are not drawn</summary><ul>{items}</ul></details>")  # fmt: skip
    return scripted_page("Map of the estate", "\n".join(parts), "estate.js")


def _search(site: Site) -> str:
    homes = {grouping: homes_of(site, grouping) for grouping in _DRAWN[:1]}
    items = []
    for row in site.rows:
        if row.gone:
            continue
        where = "".join(
            f', on the map of <a href="{FOLDER}/{group_file(grouping, found[row.file])}.html">{inert_text(found[row.file])}</a>'
            for grouping, found in homes.items()
        )
        items.append(f'<li><a href="{escape(row.file)}.html">{inert_text(row.name)}</a> ({inert_text(row.id)}){where}</li>')  # fmt: skip
    bar = "<div class=bar role=search><label for=q>find a flow<input id=q type=search autocomplete=off></label><output id=count aria-live=polite></output></div>"
    return f"{bar}<ul id=all>{''.join(items)}</ul>"


def _opened_page(site: Site, grouping: Grouping, key: str, flows: int) -> str:
    found = opened_map(site, grouping, key)
    homes = homes_of(site, grouping)
    rows = [row for row in site.rows if not row.gone and homes[row.file] == key]
    listed = "".join(f'<li><a href="../{escape(row.file)}.html">{inert_text(row.name)}</a></li>' for row in rows)
    elsewhere = flows - len(rows)
    remark = f"<p class=quiet>{count_words(elsewhere, 'flow')} more that stand here, too, are drawn where they stand first.</p>" if elsewhere > 0 else ""  # fmt: skip
    parts = [
        f"<nav aria-label='Other pages'><a href=../index.html>All flows</a><a href=../estate.html#{grouping.file}>Map of the estate</a></nav>",
        f"<h1>{inert_text(key)}</h1>",
        _picture(found, FOLDER),
        f"<h2 id=flows>{count_words(len(rows), 'flow')}</h2>",
        f"<ul>{listed}</ul>",
        remark,
    ]
    return scripted_page(key, "\n".join(parts))
