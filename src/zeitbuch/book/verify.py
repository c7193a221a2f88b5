# Whether a book is as it was written: every content against its hash, every entry against the one before it.
"""Verification of the chain."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec
from msgspec import Struct
from sqlalchemy import select

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words

from . import tables as t
from .contents import DamagedError
from .drafts import draft_keys
from .lines import state_name
from .prune import pruned_of
from .records import NOTHING, Body, Entry, Version, entry_hash, files_of, versions_hash
from .store import Book, Reading

_PIECE = 100  # contents of one query
LEAST_DIGITS = 12  # of a hash that names an entry


class Verdict(Struct, frozen=True):
    """What a verification found: counts, the hash of the last entry, and what is wrong, a sentence each; where a kept ``head`` was asked
    about, which entry has it and what followed."""

    entries: int
    contents: int
    head: str
    wrong: tuple[str, ...]
    kept_entry: int = 0
    followed: tuple[str, ...] = ()


def verify_book(book: Book, progress: Callable[[int], None] | None = None, head: str = "") -> Verdict:
    """Check the whole book. Rows taken off the end leave a whole but shorter chain: only a hash of the last entry that was
    kept elsewhere shows that. With such a ``head`` the verdict says whether the chain has it, and what followed. Raises
    ZeitbuchError for a head of too few digits."""
    wanted = _asked_head(head)
    wrong: list[str] = []
    with book.reading() as reading:
        good, bad = _check_contents(reading, wrong, progress)
        entries = reading.entries()
        versions: dict[tuple[str, int], list[Version]] = {}
        named: set[str] = set()
        for version in reading.versions(line=None):
            named.add(version.hash)
            versions.setdefault((version.line, version.snapshot), []).append(version)
        pruned = pruned_of(entries)
        before = NOTHING
        counts: dict[tuple[str, str], int] = {}
        for place, entry in enumerate(entries, 1):
            kind = entry.kind, entry.line
            counts[kind] = counts.get(kind, 0) + 1
            wrong += _check_entry(entry, place, before, counts[kind])
            before = entry.hash
            if entry.kind == "snapshot":
                own = versions.pop((entry.line, entry.number), [])
                is_pruned = (entry.line, entry.number) in pruned
                wrong += _check_snapshot(reading, entry, own, good, bad, named, is_pruned)
        wrong += [
            f"there are versions of a snapshot {state_name(line, number)[1:]} that is not in the chain"
            for line, number in sorted(versions)
        ]
        keys = draft_keys(entries)
        wrong += [f"the key {name[:16]}… of a draft is missing" for name in sorted(keys - good - bad)]
        named |= keys
        bases = set(reading.c.execute(select(t.content.c.base)).scalars()) if reading.form == t.FORM else set()
        if orphans := sorted((good | bad) - named - bases):
            names = ", ".join(f"{name[:16]}…" for name in orphans[:3])
            wrong.append(
                f"{count_words(len(orphans), 'content')} of no snapshot ({names}): entries were taken off, or contents put in"
            )
    kept = next((place for place, entry in enumerate(entries, 1) if wanted and entry.hash.startswith(wanted)), 0)
    if wanted and not kept:
        wrong.append(f"no entry has the hash {head}: entries were taken off or altered, or it is that of another book")
    followed = tuple(_entry_words(entry) for entry in entries[kept:]) if kept else ()
    return Verdict(len(entries), len(good) + len(bad), before, tuple(wrong), kept, followed)


def _asked_head(head: str) -> str:
    wanted = head.strip().lower()
    if wanted and (len(wanted) < LEAST_DIGITS or len(wanted) > 64 or set(wanted) - set("0123456789abcdef")):
        raise fail(
            "option",
            f"expected the hash of an entry after --head ({LEAST_DIGITS} to 64 hexadecimal digits), found '{head}'",
            "`zeitbuch record` and `zeitbuch history --verify` print it",
        )
    return wanted


def _entry_words(entry: Entry) -> str:
    number = state_name(entry.line, entry.number) if entry.kind == "snapshot" else str(entry.number)
    return f"entry {entry.seq}: {entry.kind} {number} by {entry.who}, {entry.at}"


def _check_contents(
    reading: Reading, wrong: list[str], progress: Callable[[int], None] | None
) -> tuple[set[str], set[str]]:
    """The hashes of contents that are as they were recorded, and of those that are not."""
    good: set[str] = set()
    bad: set[str] = set()
    names = list(reading.c.execute(select(t.content.c.hash)).scalars())
    # Lists differ from those before them: in their order each is unpacked once.
    there = set(names)
    lists = {name: None for entry in reading.snapshots(None) if (name := _list_of(entry))}
    ordered = [*[name for name in names if name not in lists], *[name for name in lists if name in there]]
    for start in range(0, len(ordered), _PIECE):
        piece = ordered[start : start + _PIECE]
        stored = reading.packed(piece)
        for name in piece:
            try:
                reading.unpack_content(stored[name])
                good.add(name)
            except DamagedError as error:
                bad.add(name)
                wrong.append(str(error))
        if progress is not None:
            progress(min(start + _PIECE, len(ordered)) - 1)
    return good, bad


def _list_of(entry: Entry) -> str:
    try:
        return msgspec.json.decode(entry.body, type=Body).files
    except msgspec.MsgspecError:
        return ""


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
    reading: Reading,
    entry: Entry,
    versions: Iterable[Version],
    good: set[str],
    bad: set[str],
    named: set[str],
    is_pruned: bool,
) -> list[str]:
    """What is wrong with a snapshot; the contents that it names are put to ``named``."""
    name = f"snapshot {state_name(entry.line, entry.number)[1:]}"
    try:
        body = msgspec.json.decode(entry.body, type=Body)
    except msgspec.MsgspecError:
        return [f"{name} was altered: its list of files cannot be read"]
    named.add(body.files)
    said = []
    if versions_hash(versions) != body.versions:
        said.append(f"{name}: the versions of its flows were altered")
    if is_pruned and not (body.files in good or body.files in bad):
        return said
    if body.files not in good:
        return [*said, f"{name}: its list of files is {'altered' if body.files in bad else 'missing'}"]
    files = files_of(reading.content_of(body.files))
    named |= {file.hash for file in files}
    if len(files) != body.count:
        said.append(f"{name}: expected {count_words(body.count, 'file')}, found {len(files)}")
    if not is_pruned:
        said += [
            f"{name}: the content of {file.name} is missing"
            for file in files
            if not (file.hash in good or file.hash in bad)
        ]
    return said
