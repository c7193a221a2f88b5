"""Take a snapshot of all sources into the book: every file as it is, and a version of each flow that changed. Nothing is
stored twice, and nothing at all when nothing changed."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from .common import Session, add_output, add_reading, add_sources, chosen_format
from .estimate_command import add_figures
from .main import OK

if TYPE_CHECKING:
    from .recording import Taken

FORMATS = ("text", "json")
EXAMPLE = """\
examples:
  zeitbuch record                                   the workspace's sources
  zeitbuch record exports/ --note "before the move to the new host"
  zeitbuch record git:v1.4:exports --at 2026-08-01 --by "Maren Dahl"
  zeitbuch record --book postgresql://books.example/zeitbuch

The book holds exports as they are, with the secrets in them: keep it where the exports may be kept."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what is said of the snapshot")
    group.add_argument("--note", default="", metavar="TEXT", help="why it was taken")
    group.add_argument("--by", metavar="NAME", help="who took it; default: the name of the account")
    group.add_argument(
        "--at", metavar="TIME", help="when the state was as it is (2026-08-01, 2026-08-01T14:00+02:00); default: now"
    )
    add_figures(parser)
    parser.set_defaults(month="")  # figures are those of today
    add_output(parser, FORMATS, "text")
    add_reading(parser)


def snapshot(session: Session, sources: list[str]) -> Taken:
    """A snapshot of the sources, or word that nothing is new."""
    from zeitbuch.book.last_snapshot import last_snapshot
    from zeitbuch.book.records import manifest, sha256

    from .book import opened, place_of
    from .recording import Taken, hashed, named, record

    args = session.args
    at = _moment(args.at)
    inputs = named(session, sources, session.inputs(sources))
    files, contents = hashed(session, inputs)
    if not files:
        from zeitbuch.core.model.problems import fail

        session.finish()
        raise fail("source-empty", "expected files to record, found none", "name the folder that holds the exports")
    last = last_snapshot(place_of(session))
    if last is not None and last.files == sha256(manifest(files)):
        return Taken(last.number, last.at, len(files), 0, 0, (), new=False)
    who = args.by or _account()
    return record(session, opened(session, create=True), inputs, files, contents, who, args.note, at)


def run(args: argparse.Namespace) -> int:
    from . import stream

    form = chosen_format(args, FORMATS, "text")
    session = Session(args)
    taken = snapshot(session, session.sources(args.source))
    if form == "json":
        from zeitbuch.writers.table.tables import to_json

        stream.write(to_json("record", taken), args.output)
    else:
        stream.write(_text(taken), args.output)
    return session.finish(OK)


def _moment(text: str | None) -> str:
    import datetime

    from zeitbuch.book.selection import stamp
    from zeitbuch.core.model.problems import fail

    now = datetime.datetime.now(datetime.UTC)
    if text is None:
        return stamp(now)
    try:
        when = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise fail(
            "option", f"expected a time after --at (2026-08-01, 2026-08-01T14:00+02:00), found '{text}'"
        ) from None
    when = when if when.tzinfo is not None else when.replace(tzinfo=datetime.UTC)
    if when > now:
        raise fail("option", f"expected a time that is past after --at, found {text}")
    return stamp(when)


def _account() -> str:
    import getpass

    try:
        return getpass.getuser()
    except (OSError, KeyError):
        print("no name of the account is known: name one with --by", file=sys.stderr)
        return "unknown"


def _text(taken: Taken) -> str:
    from collections import Counter

    from zeitbuch.core.model.words import plural
    from zeitbuch.writers.escape.text import inert

    if not taken.new:
        return f"nothing new since snapshot {taken.snapshot}: {plural(taken.files, 'file')} as they were\n"
    by = Counter(v.status for v in taken.versions)
    parts = [f"{by['added']} new", f"{by['changed']} changed", f"{by['removed']} removed"]
    lines = [
        f"snapshot {taken.snapshot} ({taken.at}): {plural(taken.files, 'file')}, {taken.fresh} new or changed, {taken.gone} gone; "
        f"flows: {', '.join(parts)}"
    ]
    if taken.snapshot > 1:
        for v in taken.versions:
            lines.append("  " + inert(f"{v.name}@{v.number}: {v.summary}", keep_lines=False))
    return "\n".join(lines) + "\n"
