"""Write a document for each flow and an index: what it does, its steps in plain words, prompts, cost, map, review block."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_reading, add_sources, add_steps_of_logs
from zeitbuch.writers.outputs.rows import formats_of

EXAMPLE = """\
examples:
  zeitbuch document exports/ -o docs/
  zeitbuch document exports/ --format markdown -o docs/
  zeitbuch document exports/ -o flows.docx                          all flows in one Word file
  zeitbuch document exports/ --format word --template house.docx -o docs/
  zeitbuch document exports/ --notes notes/ -o docs/
  zeitbuch document -o docs/ --verify                               a gate: do the pages still describe the flows?
  zeitbuch document --usage -o docs/                                also what the usage logs say of each flow
  zeitbuch document --flow "Cargo papers screening" -o docs/

Pages of flows are single HTML files without scripts; the start page, the maps to click and the map of the estate have one of their own, and
the start page and the map of the estate are readable without it. The same input gives the same bytes. A page that somebody filled in or edited is left as it is."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to write")
    group.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    group.add_argument(
        "--month", metavar="YYYY-MM", default="", help="month of the cost table; default as in `estimate`"
    )
    add_steps_of_logs(parser, "also what logs have of each step: how often, how long, how it ended, what it cost")
    add_figures(parser)
    group = parser.add_argument_group("output")
    group.add_argument(
        "-f",
        "--format",
        metavar="FORMAT",
        default=None,
        help=f"one of {', '.join(formats_of('document'))}; default: html",
    )
    group.add_argument(
        "-o",
        "--output",
        metavar="PLACE",
        required=True,
        help="folder for the documents and maps, or a file .docx for all flows in one",
    )
    group.add_argument(
        "--template", metavar="FILE", default="", help="a Word file whose styles, header and footer are taken"
    )
    group.add_argument(
        "--notes",
        metavar="FOLDER",
        default="",
        help="notes of the house to print at their places; default: `notes` of the workspace",
    )
    group.add_argument("--force", action="store_true", help="also write over pages that somebody filled in or edited")
    group.add_argument(
        "--verify",
        action="store_true",
        help="write nothing; exit status 1 when a page of the folder describes another state than the flows have, or a signature no more holds",
    )
    add_reading(parser)
