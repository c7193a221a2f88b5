# The book itself: is it whole, and how does it get elsewhere.
"""Verifying, exporting and importing the book."""

from __future__ import annotations

from zeitbuch.book.archive import export_book, import_book
from zeitbuch.book.store import Book
from zeitbuch.book.verify import Verdict, verify_book

from .session import Session


def verify_history(session: Session) -> Verdict:
    """Whether every content and the chain of entries are as they were written."""
    book = Book(session.book)
    with session.progress(_count_contents(book), "verifying") as advance:
        return verify_book(book, advance)


def export_history(session: Session, path: str) -> int:
    """Writes the book to a tar file; the number of originals and lists of files written."""
    book = Book(session.book)
    with session.progress(_count_contents(book), "exporting") as advance:
        return export_book(book, path, advance)


def import_history(session: Session, path: str) -> int:
    """Fills an empty book from such a file; the number of entries taken."""
    return import_book(Book(session.book, create=True), path)


def _count_contents(book: Book) -> int:
    with book.reading() as reading:
        return reading.count()
