# The very bytes of what was recorded: of one version of a flow, or every file of a snapshot.
"""Restoring recorded exports."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from zeitbuch.book.records import Entry, File, Version
from zeitbuch.book.selection import find_snapshot, find_version, flow_versions
from zeitbuch.book.store import Book, Reading
from zeitbuch.readers.dialects.rules import has_files_beside

from .session import Session


class RestoredVersion(Struct, frozen=True):
    """The export of a version, the names of other flows that stood in the same bytes, and files that belong to it."""

    version: Version
    data: bytes
    others: tuple[str, ...]
    beside: tuple[str, ...]


def restore_version(session: Session, name: str, key: str) -> RestoredVersion:
    """The export of one version of a flow (id or name); ``key`` is a number, latest or a date. Raises ZeitbuchError when there
    is none."""
    with Book(session.book).reading() as reading:
        found = find_version(flow_versions(reading.versions(), name), key, reading.snapshots())
        beside = _files_beside(session, reading, found)
        return RestoredVersion(found, reading.content_of(found.hash), _other_flows(reading, found), beside)


def _files_beside(session: Session, reading: Reading, version: Version) -> tuple[str, ...]:
    """The files of the snapshot of a version that a dialect says belong to its file."""
    if version.member or not has_files_beside(session.dialects):
        return ()
    from zeitbuch.readers.reading.beside import (
        names_beside,  # with all that reads; a version by itself needs none of it
    )

    names = {file.name for file in reading.files(find_snapshot(reading.snapshots(), str(version.snapshot)))}
    return tuple(name for name in names_beside(session.dialects, version.file) if name in names)


def _other_flows(reading: Reading, found: Version) -> tuple[str, ...]:
    return tuple(
        dict.fromkeys(
            version.name for version in reading.versions() if version.hash == found.hash and version.flow != found.flow
        )
    )


def restore_snapshot(session: Session, key: str) -> tuple[Entry, Iterator[tuple[File, bytes]], int]:
    """A snapshot (by number, latest or date), its files with their bytes one by one, and how many there are."""
    with Book(session.book).reading() as reading:
        entry = find_snapshot(reading.snapshots(), key)
        files = reading.files(entry)

    def contents() -> Iterator[tuple[File, bytes]]:
        with Book(session.book).reading() as reading:
            for file in files:
                yield file, reading.content_of(file.hash)

    return entry, contents(), len(files)
