# The book itself: is it whole, how does it get elsewhere, what may be let go.
"""Verifying, exporting, importing and pruning the book."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zeitbuch.book.archive import export_book, import_book, read_archive
from zeitbuch.book.place import is_url, open_book
from zeitbuch.book.prune import Pruned, PruneRule, plan_pruning, prune_book
from zeitbuch.book.verify import Verdict, verify_book

from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Book


def verify_history(session: Session, head: str = "") -> Verdict:
    """Whether every content and the chain of entries are as they were written; with the hash of an earlier last entry (``head``) what
    followed it."""
    book = open_book(session.book)
    with session.progress(_count_contents(book), "verifying") as advance:
        return verify_book(book, advance, head)


def export_history(session: Session, path: str) -> int:
    """Writes the book to a tar file; the number of originals and lists of files written."""
    book = open_book(session.book)
    with session.progress(_count_contents(book), "exporting") as advance:
        return export_book(book, path, advance)


def import_history(session: Session, path: str) -> int:
    """Fills an empty book from such a file; the number of entries taken. A book that is begun for it is there only when all of it
    is."""
    archive = read_archive(path)
    begun = not is_url(session.book) and not Path(session.book).exists()
    try:
        return import_book(open_book(session.book, create=True), archive)
    except BaseException:
        if begun:
            for name in (session.book, f"{session.book}-wal", f"{session.book}-shm"):
                Path(name).unlink(missing_ok=True)
        raise


def prune_history(session: Session, rule: PruneRule, *, at: str, who: str, do: bool) -> Pruned:
    """Take out of the session's line what a rule does not keep, or with ``do`` False say what that would be."""
    book = open_book(session.book)
    return prune_book(book, session.line, rule, at, who) if do else plan_pruning(book, session.line, rule, at)


def _count_contents(book: Book) -> int:
    with book.reading() as reading:
        return reading.count()
