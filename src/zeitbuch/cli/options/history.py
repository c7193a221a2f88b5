"""List the snapshots of the book, or the versions of one flow with what changed in each and what a run cost; verify, export
and import the book."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading

EXAMPLE = """\
examples:
  zeitbuch history                             the snapshots of the estate
  zeitbuch history "Customer letters"          the versions of a flow
  zeitbuch history SH-1040 --now               with what each would cost at today's rates
  zeitbuch history --verify                    is the book as it was written?
  zeitbuch history --export book.tar           originals and JSON lines, to be kept or read by anything
  zeitbuch history --import book.tar --book new.sqlite

exit status: 0 fine; 1 the book was altered (--verify); 2 wrong use or a book that cannot be read"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("flow", metavar="FLOW", nargs="?", help="a flow (id or name, now or once)")
    parser.add_argument(
        "--now", action="store_true", help="with FLOW: what each version would cost at today's rates, too"
    )
    group = parser.add_argument_group("the book itself")
    group.add_argument("--verify", action="store_true", help="check every content and the chain of entries")
    group.add_argument("--head", metavar="HASH", help="with --verify: the hash that the last entry must have")
    group.add_argument("--export", metavar="FILE", help="write the book to a tar file")
    group.add_argument("--import", dest="taken", metavar="FILE", help="fill an empty book from such a file")
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)
