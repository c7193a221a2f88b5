"""Say in plain words what a flow does, or what one of its steps does."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, chosen_format, pick

FORMATS = ("text", "markdown", "json")
EXAMPLE = """\
examples:
  zeitbuch explain "Berth delay notices"
  zeitbuch explain "Berth delay notices" "By severity"
  zeitbuch explain SH-1052 2 --source exports/      a step by its number"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("flow", metavar="FLOW", help="id or name of the flow")
    parser.add_argument(
        "step", metavar="STEP", nargs="?", help="id, name or number of a step; without it the whole flow"
    )
    parser.add_argument(
        "--source",
        metavar="SOURCE",
        action="append",
        default=[],
        help="file, folder or -; default: the workspace's sources",
    )
    add_output(parser, FORMATS, "text")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core import explain
    from zeitbuch.core.topology import Graph
    from zeitbuch.writers.markdown import to_markdown_page
    from zeitbuch.writers.tables import to_json
    from zeitbuch.writers.text import to_text

    from . import stream

    form = chosen_format(args, FORMATS, "text")
    session = Session(args)
    flow = pick(session.estate(args.source), args.flow)
    graph = Graph(flow)
    page = explain.page(graph, explain.pick_step(graph, args.step) if args.step else None)
    if form == "json":
        out = to_json("explain", page)
    elif form == "markdown":
        out = to_markdown_page(page)
    else:
        out = to_text(page, stream.width(), stream.colour_wanted())
    stream.write(out, args.output)
    return session.finish()
