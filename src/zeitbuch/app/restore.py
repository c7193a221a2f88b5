# The very bytes of what was recorded: of one version of a flow, every file of a snapshot, or one member put back into its package.
"""Restoring recorded exports."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, NamedTuple

from msgspec import Struct

from zeitbuch.book.lines import split_state
from zeitbuch.book.place import open_book
from zeitbuch.book.prune import require_unpruned
from zeitbuch.book.records import Entry, File, Version
from zeitbuch.book.selection import find_snapshot, find_version, flow_versions
from zeitbuch.core.model.problems import fail
from zeitbuch.readers.dialects.rules import has_files_beside

from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading


class RestoredVersion(Struct, frozen=True):
    """The export of a version, the names of other flows that stood in the same bytes, and files that belong to it."""

    version: Version
    data: bytes
    others: tuple[str, ...]
    beside: tuple[str, ...]


def restore_version(session: Session, name: str, key: str) -> RestoredVersion:
    """The export of one version of a flow (id or name); ``key`` is a number, latest or a date, with a line before it where another
    is meant (dev:3). Raises ZeitbuchError when there is none."""
    line, key = split_state(key, session.line)
    with open_book(session.book).reading() as reading:
        versions, snapshots = reading.versions(line=line), reading.snapshots(line)
        found = find_version(flow_versions(versions, name), key, snapshots)
        if not reading.packed([found.hash]):
            require_unpruned(reading, find_snapshot(snapshots, str(found.snapshot), line))
        beside = _files_beside(session, reading, found)
        return RestoredVersion(found, reading.content_of(found.hash), _other_flows(versions, found), beside)


def _files_beside(session: Session, reading: Reading, version: Version) -> tuple[str, ...]:
    """The files of the snapshot of a version that a dialect says belong to its file."""
    if version.member or not has_files_beside(session.dialects):
        return ()
    from zeitbuch.readers.reading.beside import (
        names_beside,  # with all that reads; a version by itself needs none of it
    )

    snapshot = find_snapshot(reading.snapshots(version.line), str(version.snapshot), version.line)
    names = {file.name for file in reading.files(snapshot)}
    return tuple(name for name in names_beside(session.dialects, version.file) if name in names)


def _other_flows(versions: Sequence[Version], found: Version) -> tuple[str, ...]:
    return tuple(
        dict.fromkeys(version.name for version in versions if version.hash == found.hash and version.flow != found.flow)
    )


class RestoredFile(NamedTuple):
    """A file of a snapshot and where it is written below the folder."""

    file: File
    path: str


class RestoredSnapshot(NamedTuple):
    """A snapshot and its files."""

    entry: Entry
    files: list[RestoredFile]


def find_restored(session: Session, key: str) -> RestoredSnapshot:
    """The files of a snapshot (by number, latest or date, with a line before it where another is meant), each with a place of its
    own. Raises ZeitbuchError for one that is not there or was pruned."""
    line, key = split_state(key, session.line)
    with open_book(session.book).reading() as reading:
        entry = find_snapshot(reading.snapshots(line), key, line)
        require_unpruned(reading, entry)
        return RestoredSnapshot(entry, _with_places(reading.files(entry)))


def restored_contents(session: Session, files: Sequence[RestoredFile]) -> Iterator[tuple[RestoredFile, bytes]]:
    """Files of a snapshot with their bytes, one by one."""
    with open_book(session.book).reading() as reading:
        for one in files:
            yield one, reading.content_of(one.file.hash)


def _with_places(files: Sequence[File]) -> list[RestoredFile]:
    """A name in the book is a label: nothing is written outside the folder, and no two files to one place."""
    taken: set[str] = set()
    found: list[RestoredFile] = []
    for file in files:
        parts = [part for part in file.name.replace("\\", "/").split("/") if part not in ("", ".", "..")]
        plain = PurePosixPath(*(parts or ["unnamed"]))
        path, number = str(plain), 2
        while path.casefold() in taken:  # on some disks A and a are one name
            path = str(plain.with_name(f"{plain.stem} ({number}){plain.suffix}"))
            number += 1
        taken.add(path.casefold())
        found.append(RestoredFile(file, path))
    return found


def files_in_the_way(folder: str, contents: Iterator[tuple[RestoredFile, bytes]]) -> list[str]:
    """What stands in the folder already, and is not the same: it would be overwritten."""
    return [one.path for one, data in contents if _holds_other(Path(folder, one.path), data)]


def _holds_other(path: Path, data: bytes) -> bool:
    return path.exists() and (not path.is_file() or path.read_bytes() != data)


def member_into_package(restored: RestoredVersion, package: str) -> bytes:
    """The package (a zip or tar file as it is now) with the one member that held the flow as it was recorded; all other members are as
    they are. Raises ZeitbuchError when there is no such member."""
    from zeitbuch.readers.input.package_members import replace_member

    version = restored.version
    if not version.member:
        raise fail(
            "option",
            f"expected a flow of a package beside --into, found one in a file of its own ({version.file})",
            "restore it with -o FILE",
        )
    try:
        data = Path(package).read_bytes()
    except OSError as error:
        raise fail("source-unreadable", f"{package}: expected a package, found: {error.strerror}") from None
    return replace_member(package, data, version.member, restored.data, version.file)
