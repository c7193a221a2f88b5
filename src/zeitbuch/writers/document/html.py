# Pages as HTML: each a self-contained file without scripts (the map to click, which has one, stands beside it). Everything from an export is escaped; the only markup is ours.
"""Documents as HTML."""

from __future__ import annotations

from html import escape

from zeitbuch.core.model.sheet import Sheet, cell_text
from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

STYLE = """
:root { --paper: #faf6ec; --card: #fffdf7; --ink: #1f2d3d; --quiet: #5d6470; --rule: #cfc6b0; --frame: #a79f8b; --error: #8c2f1b;
  --link: #23506a; color-scheme: light; }
@media screen and (prefers-color-scheme: dark) { :root { --paper: #151b22; --card: #1f2832; --ink: #ece6d6; --quiet: #b3b0a2; --rule: #46505a; --frame: #7d817a; --error: #f2a48f;
  --link: #9cc7dc; color-scheme: dark; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 16px/1.55 "DejaVu Sans", Verdana, sans-serif; }
main { max-width: 62rem; margin: 0 auto; padding: 2.5rem 2rem 4rem 4.5rem; border-left: 1px solid var(--rule); }
nav { font-size: .85rem; margin-bottom: 1.5rem; display: flex; flex-wrap: wrap; gap: .1rem 1.1rem; }
a { color: var(--link); text-underline-offset: .15em; } a:focus-visible { outline: 2px solid var(--ink); outline-offset: 2px; }
h1 { font-size: 1.9rem; line-height: 1.2; margin: 0 0 1rem; }
h2 { font-size: 1.25rem; margin: 2.6rem 0 .8rem; padding-bottom: .25rem; border-bottom: 1px solid var(--rule); }
h3 { font-size: 1.02rem; margin: 1.8rem 0 .3rem; } h4, h5, h6 { font-size: .95rem; margin: 1.4rem 0 .3rem; }
p { margin: .4rem 0 .8rem; overflow-wrap: anywhere; } .quiet { color: var(--quiet); font-size: .88rem; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .2rem 1.4rem; margin: .6rem 0 1rem; font-size: .93rem; }
dt { color: var(--quiet); } dd { margin: 0; overflow-wrap: anywhere; }
.wide { overflow-x: auto; margin: .6rem 0 1.1rem; }
table { border-collapse: collapse; font-size: .87rem; width: 100%; background: var(--card); }
th, td { text-align: left; vertical-align: top; padding: .35rem .7rem; border-bottom: 1px solid var(--rule); overflow-wrap: break-word; }
th { color: var(--quiet); font-weight: normal; } .num { text-align: right; white-space: nowrap; } tfoot td { font-weight: bold; border-bottom: 0; }
figure { margin: .6rem 0 1.2rem; } figcaption { color: var(--quiet); font-size: .85rem; }
pre { margin: .2rem 0 0; padding: .7rem .9rem; background: var(--card); border: 1px solid var(--rule); border-left: 4px double var(--ink);
  white-space: pre-wrap; overflow-wrap: anywhere; font: .86rem/1.5 "DejaVu Sans Mono", Menlo, Consolas, monospace; }
aside { margin: .9rem 0 1.1rem; padding: .5rem 1rem .3rem; background: var(--card); border: 1px dashed var(--quiet); } aside p:first-child { margin: 0; }
.map { overflow-x: auto; border: 1px solid var(--rule); } .map svg { display: block; margin: 0 auto; max-width: 100%; height: auto; }
.gone { border: 2px solid var(--ink); padding: .4rem .8rem; font-weight: bold; }
.sign td { height: 2.6rem; }
.sign th:nth-child(3), .sign th:last-child { min-width: 8.5rem; }
@page { size: A4; margin: 11mm 15mm; }
@media print { html { font-size: 9.5pt; } body { background: #fff; font: 8.6pt/1.34 "DejaVu Sans", Verdana, sans-serif; }
  main { border: 0; padding: 0; max-width: none; } nav { display: none; } p { margin: .2rem 0 .4rem; }
  h1 { font-size: 15pt; margin: 0 0 .3rem; } h2 { font-size: 10.5pt; margin: .6rem 0 .2rem; padding-bottom: .1rem; } h3 { margin: .9rem 0 .2rem; }
  ul { margin: .15rem 0 .3rem; padding-left: 1.3rem; } ul ul { margin: 0; } .wide { margin: .25rem 0 .4rem; } table { font-size: 8pt; }
  th, td { padding: .15rem .4rem; } .sign td { height: 1.7rem; } h2, h3, h4, h5, h6 { break-after: avoid; } tr, figure, pre { break-inside: avoid; }
  #map { break-before: page; } .map svg { max-height: 22cm; } }
@media (max-width: 40rem) { main { padding: 1.2rem; border: 0; } dl { grid-template-columns: 1fr; gap: 0; } dd { margin-bottom: .4rem; } }
"""


def _escape_text(text: str) -> str:
    return escape(make_inert(text, keep_lines=False))


def _outline_html(lines: tuple[tuple[int, str], ...]) -> str:
    """Lists within lists; a line that is deeper than the one before by more than one step hangs one step below it."""
    parts: list[str] = []
    open_lists = 0
    for depth, text in lines:
        wanted = min(depth, open_lists) + 1
        if wanted > open_lists:
            parts.append("<ul class=course>")
        else:
            parts.append("</li>" + "</ul></li>" * (open_lists - wanted))
        open_lists = wanted
        parts.append(f"<li>{_escape_text(text)}")
    return "".join(parts) + "</li></ul>" * open_lists


def _table_html(sheet: Sheet) -> str:
    right = [column.kind in ("count", "number", "money", "percent") for column in sheet.columns]

    def cells(values: list[str], tag: str) -> str:
        return "".join(
            f"<{tag}{' class=num' if flag else ''}>{value}</{tag}>" for value, flag in zip(values, right, strict=True)
        )

    def shown_row(row: tuple[object, ...]) -> list[str]:
        return [
            _escape_text(cell_text(value, "text" if isinstance(value, str) else column.kind))
            for value, column in zip(row, sheet.columns, strict=True)
        ]

    heads = "".join(
        f"<th scope=col{' class=num' if flag else ''}>{_escape_text(column.title)}</th>"
        for column, flag in zip(sheet.columns, right, strict=True)
    )
    body = "\n".join(f"<tr>{cells(shown_row(row), 'td')}</tr>" for row in sheet.rows)
    foot = f"<tfoot><tr>{cells(shown_row(sheet.total), 'td')}</tr></tfoot>" if sheet.total is not None else ""
    return f"<div class=wide tabindex=0><table><thead><tr>{heads}</tr></thead><tbody>\n{body}\n</tbody>{foot}</table></div>"


def block_html(block: d.Block, picture: str = "") -> str:
    """One block as HTML; ``picture`` is the map as inline SVG."""
    match block:
        case d.Heading(level=level, text=text, anchor=anchor):
            mark = f' id="{escape(anchor)}"' if anchor else ""
            return f"<h{level}{mark}>{_escape_text(text)}</h{level}>"
        case d.Paragraph(text=text, quiet=quiet):
            return f"<p{' class=quiet' if quiet else ''}>{_escape_text(text)}</p>"
        case d.Facts(pairs=pairs):
            return (
                "<dl>"
                + "".join(f"<dt>{_escape_text(key)}</dt><dd>{_escape_text(value)}</dd>" for key, value in pairs)
                + "</dl>"
            )
        case d.Bullets(items=items):
            return "<ul>" + "".join(f"<li>{_escape_text(key)}</li>" for key in items) + "</ul>"
        case d.Outline(lines=lines):
            return _outline_html(lines)
        case d.Table(sheet=sheet):
            return _table_html(sheet)
        case d.Quote(label=label, text=text):
            caption = f"<figcaption>{_escape_text(label)}</figcaption>" if label else ""
            return f"<figure>{caption}<pre>{escape(make_inert(text))}</pre></figure>"
        case d.Aside(label=label, blocks=blocks):
            inner = "".join(block_html(one) for one in blocks)
            return f"<aside><p class=quiet>{_escape_text(label)}</p>{inner}</aside>"
        case d.Picture():
            return f"<div class=map tabindex=0>{picture}</div>"
        case d.Links(items=items):
            return _links_html(items)
        case d.Signatures():
            return _signatures_html(block)


def _signatures_html(block: d.Signatures) -> str:
    head, *lines = block.rows()
    heads = "".join(f"<th scope=col>{escape(name)}</th>" for name in head)
    rows = "".join("<tr>" + "".join(f"<td>{_escape_text(cell)}</td>" for cell in line) + "</tr>" for line in lines)
    table = f"<div class=wide tabindex=0><table class=sign><thead><tr>{heads}</tr></thead><tbody>{rows}</tbody></table></div>"
    return f"{table}<p class=quiet>{_escape_text(block.remark())}</p>"


def _links_html(items: tuple[tuple[str, str, str], ...]) -> str:
    rows = "".join(
        f'<li><a href="{escape(name)}.html">{_escape_text(text)}</a><br><span class=quiet>{_escape_text(r)}</span></li>'
        for text, name, r in items
    )
    return f"<ul>{rows}</ul>"


def to_html_page(page: d.Page, picture: str = "", below: str = "") -> str:
    """A page as one HTML file; ``picture`` is the map as inline SVG, ``below`` is markup of ours that follows it."""
    links = [
        (second.text, second.anchor) for second in page.blocks if isinstance(second, d.Heading) and second.level == 2
    ]
    nav = "".join(f'<a href="#{escape(first)}">{_escape_text(text)}</a>' for text, first in links)
    home = "" if page.kind == "index" else '<a href="index.html">All flows</a>'
    body = "\n".join(
        block_html(second, picture) + (below if isinstance(second, d.Picture) else "") for second in page.blocks
    )
    return (
        f"<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n<meta name=viewport content='width=device-width, initial-scale=1'>\n"
        f"<title>{_escape_text(page.title)}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<main>\n"
        + (f"<nav aria-label='On this page'>{home}{nav}</nav>\n" if nav or home else "")
        + f"{body}\n</main>\n</body>\n</html>\n"
    )


def write_document_html(document: FlowDocument, look: TextLook) -> dict[str, str]:
    """The files of a document by their paths: the page with its map within, and the map as a page of its own."""
    page = document.page
    if document.map is None:
        return {f"{page.name}.html": to_html_page(page)}
    if document.map_page is None:
        return {f"{page.name}.html": to_html_page(page, document.map(True))}
    place = f"maps/{page.name}.html"
    link = f'<p class=quiet><a href="{escape(place)}">The map to search, fold and click</a></p>'
    return {f"{page.name}.html": to_html_page(page, document.map(True), link), place: document.map_page()}
