# A book as one open file that needs no Zeitbuch to be read: a tar of the originals by their hash, and JSON lines of the
# chain and the versions.
"""Export and import of a book."""

from __future__ import annotations

import io
import os
import tarfile
from collections.abc import Callable
from pathlib import Path

import msgspec
from msgspec import Struct

from zeitbuch.core.model.problems import ZeitbuchError, fail

from .drafts import draft_keys
from .prune import pruned_of
from .records import NOTHING, Body, Entry, Version, entry_hash, files_of, sha256, versions_hash
from .store import Book

FORM = 2
FORMS = (1, FORM)  # that are read
LINES = "book.jsonl"
FOLDER = "originals/"
MOST = 1 << 30  # bytes of one member


class Line(Struct, frozen=True, omit_defaults=True):
    """One line: the form first, then entries, then versions."""

    zeitbuch_book: int | None = None
    entry: Entry | None = None
    version: Version | None = None


def export_book(book: Book, target: str, progress: Callable[[int], None] | None = None) -> int:
    """Write a book to a tar file, beside it first; how many originals it holds."""
    beside = f"{target}.part"
    count = 0
    try:
        with book.reading() as reading, tarfile.open(beside, "w", format=tarfile.PAX_FORMAT) as archive:
            entries, versions = reading.entries(), reading.versions(line=None)
            lines = [
                Line(zeitbuch_book=FORM),
                *[Line(entry=entry) for entry in entries],
                *[Line(version=version) for version in versions],
            ]
            _add_member(archive, LINES, b"".join(msgspec.json.encode(line) + b"\n" for line in lines))
            wanted: dict[str, None] = {}
            pruned = pruned_of(entries)
            for entry in entries:
                if entry.kind == "snapshot" and (entry.line, entry.number) not in pruned:
                    wanted[_list_of(entry)] = None
                    wanted |= dict.fromkeys(file.hash for file in reading.files(entry))
            # What a flow was last stays after a pruning, also where it is in no list that was kept.
            last = [version.hash for version in versions if version.status != "removed"]
            wanted |= dict.fromkeys(name for name in reading.packed(last) if name not in wanted)
            wanted |= dict.fromkeys(sorted(draft_keys(entries)))
            for one in wanted:
                _add_member(archive, FOLDER + one, reading.content_of(one))
                count += 1
                if progress is not None:
                    progress(count)
        os.chmod(beside, 0o600)  # noqa: PTH101
        os.replace(beside, target)  # noqa: PTH105
    except OSError as error:
        raise fail(
            "write", f"expected to write {target}, found: {error.strerror or error}", "choose another place"
        ) from None
    finally:
        Path(beside).unlink(missing_ok=True)
    return count


def _add_member(archive: tarfile.TarFile, name: str, data: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.size, info.mode = len(data), 0o600
    archive.addfile(info, io.BytesIO(data))


class Archive(Struct, frozen=True):
    """What an exported book holds, checked whole."""

    entries: list[Entry]
    versions: list[Version]
    contents: dict[str, bytes]


def read_archive(source: str) -> Archive:
    """An exported book. Raises ZeitbuchError for one that was altered or cut."""
    try:
        with tarfile.open(source, "r:") as archive:
            entries, versions, contents = _read_archive(archive, source)
    except (OSError, tarfile.TarError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise fail(
            "book-archive",
            f"{source}: expected an exported book (tar), found: {error}",
            "`zeitbuch history --export FILE` writes one",
        ) from None
    _check_chain(entries, versions, contents, source)
    return Archive(entries, versions, contents)


def import_book(book: Book, archive: Archive) -> int:
    """Fill an empty book; how many entries it has then."""
    with book.writing() as writing:
        if writing.head() is not None:
            raise fail(
                "book-archive",
                f"{book.name}: expected an empty book to import into, found one with entries",
                "name a new one with --book",
            )
        before: dict[str, str] = {}
        lists: set[str] = set()
        for entry in archive.entries:
            if entry.kind == "snapshot" and (name := _list_of(entry)) in archive.contents:
                writing.put_list(archive.contents[name], before.get(entry.line, ""))
                before[entry.line] = name
                lists.add(name)
        writing.put_contents(data for name, data in archive.contents.items() if name not in lists)
        writing.add_versions(archive.versions)
        for entry in archive.entries:
            writing.insert_entry(entry)
    return len(archive.entries)


def _list_of(entry: Entry) -> str:
    return msgspec.json.decode(entry.body, type=Body).files


def _read_archive(archive: tarfile.TarFile, source: str) -> tuple[list[Entry], list[Version], dict[str, bytes]]:
    entries: list[Entry] = []
    versions: list[Version] = []
    contents: dict[str, bytes] = {}
    form = None
    for info in archive:
        archive.members = []  # type: ignore[attr-defined]  # it would keep them all
        if not info.isfile() or info.issparse() or info.size > MOST:
            raise fail("book-archive", f"{source}: expected plain files of at most {MOST:,} bytes, found {info.name}")
        member = archive.extractfile(info)
        data = member.read() if member is not None else b""
        if info.name == LINES and not entries:
            form = _read_lines(data, form, entries, versions)
        elif info.name.startswith(FOLDER):
            contents[info.name[len(FOLDER) :]] = data
        else:
            raise fail("book-archive", f"{source}: expected {LINES} once and {FOLDER}…, found {info.name}")
    if form not in FORMS:
        forms = " or ".join(map(str, FORMS))
        raise fail("book-archive", f"{source}: expected {LINES} of form {forms}, found {form or 'none'}")
    return entries, versions, contents


def _read_lines(data: bytes, form: int | None, entries: list[Entry], versions: list[Version]) -> int | None:
    for raw in data.splitlines():
        line = msgspec.json.decode(raw, type=Line)
        form = line.zeitbuch_book or form
        if line.entry is not None:
            entries.append(line.entry)
        if line.version is not None:
            versions.append(line.version)
    return form


def _check_chain(entries: list[Entry], versions: list[Version], contents: dict[str, bytes], source: str) -> None:
    def wrong(what: str) -> ZeitbuchError:
        return fail(
            "book-archive",
            f"{source}: expected a whole chain, found {what}",
            "the file was altered or cut; export the book again",
        )

    for name, data in contents.items():
        if sha256(data) != name:
            raise wrong(f"an original that is not what its name says ({name[:16]}…)")
    before = NOTHING
    pruned = pruned_of(entries)
    named: set[str] = set()
    for place, entry in enumerate(entries, 1):
        if entry.seq != place or entry.previous != before or entry_hash(entry) != entry.hash:
            raise wrong(f"entry {entry.seq} altered or out of place")
        before = entry.hash
        if entry.kind == "snapshot":
            is_pruned = (entry.line, entry.number) in pruned
            named |= _check_snapshot(versions, contents, entry, is_pruned, wrong)
    keys = draft_keys(entries)
    if lost := keys - set(contents):
        raise wrong(f"no key of a draft ({min(lost)[:16]}…)")
    named |= keys
    if left := set(contents) - named - {version.hash for version in versions}:
        raise wrong(f"an original that belongs to no snapshot ({min(left)[:16]}…)")
    states = {(entry.line, entry.number) for entry in entries if entry.kind == "snapshot"}
    if any((version.line, version.snapshot) not in states for version in versions):
        raise wrong("versions of a snapshot that is not there")


def _check_snapshot(
    versions: list[Version],
    contents: dict[str, bytes],
    entry: Entry,
    is_pruned: bool,
    wrong: Callable[[str], ZeitbuchError],
) -> set[str]:
    """The contents that a snapshot names."""
    body = msgspec.json.decode(entry.body, type=Body)
    if (
        versions_hash(version for version in versions if (version.line, version.snapshot) == (entry.line, entry.number))
        != body.versions
    ):
        raise wrong(f"the versions of snapshot {entry.number} altered")
    if body.files not in contents:
        if is_pruned:
            return set()
        raise wrong(f"no list of files of snapshot {entry.number}")
    files = files_of(contents[body.files])
    missing = next((file for file in files if file.hash not in contents), None)
    if missing is not None and not is_pruned:
        raise wrong(f"no original of {missing.name} in snapshot {entry.number}")
    return {body.files, *[file.hash for file in files]}
