# Whether a book is as it was written: every content against its hash, every entry against the one before it.
"""Verification of the chain."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from msgspec import Struct
from sqlalchemy import select

from . import tables as t
from .records import NOTHING, Body, Entry, Version, entry_hash, files_of, sha256, versions_hash
from .store import Book, Reading


class Verdict(Struct, frozen=True):
    """What a verification found: counts, the hash of the last entry, and what is wrong, a sentence each."""

    entries: int
    contents: int
    head: str
    wrong: tuple[str, ...]


def verify_book(book: Book, progress: Callable[[int], None] | None = None) -> Verdict:
    """Check the whole book. Rows taken off the end leave a whole but shorter chain: only a hash of the last entry that was
    kept elsewhere shows that."""
    import zlib

    wrong: list[str] = []
    with book.reading() as reading:
        good: set[str] = set()
        bad: set[str] = set()
        rows = reading.c.execute(select(t.content.c.hash, t.content.c.size, t.content.c.data))
        for position, row in enumerate(rows):
            try:
                data = zlib.decompress(row.data)
            except zlib.error:
                data = b""
            if sha256(data) == row.hash and len(data) == row.size:
                good.add(row.hash)
            else:
                bad.add(row.hash)
                wrong.append(f"the content {row.hash[:16]}… is not what was recorded")
            if progress is not None:
                progress(position)
        entries = reading.entries()
        versions: dict[int, list[Version]] = {}
        for version in reading.versions():
            versions.setdefault(version.snapshot, []).append(version)
        before = NOTHING
        counts: dict[str, int] = {}
        for place, entry in enumerate(entries, 1):
            counts[entry.kind] = counts.get(entry.kind, 0) + 1
            wrong += _check_entry(entry, place, before, counts[entry.kind])
            before = entry.hash
            if entry.kind == "snapshot":
                wrong += _check_snapshot(reading, entry, versions.pop(entry.number, []), good, bad)
        wrong += [f"there are versions of a snapshot {number} that is not in the chain" for number in sorted(versions)]
    return Verdict(len(entries), len(good) + len(bad), before, tuple(wrong))


def _check_entry(entry: Entry, place: int, before: str, number: int) -> list[str]:
    name = f"{entry.kind} {entry.number} (entry {entry.seq})"
    said = []
    if entry.seq != place or entry.number != number:
        said.append(f"{name}: expected entry {place}; one before it is missing or was put in")
    if entry.previous != before:
        said.append(f"{name} does not follow the entry before it")
    if entry_hash(entry) != entry.hash:
        said.append(f"{name} was altered")
    return said


def _check_snapshot(
    reading: Reading, entry: Entry, versions: list[Version], good: set[str], bad: set[str]
) -> list[str]:
    name = f"snapshot {entry.number}"
    try:
        body = msgspec.json.decode(entry.body, type=Body)
    except msgspec.MsgspecError:
        return [f"{name} was altered: its list of files cannot be read"]
    said = []
    if versions_hash(versions) != body.versions:
        said.append(f"{name}: the versions of its flows were altered")
    if body.files not in good:
        return [*said, f"{name}: its list of files is {'altered' if body.files in bad else 'missing'}"]
    files = files_of(reading.content_of(body.files))
    if len(files) != body.count:
        said.append(f"{name}: expected {body.count} files, found {len(files)}")
    said += [f"{name}: the content of {file.name} is missing" for file in files if file.hash not in good | bad]
    return said
