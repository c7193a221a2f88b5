"""Write a commented workspace into a folder: zeitbuch.toml, rates.toml, assumptions.toml. Existing files are kept."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_reading

EXAMPLE = """\
examples:
  zeitbuch init
  zeitbuch init exports/ --dialect builder.toml    with the models and flows found there filled in"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="SOURCE", nargs="*", help="exports to fill in models and flows from")
    parser.add_argument("--into", metavar="FOLDER", default=".", help="where to write (default: the current folder)")
    add_reading(parser)
