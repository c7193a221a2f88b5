"""The work of `record`."""

from __future__ import annotations

import argparse
import datetime
import getpass

from zeitbuch.app.record import RecordRequest, record_snapshot
from zeitbuch.book.selection import stamp
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish, open_session, say
from zeitbuch.cli.shared.stream import show
from zeitbuch.core.model.problems import fail
from zeitbuch.core.report.presentations import BodyResult


def run(args: argparse.Namespace) -> int:
    """One snapshot."""
    form = chosen_format(args, "snapshot")
    session = open_session(args)
    sources = session.sources(args.source)
    request = RecordRequest(
        at=_moment(args.at, datetime.datetime.now(datetime.UTC)),
        by=args.by or _account(),
        note=args.note,
        at_asked=args.at is not None,
        rates=args.rates,
        assumptions=args.assumptions,
    )
    taken = record_snapshot(session, sources, request)
    show("snapshot", form, BodyResult("record", taken), args)
    return finish(session, args)


def _moment(text: str | None, now: datetime.datetime) -> str:
    """The time asked for, as the book writes it; now without any."""
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
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        say("no name of the account is known: name one with --by")
        return "unknown"
