"""List the snapshots of the book, or the versions of one flow with what changed in each and what a run cost; verify, export
and import the book."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from .common import Session, add_output, add_reading, chosen_format
from .estimate_command import add_figures
from .main import NO, OK

if TYPE_CHECKING:
    from zeitbuch.book.records import Version
    from zeitbuch.book.store import Reading

FORMATS = ("table", "csv", "markdown", "json")
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
    add_output(parser, FORMATS, "table")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.model.problems import fail

    from .book import opened

    acts = [a for a in ("verify", "export", "taken") if getattr(args, a)]
    if len(acts) > 1 or (acts and args.flow) or (args.head and not args.verify) or (args.now and not args.flow):
        raise fail(
            "option",
            "expected a FLOW (with --now), or one of --verify (with --head), --export, --import; found several together",
        )
    session = Session(args)
    if args.verify:
        return _verify(args, session)
    if args.export:
        from zeitbuch.book.archive import export_book

        book = opened(session)
        with book.reading() as reading:
            total = reading.count()
        with session.progress(total, "exporting") as bar:
            count = export_book(book, args.export, bar.at)
        print(f"{args.export}: {count} originals and lists of files")
        return session.finish()
    if args.taken:
        from zeitbuch.book.archive import import_book

        count = import_book(opened(session, create=True), args.taken)
        print(f"{count} entries taken from {args.taken}")
        return session.finish()
    return _list(args, session)


def _verify(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.book.verify import verify

    from .book import opened

    book = opened(session)
    with book.reading() as reading:
        total = reading.count()
    with session.progress(total, "verifying") as bar:
        verdict = verify(book, bar.at)
    wrong = list(verdict.wrong)
    if args.head and not verdict.head.startswith(args.head.lower()):
        wrong.append(
            f"the last entry has the hash {verdict.head}, not {args.head}: entries were taken off, put on or altered"
        )
    for sentence in wrong:
        print(f"altered: {sentence}")
    if not wrong:
        print(f"whole: {verdict.entries} entries, {verdict.contents} contents; the last entry has the hash")
        print(verdict.head)
        print("Keep this hash elsewhere: `--verify --head HASH` shows later whether entries were taken off the end.")
    return session.finish(NO if wrong else OK)


def _list(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.book.history_tables import estate_sheet, flow_sheet
    from zeitbuch.book.selection import flow_versions
    from zeitbuch.core.report.results import SheetResult
    from zeitbuch.writers.table import tables

    from . import stream
    from .book import opened

    form = chosen_format(args, FORMATS, "table")
    with opened(session).reading() as reading:
        snapshots = reading.snapshots()
        versions = reading.versions()
        if args.flow:
            own = flow_versions(versions, args.flow)
            sheet = flow_sheet(own, snapshots, (lambda v: _now(args, session, v, reading)) if args.now else None)
        else:
            sheet = estate_sheet(snapshots, versions)
    if form == "json":
        stream.write(tables.to_json("sheet", SheetResult.of(sheet)), args.output)
    else:
        stream.write_sheet(sheet, form, args.output)
    return session.finish()


def _now(args: argparse.Namespace, session: Session, v: Version, reading: Reading) -> list[object]:
    """What a version costs at today's rates, by itself."""
    from zeitbuch.core.assumptions.money import money_words
    from zeitbuch.core.diff.change_cost import Costing
    from zeitbuch.core.model.records import Estate
    from zeitbuch.readers.input.sources import Held

    from .estimate_command import counters_of, figures

    card, assumptions, _ = figures(args, session)
    name = f"@{v.snapshot}:{v.file}"
    estate = session.estate_of([Held(name, reading.content(v.hash))])
    flow = next(
        (f for f in estate.flows if f.id == v.id and (f.origin is None or (f.origin.member or "") == v.member)), None
    )
    if flow is None or card is None:
        return [None, None]
    costing = Costing.of(Estate(estate.flows), card, assumptions, "", counters_of(args, session, card))
    f = costing.figures(flow)
    return [money_words(f.run) if f.run is not None else None, money_words(f.month) if f.month is not None else None]
