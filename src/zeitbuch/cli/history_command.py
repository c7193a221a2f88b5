"""List the snapshots of the book, or the versions of one flow with what changed in each and what a run cost; verify, export
and import the book."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from .common import Session, add_output, add_reading, chosen_format
from .estimate_command import add_figures
from .main import NO, OK

if TYPE_CHECKING:
    from zeitbuch.book.records import Entry, Version
    from zeitbuch.book.store import Reading
    from zeitbuch.core.sheet import Sheet

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
    from zeitbuch.core.problems import fail

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

        with session.progress(2, "exporting"):
            count = export_book(opened(session), args.export)
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
    verdict = verify(book)
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
    from zeitbuch.book.pick import flow_versions
    from zeitbuch.core.results import SheetResult
    from zeitbuch.writers import tables

    from . import stream
    from .book import opened

    form = chosen_format(args, FORMATS, "table")
    with opened(session).reading() as reading:
        snapshots = reading.snapshots()
        versions = reading.versions()
        if args.flow:
            own = flow_versions(versions, args.flow)
            sheet = _flow_sheet(args, session, own, snapshots, reading)
        else:
            sheet = _estate_sheet(snapshots, versions)
    if form == "json":
        stream.write(tables.to_json("sheet", SheetResult.of(sheet)), args.output)
    else:
        out = tables.in_form(sheet, form, stream.width(), stream.colour_wanted())
        stream.write(("\ufeff" if form == "csv" and args.output else "") + out, args.output)
    return session.finish()


def _estate_sheet(snapshots: list[Entry], versions: list[Version]) -> Sheet:
    """One row a snapshot: what it changed, and what the estate cost a month as it was reckoned then."""
    import msgspec

    from zeitbuch.book.records import Body
    from zeitbuch.core.sheet import Column, Sheet

    by: dict[int, list[Version]] = {}
    for v in versions:
        by.setdefault(v.snapshot, []).append(v)
    alive: dict[int, Version] = {}
    rows = []
    for s in snapshots:
        own = by.get(s.number, [])
        for v in own:
            if v.status == "removed":
                alive.pop(v.flow, None)
            else:
                alive[v.flow] = v
        counts = {w: sum(v.status == w for v in own) for w in ("added", "changed", "removed")}
        changed = ", ".join(v.name for v in own if v.status == "changed")
        what = [f"{n} {w}" for w, n in (("new", counts["added"]), ("removed", counts["removed"])) if n]
        what += [f"changed: {changed}"] if changed else []
        files = msgspec.json.decode(s.body, type=Body).count
        rows.append(
            (f"@{s.number}", s.at, s.who, s.note, files, len(alive), "; ".join(what) or "files only", _sum(alive))
        )
    currency = next((v.currency for v in versions if v.currency), "")
    columns = (
        Column("snapshot", "snapshot"),
        Column("at", "when"),
        Column("who", "by"),
        Column("note", "note", rank=2),
        Column("files", "files", "count", rank=1),
        Column("flows", "flows", "count"),
        Column("what", "what changed"),
        Column("month", f"{currency or 'cost'} a month", "money"),
    )
    return Sheet(
        columns,
        tuple(rows),
        notes=("Cost as it was reckoned when the snapshot was taken, of the flows whose volume was known.",),
    )


def _sum(alive: dict[int, Version]) -> object:
    from decimal import Decimal, InvalidOperation

    total, known, unknown = Decimal(0), False, False
    for v in alive.values():
        if v.month is None:
            continue
        try:
            total += Decimal(v.month.replace(",", "").removesuffix(" + ?"))
            known = True
        except InvalidOperation:
            pass
        unknown = unknown or "?" in v.month
    if not known:
        return None
    from zeitbuch.core.sheet import money

    return f"{money(total)} + ?" if unknown else total


def _flow_sheet(
    args: argparse.Namespace, session: Session, own: list[Version], snapshots: list[Entry], reading: Reading
) -> Sheet:
    """One row a version."""
    from zeitbuch.core.sheet import Column, Sheet

    when = {s.number: s for s in snapshots}
    rows = []
    for v in own:
        s = when[v.snapshot]
        what = v.summary if v.status == "changed" else {"added": "came", "removed": "went"}[v.status]
        there = v.status != "removed"
        row = [v.number, f"@{v.snapshot}", s.at, s.who, what]
        row += [v.calls if there else "", (v.run if there else ""), (v.month if there else "")]
        if args.now:
            row += _now(args, session, v, reading) if there else ["", ""]
        rows.append(tuple(row))
    currency = next((v.currency for v in own if v.currency), "")
    columns = [
        Column("version", "version", "count"),
        Column("snapshot", "snapshot"),
        Column("at", "when"),
        Column("who", "by", rank=1),
        Column("what", "what changed"),
        Column("calls", "calls a run", "number"),
        Column("run", f"{currency or 'cost'} a run", "money"),
        Column("month", "a month", "money"),
    ]
    notes = ["Calls and cost as they were reckoned when the version was recorded."]
    if args.now:
        columns += [Column("run_now", "a run, now", "money"), Column("month_now", "a month, now", "money")]
        notes.append("'now': the version at today's rates and assumptions, by itself.")
    last = own[-1]
    return Sheet(tuple(columns), tuple(rows), title=f"{last.name} ({last.id})", notes=tuple(notes))


def _now(args: argparse.Namespace, session: Session, v: Version, reading: Reading) -> list[object]:
    """What a version costs at today's rates, by itself."""
    from zeitbuch.core.change_cost import Costing
    from zeitbuch.core.estimate_sheet import money_words
    from zeitbuch.core.model import Estate
    from zeitbuch.readers.sources import Held

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
