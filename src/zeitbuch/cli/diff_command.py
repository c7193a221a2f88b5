"""Say what changed in meaning between two versions of exports; layout, time stamps and file order do not count."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, chosen_format
from .estimate_command import add_figures, figures
from .main import NO, OK

FORMATS = ("text", "markdown", "json")
EXAMPLE = """\
examples:
  zeitbuch diff october/ november/
  zeitbuch diff october/ november/ -o changes.md
  zeitbuch diff old.json new.json --format json

exit status: 0 no change of meaning; 1 something changed; 2 wrong use or unreadable input"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("old", metavar="OLD", help="file or folder of the older version")
    parser.add_argument("new", metavar="NEW", help="file or folder of the newer version")
    parser.add_argument(
        "--month", metavar="YYYY-MM", default="", help="month of the cost figures; default as in `estimate`"
    )
    add_figures(parser)
    add_output(parser, FORMATS, "text")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.change_cost import CostChange, cost_changes
    from zeitbuch.core.changes import changes
    from zeitbuch.core.estimate import estimate, month_for
    from zeitbuch.core.results import DiffResult
    from zeitbuch.readers.reader import Reader
    from zeitbuch.writers import changes as writer
    from zeitbuch.writers.tables import to_json

    from . import stream

    form = chosen_format(args, FORMATS, "text")
    session = Session(args)
    card, assumptions, problems = figures(args, session)
    old = session.estate([args.old])
    before = session.reader.problems
    session.reader = Reader(session.dialects, session.limits)
    new = session.estate([args.new])
    session.reader.problems = [*before, *session.reader.problems, *problems]
    found = changes(old, new)
    costs: tuple[CostChange, ...] = ()
    if card is not None and found.flows:
        year, month = month_for(assumptions, card, args.month)
        when = f"{year:04d}-{month:02d}"
        costs = cost_changes(
            old, new, estimate(old, card, assumptions, when), estimate(new, card, assumptions, when), found
        )
    currency = card.currency if card is not None else ""
    if form == "json":
        out = to_json("diff", DiffResult(bool(found.flows), currency, found.flows, found.unchanged, tuple(costs)))
    elif form == "markdown":
        out = writer.to_markdown(found, costs, currency)
    else:
        out = writer.to_text(found, costs, currency, stream.width(), stream.colour_wanted())
    stream.write(out, args.output)
    return session.finish(NO if found.flows else OK)
