"""Draw the step graph of flows: from top to bottom, scopes as frames, error routes dashed, in the order of execution."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, add_sources, chosen_format, pick

FORMATS = ("svg", "png")
EXAMPLE = """\
examples:
  zeitbuch map exports/ --flow "Lost property matching" -o lost-property.svg
  zeitbuch map exports/ -o maps/              one file a flow, in a folder
  zeitbuch map --flow SH-1040 --format png -o lost-property.png"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to draw")
    group.add_argument(
        "--flow", metavar="NAME", help="this flow (id or name); without it all flows, into the folder of -o"
    )
    group.add_argument("--scale", type=float, default=2.0, metavar="N", help="pixels a point in PNG (default: 2)")
    add_output(parser, FORMATS, "svg")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from pathlib import Path

    from zeitbuch.core.problems import fail
    from zeitbuch.core.scene import scene
    from zeitbuch.core.topology import Graph
    from zeitbuch.writers.fonts import measure
    from zeitbuch.writers.names import file_names

    from . import stream

    if not 0.2 <= args.scale <= 8:
        raise fail("option", f"expected --scale from 0.2 to 8, found {args.scale:g}")
    folder = args.output is not None and not args.flow and args.output != "-" and not Path(args.output).suffix
    form = (args.format or "svg") if folder else chosen_format(args, FORMATS, "svg")
    session = Session(args)
    estate = session.estate(args.source)
    flows = [pick(estate, args.flow)] if args.flow else list(estate.flows)
    if len(flows) != 1 and not folder:
        raise fail(
            "map-many",
            f"expected one flow to draw, found {len(flows)}",
            "name one with --flow, or a folder for all of them with -o FOLDER",
        )

    def draw(flow: object) -> str | bytes:
        drawn = scene(Graph(flow), measure)  # type: ignore[arg-type]
        if form == "png":
            from zeitbuch.writers.png import to_png

            return to_png(drawn, args.scale)
        from zeitbuch.writers.svg import to_svg

        return to_svg(drawn)

    if folder:
        names = file_names([f.title for f in flows])
        for flow, name in zip(flows, names, strict=True):
            stream.write(draw(flow), str(Path(args.output) / f"{name}.{form}"))
    else:
        stream.write(draw(flows[0]), args.output)
    return session.finish()
