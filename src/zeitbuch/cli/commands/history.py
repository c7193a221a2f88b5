"""The work of `history`."""

from __future__ import annotations

import argparse

from zeitbuch.app.history import list_history
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import sheet_result


def run(args: argparse.Namespace) -> int:
    """Snapshots or versions, or an act on the book itself."""
    acts = [act for act in ("verify", "export", "taken") if getattr(args, act)]
    if len(acts) > 1 or (acts and args.flow) or (args.head and not args.verify) or (args.now and not args.flow):
        raise fail(
            "option",
            "expected a FLOW (with --now), or one of --verify (with --head), --export, --import; found several together",
        )
    form = chosen_format(args, "table") if not acts else ""
    session = open_session(args)
    if acts:
        return finish_session(session, args, _care_for_book(args, session))
    today = basis_of(args, session) if args.now else None
    show_result("table", form, sheet_result(list_history(session, args.flow or "", today)), args)
    return finish_session(session, args)


def _care_for_book(args: argparse.Namespace, session: Session) -> int:
    """An act on the book itself; the exit status."""
    from zeitbuch.app.book_care import export_history, import_history, verify_history  # archives: rarely wanted

    if args.export:
        print(f"{args.export}: {export_history(session, args.export)} originals and lists of files")
        return OK
    if args.taken:
        entries = import_history(session, args.taken)
        print(f"{count_words(entries, 'entry')} taken from {args.taken}")
        return OK
    verdict = verify_history(session)
    wrong = list(verdict.wrong)
    if args.head and not verdict.head.startswith(args.head.lower()):
        wrong.append(
            f"the last entry has the hash {verdict.head}, not {args.head}: entries were taken off, put on or altered"
        )
    for sentence in wrong:
        print(f"altered: {sentence}")
    if wrong:
        return NO
    contents = count_words(verdict.contents, "content")
    print(f"whole: {count_words(verdict.entries, 'entry')}, {contents}; the last entry has the hash")
    print(verdict.head)
    print("Keep this hash elsewhere: `--verify --head HASH` shows later whether entries were taken off the end.")
    return OK
