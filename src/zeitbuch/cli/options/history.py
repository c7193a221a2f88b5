"""List the snapshots of the book, or the versions of one flow with what changed in each and what a run cost; note and mark what was
recorded; verify, prune, export and import the book."""

from __future__ import annotations

import argparse

from zeitbuch.book.records import MARKS, PERIODS
from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_line, add_output, add_reading

EXAMPLE = """\
examples:
  zeitbuch history                             the snapshots of the estate
  zeitbuch history "Customer letters"          the versions of a flow
  zeitbuch history SH-1040 --now               with what each would cost at today's rates
  zeitbuch history --since @3 -f jsonl         a feed of what changed in which snapshot
  zeitbuch history --line prod                 the snapshots of another line
  zeitbuch history "Customer letters@2" --mark accepted --note "agreed with the desk"
  zeitbuch history --verify --head 3f0a...     is the book as it was, and what followed?
  zeitbuch history --prune --keep-days 90 --then month          what that would take out; --yes does it
  zeitbuch history --export book.tar           originals and JSON lines, to be kept or read by anything
  zeitbuch history --import book.tar --book new.sqlite

exit status: 0 fine; 1 the book was altered (--verify); 2 wrong use or a book that cannot be read"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "flow", metavar="FLOW", nargs="?", help="a flow (id or name, now or once); with --note or --mark FLOW@N or @N"
    )
    parser.add_argument(
        "--now",
        action="store_true",
        help="with FLOW: what each version would cost at today's rates, and which findings came and went with it, too",
    )
    add_line(parser)
    parser.add_argument(
        "--since",
        metavar="@N",
        default="",
        help="what happened to flows since a snapshot, a row each; a feed with -f jsonl",
    )
    parser.add_argument("--lines", action="store_true", help="the lines of the book instead")
    group = parser.add_argument_group("what is said of a snapshot (@N) or a version (FLOW@N)")
    group.add_argument("--note", metavar="TEXT", default="", help="add a note")
    group.add_argument("--mark", choices=MARKS, default="", help="mark it as seen or accepted")
    group.add_argument("--by", metavar="NAME", help="who says so; default: the name of the account")
    group = parser.add_argument_group("the book itself")
    group.add_argument("--verify", action="store_true", help="check every content and the chain of entries")
    group.add_argument(
        "--head",
        metavar="HASH",
        default="",
        help="with --verify: a hash kept from before; says what followed that entry",
    )
    group.add_argument(
        "--prune", action="store_true", help="take out old snapshots by a rule; shown only, unless --yes"
    )
    group.add_argument(
        "--keep-days",
        metavar="N",
        type=number_for("--keep-days"),
        default=90,
        help="all of the last N days are kept (90)",
    )
    group.add_argument(
        "--then", choices=PERIODS, default="month", help="of older ones the last of each period is kept (month)"
    )
    group.add_argument("--yes", action="store_true", help="with --prune: do it")
    group.add_argument("--export", metavar="FILE", help="write the book to a tar file")
    group.add_argument("--import", dest="taken", metavar="FILE", help="fill an empty book from such a file")
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)
