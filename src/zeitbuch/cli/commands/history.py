"""The work of `history`."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from zeitbuch.app.history import add_history_note, list_history, list_lines, list_since
from zeitbuch.app.session import Session
from zeitbuch.book.history_tables import verdict_sheet
from zeitbuch.book.selection import book_time
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import account_name, basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import TableResult, sheet_result

# What is done with the book, with the options that it heeds; a list of versions without any.
_HEEDED = {
    "": ("--now", *OUTPUT),
    "since": OUTPUT,
    "lines": OUTPUT,
    "verify": ("--head", *OUTPUT),
    "prune": ("--keep-days", "--then", "--yes", "--by"),
    "export": (),
    "taken": (),
    "note": ("--mark", "--by"),
    "mark": ("--note", "--by"),
}
_NAMED = {"taken": "import"}


def run(args: argparse.Namespace) -> int:
    """Snapshots or versions, or an act on the book itself."""
    acts = [name for name in ACTS if getattr(args, name)]
    noted = bool(args.note or args.mark)
    _refuse_several(args, acts, noted)
    _refuse_idle(args, acts)
    if noted:
        return _note(args)
    if acts:
        session = open_session(args)
        return finish_session(session, args, ACTS[acts[0]](args, session))
    form = chosen_format(args, "table")
    session = open_session(args)
    today = basis_of(args, session) if args.now else None
    day = this_moment().date().isoformat()
    show_result("table", form, sheet_result(list_history(session, args.flow or "", today, day)), args)
    return finish_session(session, args)


def _refuse_several(args: argparse.Namespace, acts: list[str], noted: bool) -> None:
    """One thing at a time, and each option with what it belongs to."""
    alone = (args.head and not args.verify) or (args.yes and not args.prune) or (args.now and not args.flow)
    if len(acts) > 1 or (acts and (args.flow or noted or args.now)) or alone:
        raise fail(
            "option",
            "expected a FLOW (with --now, --note or --mark), or one of --since, --lines, --verify (with --head), --prune (with --yes), --export, --import; found several together",
        )


def _refuse_idle(args: argparse.Namespace, acts: list[str]) -> None:
    shown = [*acts, *[name for name in ("note", "mark") if getattr(args, name)], ""][0]
    way = f"--{_NAMED.get(shown, shown)}" if shown else "a list of versions"
    refuse_idle_options(args, way, ("--line", *_HEEDED[shown]))


def _note(args: argparse.Namespace) -> int:
    """Say something of a snapshot or version."""
    if "@" not in (args.flow or ""):
        raise fail(
            "option",
            f"expected @N or FLOW@N beside --note or --mark, found {args.flow or 'none'}",
            "zeitbuch history @3 --mark seen",
        )
    session = open_session(args)
    at = book_time(this_moment())
    who = args.by or account_name()
    place = add_history_note(session, args.flow, at=at, who=who, text=args.note, mark=args.mark)
    print(f"{place}: {'marked ' + args.mark if args.mark else 'noted'} by {who}")
    return finish_session(session, args)


def _list_lines(args: argparse.Namespace, session: Session) -> int:
    show_result("table", chosen_format(args, "table"), sheet_result(list_lines(session)), args)
    return OK


def _export(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.app.book_care import export_history  # archives: rarely wanted

    print(f"{args.export}: {export_history(session, args.export)} originals and lists of files")
    return OK


def _import(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.app.book_care import import_history

    entries = import_history(session, args.taken)
    print(f"{count_words(entries, 'entry')} taken from {args.taken}")
    return OK


def _prune(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.app.book_care import prune_history
    from zeitbuch.book.prune import PruneRule

    rule = PruneRule(int(args.keep_days), args.then)
    at = book_time(this_moment())
    found = prune_history(session, rule, at=at, who=args.by or account_name(), do=args.yes)
    what = f"{count_words(len(found.snapshots), 'snapshot')}, {count_words(found.contents, 'content')}, {found.bytes:,} bytes"
    if not found.snapshots:
        print(f"nothing to take out: the rule keeps {rule.words()}")
    elif args.yes:
        print(f"taken out: {what}. The chain says so, and what these snapshots said stays in it.")
    else:
        print(f"would be taken out: {what} (@{', @'.join(map(str, found.snapshots))}); --yes does it")
    return OK


def _verify(args: argparse.Namespace, session: Session) -> int:
    from zeitbuch.app.book_care import verify_history

    verdict = verify_history(session, args.head)
    if args.format is not None or args.output:
        form = chosen_format(args, "table")
        sheet = verdict_sheet(verdict)
        show_result("table", form, TableResult("verdict", verdict, lambda full: sheet), args)
        return NO if verdict.wrong else OK
    for sentence in verdict.wrong:
        print(f"altered: {sentence}")
    if verdict.wrong:
        return NO
    contents = count_words(verdict.contents, "content")
    print(f"whole: {count_words(verdict.entries, 'entry')}, {contents}; the last entry has the hash")
    print(verdict.head)
    if args.head:
        print(
            f"The hash kept is that of entry {verdict.kept_entry}; {count_words(len(verdict.followed), 'entry')} since:"
        )
        for sentence in verdict.followed:
            print(f"  {sentence}")
    else:
        print(
            "Keep this hash elsewhere: `--verify --head HASH` says later whether it is still there, and what followed."
        )
    return OK


def _list_since(args: argparse.Namespace, session: Session) -> int:
    show_result("table", chosen_format(args, "table"), sheet_result(list_since(session, args.since)), args)
    return OK


ACTS: dict[str, Callable[[argparse.Namespace, Session], int]] = {
    "since": _list_since,
    "lines": _list_lines,
    "verify": _verify,
    "prune": _prune,
    "export": _export,
    "taken": _import,
}
