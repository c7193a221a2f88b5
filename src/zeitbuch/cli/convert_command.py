"""Write any readable source in the native form (YAML, JSON) or as BPMN 2.0. Reading it back gives the same model."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, add_sources, chosen_format, pick

FORMATS = ("yaml", "json", "bpmn")
EXAMPLE = """\
examples:
  zeitbuch convert exports/ -o estate.yaml
  zeitbuch convert letters.json --format json
  zeitbuch convert exports/ --flow "Crew swap approvals" -o crew-swap.bpmn
  zeitbuch convert exports/ --flow "Customer letters" -o letters.yaml"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    parser.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    add_output(parser, FORMATS, "yaml")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.model.records import Estate
    from zeitbuch.writers.exchange import native

    from . import stream

    form = chosen_format(args, FORMATS, "yaml")
    session = Session(args)
    estate = session.estate(args.source)
    if args.flow:
        estate = Estate(flows=tuple(pick(estate, name) for name in args.flow))
    if form == "bpmn":
        from zeitbuch.writers.exchange.bpmn import to_bpmn

        stream.write(to_bpmn(estate), args.output)
    else:
        stream.write(native.to_json(estate) if form == "json" else native.to_yaml(estate), args.output)
    return session.finish()
