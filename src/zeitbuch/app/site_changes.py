# What changed since the flows were last recorded, for the start page of their documents: a line a flow, what matters most first.
"""Changes since the last recorded version, in a few lines."""

from __future__ import annotations

from zeitbuch.book.place import open_book
from zeitbuch.core.diff.records import FlowChanges
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.change_tables import change_line

from .basis import EstimateBasis
from .diff import DiffRequest, compare_versions
from .session import Session

MOST_LINES = 10


def changes_since_recorded(session: Session, basis: EstimateBasis, most: int = MOST_LINES) -> list[str]:
    """What the workspace's sources are otherwise than the last state in the book; nothing where there is no book, or it cannot be read (the
    reviews tell that). What is wrong in the recorded files is not told again."""
    told = len(session.problems)
    try:
        with open_book(session.book).reading() as reading:
            snapshots = reading.snapshots(session.line)
        if not snapshots:
            return []
        old, new = session.versions("@latest", None)
        found = compare_versions(session, old, new, basis, DiffRequest(figures=False, shares=False)).changes
    except ZeitbuchError:
        return []
    finally:
        del session.problems[told:]
    since = f"since snapshot {snapshots[-1].number} of {snapshots[-1].at[:10]}"
    unread = [
        f"Could not be read on one side, so not compared: {', '.join(quote_name(one.name) for one in found.unreadable)}."
    ]
    lines = [_line_of(one) for one in found.flows]
    if not lines:
        return [f"Nothing changed in meaning {since}.", *(unread if found.unreadable else [])]
    more = [f"And {count_words(len(lines) - most, 'flow')} more."] if len(lines) > most else []
    head = f"{count_words(len(lines), 'flow')} changed, came or went {since}:"
    return [head, *lines[:most], *more, *(unread if found.unreadable else [])]


def _line_of(one: FlowChanges) -> str:
    if one.status != "changed":
        return f"{quote_name(one.name)} was {one.status}."
    rest = len(one.changes) - 1
    more = f"; and {count_words(rest, 'more change')}" if rest else ""
    return f"{quote_name(one.name)}: {change_line(one.changes[0])}{more}"
