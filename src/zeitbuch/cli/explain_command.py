"""Say in plain words what a flow does, or what one of its steps does."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, chosen_format, pick

FORMATS = ("text", "markdown", "json")
EXAMPLE = """\
examples:
  zeitbuch explain "Berth delay notices"
  zeitbuch explain "Berth delay notices" "By severity"
  zeitbuch explain SH-1052 2 --source exports/      a step by its number
  zeitbuch explain "Lost property matching" --empty "Look up handed-in items"
  zeitbuch explain "Crew swap approvals" --case allowed --fails "Change the rota"
  zeitbuch explain "Berth delay notices" --case minor"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("flow", metavar="FLOW", help="id or name of the flow")
    parser.add_argument(
        "step", metavar="STEP", nargs="?", help="id, name or number of a step; without it the whole flow"
    )
    group = parser.add_argument_group("what happens when")
    group.add_argument(
        "--case", metavar="[STEP=]CASE", action="append", default=[], help="a decision takes this case; may be repeated"
    )
    group.add_argument(
        "--fails", metavar="STEP", action="append", default=[], help="this step fails, every time it is tried"
    )
    group.add_argument("--empty", metavar="STEP", action="append", default=[], help="this step gives nothing")
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
    from zeitbuch.core.graph.topology import Graph, pick_step
    from zeitbuch.core.report import explanation
    from zeitbuch.writers.document.markdown import to_markdown_page
    from zeitbuch.writers.document.text import to_text
    from zeitbuch.writers.table.tables import to_json

    from . import stream

    form = chosen_format(args, FORMATS, "text")
    session = Session(args)
    flow = pick(session.estate(args.source), args.flow)
    graph = Graph(flow)
    if args.case or args.fails or args.empty:
        from zeitbuch.core.report.what_if import Teller, given_of

        story = Teller(graph, given_of(graph, args.case, args.fails, args.empty)).story()
        if form == "json":
            stream.write(to_json("story", story), args.output)
            return session.finish()
        page = explanation.story_page(graph, story)
    else:
        page = explanation.page(graph, pick_step(graph, args.step) if args.step else None)
    if form == "json":
        out = to_json("explain", page)
    elif form == "markdown":
        out = to_markdown_page(page)
    else:
        out = to_text(page, stream.width(), stream.colour_wanted())
    stream.write(out, args.output)
    return session.finish()
