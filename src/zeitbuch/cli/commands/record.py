"""The work of `record`."""

from __future__ import annotations

import argparse
import datetime
from typing import TYPE_CHECKING

from zeitbuch.app.record import RecordRequest, record_snapshot
from zeitbuch.book.selection import book_time
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import account_name, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.problems import fail
from zeitbuch.core.report.presentations import BodyResult

if TYPE_CHECKING:
    from zeitbuch.readers.input.git import Made


def run(args: argparse.Namespace) -> int:
    """One snapshot."""
    form = chosen_format(args, "snapshot")
    session = open_session(args)
    sources = session.sources(args.source)
    commit = _only_commit(sources)
    at = args.at or (commit.at if commit is not None else None)
    request = RecordRequest(
        at=_asked_time(at, this_moment()),
        by=args.by or (commit.author if commit is not None else account_name()),
        note=args.note,
        at_asked=at is not None,
        rates=args.rates,
        assumptions=args.assumptions,
        line=session.line,
        strict=args.strict,
    )
    taken = record_snapshot(session, sources, request)
    show_result("snapshot", form, BodyResult("record", taken), args)
    return finish_session(session, args)


def _only_commit(sources: list[str]) -> Made | None:
    """The commit that all sources are of: the state is as old as it, and by whom made it."""
    if not sources or not all(source.startswith("git:") for source in sources):
        return None
    if len({source.split(":")[1] for source in sources}) > 1:
        return None
    from zeitbuch.readers.input.git import commit_of  # starts processes: a folder needs none of it

    return commit_of(sources[0])


def _asked_time(text: str | None, now: datetime.datetime) -> str:
    """The time asked for, as the book writes it; now without any."""
    if text is None:
        return book_time(now)
    try:
        when = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise fail(
            "option", f"expected a time after --at (2026-08-01, 2026-08-01T14:00+02:00), found '{text}'"
        ) from None
    when = when if when.tzinfo is not None else when.replace(tzinfo=datetime.UTC)
    if when > now:
        raise fail("option", f"expected a time that is past after --at, found {text}")
    return book_time(when)
