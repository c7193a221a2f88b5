"""Say what hangs on a thing: which flows stop, go on or do less when it is gone, slower or dearer, through calls, stores and handlers; what
that touches in a month, and whom to tell."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch impact model:fulmar-large-2
  zeitbuch impact "connection:Office mail" exports/ -o impact.xlsx
  zeitbuch impact person:"Maren Dahl"
  zeitbuch impact step:letters/refunds
  zeitbuch impact host:fares.halvorsund.example --slower 5
  zeitbuch impact model:fulmar-large-2 --dearer 20
  zeitbuch impact flow:booking-check --map impact.svg

THING is connection:, model:, flow:, store:, variable:, person:, host: (names, ids, with *) or step:FLOW/STEP.
'perhaps' is what a run decides: an address or model that is no fixed value, a step on one way of a decision."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("thing", metavar="THING", help="what is gone, such as model:NAME or connection:NAME")
    add_sources(parser)
    group = parser.add_argument_group("what happens to it (without: it is gone)")
    either = group.add_mutually_exclusive_group()
    either.add_argument(
        "--slower", metavar="TIMES", type=number_for("--slower"), help="it answers so many times slower"
    )
    either.add_argument(
        "--dearer", metavar="PERCENT", type=number_for("--dearer"), help="it costs so many percent more"
    )
    group = parser.add_argument_group("the map")
    group.add_argument(
        "--map",
        metavar="FILE",
        default="",
        help="also draw the estate with what follows on its cards (.svg, .png, .html, .pdf)",
    )
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)
