"""Print the JSON Schema (2020-12) of a file that Zeitbuch reads, or of the JSON output of a command."""

from __future__ import annotations

import argparse

from zeitbuch.app.schemas import SCHEMAS

EXAMPLE = (
    "names:\n"
    + "\n".join(f"  {row.name:<12} {row.words}" for row in SCHEMAS)
    + "\n\nexample:\n  zeitbuch schema flow -o flow.schema.json"
)


def add(parser: argparse.ArgumentParser) -> None:
    names = [row.name for row in SCHEMAS]
    parser.add_argument("name", metavar="NAME", choices=names, help="one of: " + ", ".join(names))
    parser.add_argument("-o", "--output", metavar="FILE", help="write to FILE instead of standard output")
