# Whether there is a book is found without the database library: who has no book needs none.
"""Where a book is, and opening it."""

from __future__ import annotations

from pathlib import Path

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import ZeitbuchError, fail

TYPE_CHECKING = False
if TYPE_CHECKING:
    from .store import Book


def is_url(place: str) -> bool:
    """Whether a book is named by a URL."""
    return "://" in place


def no_book(place: str) -> ZeitbuchError:
    """What is said where a file was to be a book, and is not there."""
    return fail(
        "book-none",
        f"{place}: expected a book, found no such file",
        "`zeitbuch record` begins one; name another with --book",
    )


def open_book(place: str, create: bool = False) -> Book:
    """The book at a path or URL. Raises ZeitbuchError where there is none (and none is to begin), or the database library is missing."""
    if not (create or is_url(place) or Path(place).exists()):
        raise no_book(place)
    with telling_missing():
        from .store import Book
    return Book(place, create)
