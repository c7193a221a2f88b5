"""The work of `record`."""

from __future__ import annotations

import argparse
import datetime

from zeitbuch.app.record import RecordRequest, record_snapshot
from zeitbuch.book.selection import book_time
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import account_name, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.problems import fail
from zeitbuch.core.report.presentations import BodyResult


def run(args: argparse.Namespace) -> int:
    """One snapshot."""
    form = chosen_format(args, "snapshot")
    session = open_session(args)
    sources = session.sources(args.source)
    request = RecordRequest(
        at=_asked_time(args.at, this_moment()),
        by=args.by or account_name(),
        note=args.note,
        at_asked=args.at is not None,
        rates=args.rates,
        assumptions=args.assumptions,
        line=session.line,
        strict=args.strict,
    )
    taken = record_snapshot(session, sources, request)
    show_result("snapshot", form, BodyResult("record", taken), args)
    return finish_session(session, args)


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
