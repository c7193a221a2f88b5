"""Write a document for each flow and an index: what it does, its steps in plain words, prompts, cost, map, review block."""

from __future__ import annotations

import argparse

from .common import Session, add_reading, add_sources, pick
from .estimate_command import add_figures, estimated

FORMATS = ("html", "markdown")
EXAMPLE = """\
examples:
  zeitbuch document exports/ -o docs/
  zeitbuch document exports/ --format markdown -o docs/
  zeitbuch document --flow "Cargo papers screening" -o docs/

HTML pages are single files without scripts. The same input gives the same bytes."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to write")
    group.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    group.add_argument(
        "--month", metavar="YYYY-MM", default="", help="month of the cost table; default as in `estimate`"
    )
    add_figures(parser)
    group = parser.add_argument_group("output")
    group.add_argument("-f", "--format", choices=FORMATS, default="html", help="default: html")
    group.add_argument("-o", "--output", metavar="FOLDER", required=True, help="folder for the documents and maps")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from pathlib import Path

    from zeitbuch.core.graph.topology import Graph
    from zeitbuch.core.layout.scene import scene
    from zeitbuch.core.report.document import flow_page, index_page
    from zeitbuch.writers.document.html import to_html_page
    from zeitbuch.writers.document.markdown import to_markdown_page
    from zeitbuch.writers.escape.file_names import file_names
    from zeitbuch.writers.map.svg import to_svg
    from zeitbuch.writers.theme.fonts import measure

    from . import stream

    session = Session(args)
    estate, result = estimated(args, session)
    flows = [pick(estate, name) for name in args.flow] or list(estate.flows)
    names = file_names([f.title for f in flows])
    folder = Path(args.output)
    with session.progress(len(flows), "writing") as progress:
        for at, (flow, name) in enumerate(zip(flows, names, strict=True)):
            page = flow_page(flow, name, result)
            drawn = scene(Graph(flow), measure)
            if args.format == "html":
                stream.write(to_html_page(page, to_svg(drawn, inline=True)), str(folder / f"{name}.html"))
            else:
                stream.write(to_svg(drawn), str(folder / "maps" / f"{name}.svg"))
                stream.write(to_markdown_page(page, f"maps/{name}.svg"), str(folder / f"{name}.md"))
            progress.at(at)
    index = index_page(flows, names, result)
    if args.format == "html":
        stream.write(to_html_page(index), str(folder / "index.html"))
    else:
        stream.write(to_markdown_page(index), str(folder / "index.md"))
    return session.finish()
