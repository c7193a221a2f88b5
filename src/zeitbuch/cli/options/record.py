"""Take a snapshot of all sources into the book: every file as it is, and a version of each flow that changed. Nothing is
stored twice, and nothing at all when nothing changed."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_line, add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch record                                   the workspace's sources
  zeitbuch record exports/ --note "before the move to the new host"
  zeitbuch record git:v1.4:exports --at 2026-08-01 --by "Maren Dahl"
  zeitbuch record prod/ --line prod --strict        a line of its own, and only what can be read
  zeitbuch record --book postgresql://books.example/zeitbuch

The book holds exports as they are, with the secrets in them: keep it where the exports may be kept."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what is said of the snapshot")
    group.add_argument("--note", default="", metavar="TEXT", help="why it was taken")
    add_line(group)
    group.add_argument(
        "--strict",
        action="store_true",
        help="record nothing when a file cannot be read, or holds no flow where it held one",
    )
    group.add_argument(
        "--by", metavar="NAME", help="who took it; default: the name of the account, of a git: source the author"
    )
    group.add_argument(
        "--at",
        metavar="TIME",
        help="when the state was as it is (2026-08-01, 2026-08-01T14:00+02:00); default: now, of a git: source its time",
    )
    add_figures(parser)
    parser.set_defaults(month="")  # figures are those of today
    add_output(parser, "snapshot")
    add_reading(parser)
