"""List what there is of one sort over all flows: where it is used, and what is odd about it."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch list connections exports/
  zeitbuch list models --where "cap=*not stated*"
  zeitbuch list tools --where "effect!=read and marks"
  zeitbuch list hosts --text http:                        addresses without encryption
  zeitbuch list schedules                                 a day's plan
  zeitbuch list people -o people.xlsx
  zeitbuch list plugins                                   what other packages add; exit status 2 when one cannot be used

--where compares columns, as JSON names them: = != < <= > >= and ~ (holds), joined by and, or, not."""

# Words only: the catalogues themselves are not loaded to show the help.
WHAT = (
    "connections",
    "prompts",
    "models",
    "tools",
    "variables",
    "stores",
    "hosts",
    "people",
    "schedules",
    "operations",
    "plugins",
)


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("what", metavar="WHAT", choices=WHAT, help=", ".join(WHAT))
    add_sources(parser)
    group = parser.add_argument_group("which rows (all conditions must hold)")
    group.add_argument("--text", metavar="TEXT", default="", help="only rows that hold TEXT")
    group.add_argument("--where", metavar="CONDITION", default="", help="only rows for which it holds")
    group.add_argument("--top", metavar="N", type=number_for("--top"), help="show the first N rows (JSON holds all)")
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)
