"""Write the very bytes of a recorded export back: of one version of a flow, or all files of a snapshot."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_reading

EXAMPLE = """\
examples:
  zeitbuch restore "Customer letters@2" -o letters.json     the export as it was in version 2 of the flow
  zeitbuch restore SH-1040@2026-10-31 > before.json         as it was on that day
  zeitbuch restore @3 -o october/                           every file of snapshot 3
  zeitbuch restore "Customer letters@prod:2" -o letters.json           of another line of the book
  zeitbuch restore "Crew swaps@1" --into november/harbour.zip -o harbour.zip   one member, all else as it is

A file that holds several flows, or a package, is written whole, and that is said."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        metavar="FLOW@N",
        help="a flow and its version (number, latest, date; LINE:N of another line), or @N for a snapshot",
    )
    parser.add_argument(
        "-o", "--output", metavar="FILE", help="where to write; default: standard output (a folder for @N)"
    )
    parser.add_argument(
        "--overwrite", action="store_true", help="write over files that stand there already and are others"
    )
    parser.add_argument(
        "--into",
        metavar="PACKAGE",
        help="put the one member of a package back into it, as it is now; see -o and --overwrite",
    )
    add_reading(parser)
