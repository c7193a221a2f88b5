"""Writers of a book, for processes of their own: nothing that only tests need is loaded here."""

from __future__ import annotations

from zeitbuch.book.notes import add_note
from zeitbuch.book.records import File, sha256
from zeitbuch.book.store import Book

LINES = ("", "dev", "prod")


def keep(book: Book, said: str, who: str, line: str = "") -> int:
    """One snapshot of two files, one of them new."""
    with book.writing() as writing:
        contents = [b"always the same", said.encode()]
        writing.put_contents(contents)
        files = [File(f"{i}.json", sha256(c)) for i, c in enumerate(contents)]
        return writing.add_snapshot(files, [], "2026-11-01T00:00:00Z", who, said, line=line).number


def write(place: str, who: int, count: int) -> None:
    """Snapshots of one line; of every third a note, of every fifth a mark."""
    book = Book(place, create=True)
    for n in range(count):
        number = keep(book, f"writer {who} state {n}", f"writer {who}", LINES[who % 3])
        if n % 3 and n % 5:
            continue
        with book.writing() as writing:
            snapshot = next(entry for entry in writing.snapshots(LINES[who % 3]) if entry.number == number)
            at = "2026-11-01T00:00:00Z"
            add_note(writing, snapshot, at=at, who=f"writer {who}", text=f"of {n}", mark="" if n % 5 else "accepted")
