"""List what is active beside the flows: plug-ins, the pieces that other packages add."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_output, add_talk

EXAMPLE = """\
examples:
  zeitbuch list plugins
  zeitbuch list plugins --format json

Exit status 2 when a plug-in cannot be used; docs/plugins.md shows how to write one."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("what", metavar="WHAT", choices=("plugins",), help="plugins: pieces that other packages add")
    add_output(parser, "table")
    add_talk(parser)
