# What a SOURCE names, for the command line and for Python alike: the one place that knows files, revisions and the book.
"""Sources as inputs."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import Held, Input, Suffixes, is_address, list_files

if TYPE_CHECKING:
    from zeitbuch.book.records import Entry
    from zeitbuch.book.store import Reading


_RECORDED_FLOW = re.compile(r".@(?:[A-Za-z][A-Za-z0-9._-]*:)?(?:\d+|latest|\d{4}-\d\d-\d\d[0-9T:+-]*)$")


_STATE = re.compile(r"(?:.*?[^/])?@(?:[A-Za-z][A-Za-z0-9._-]*:)?\d+:")  # @3:file, @dev:3:file, FLOW@2:file


def name_in_state(name: str) -> str:
    """The name of a file without the revision or recorded state that it is of."""
    if name.startswith("git:"):
        return name.split(":", 2)[-1]
    state = _STATE.match(name)
    return name[state.end() :] if state else name


class BookPlace(NamedTuple):
    """Where the book is, and its line where none is named."""

    place: str
    line: str = ""


def inputs_of(source: str, limits: Limits, book: BookPlace, also: Suffixes = ()) -> list[Input]:
    """Files, folders and packages as they are; revisions (git:REV[:PATH]) and recorded states (@N, @latest, @DATE, @LINE:N) as bytes.
    ``also`` are suffixes of files that the active dialects read. Raises ZeitbuchError for a revision or state that is not there."""
    if source.startswith("git:"):
        from zeitbuch.readers.input.git import revision_files

        return [*revision_files(source, limits, also)]
    if source.startswith("@") and not Path(source).exists():
        return recorded_inputs(source, book)
    # Git gives the empty device for a file that one side has not.
    return [] if source == os.devnull else [*list_files([source], also)]


def inputs_around(source: str, found: list[Input], limits: Limits, also: Suffixes = ()) -> list[Held]:
    """What stands in the folder of a source that is a single file of a revision, where nothing else can look for it."""
    if not source.startswith("git:") or len(found) != 1:
        return []
    from zeitbuch.readers.input.git import files_around

    return files_around(source, limits, also)


def names_recorded_flow(source: str) -> bool:
    """Whether a source is a version of one flow (FLOW@N, FLOW@latest, FLOW@DATE, FLOW@LINE:N), and no file of that name."""
    return (
        _RECORDED_FLOW.search(source) is not None
        and not source.startswith("git:")
        and not is_address(source)
        and not Path(source).exists()
    )


def recorded_inputs(source: str, book: BookPlace) -> list[Input]:
    """The files of a recorded state."""
    from zeitbuch.book.lines import split_state
    from zeitbuch.book.place import open_book
    from zeitbuch.book.selection import find_snapshot

    line, key = split_state(source[1:], book.line)
    with open_book(book.place).reading() as reading:
        return [*recorded_files(reading, find_snapshot(reading.snapshots(line), key, line))]


def recorded_files(reading: Reading, entry: Entry) -> list[Held]:
    """The files of a snapshot with their bytes. Raises ZeitbuchError for a snapshot that was pruned."""
    from zeitbuch.book.lines import state_name
    from zeitbuch.book.prune import require_unpruned

    require_unpruned(reading, entry)
    files = reading.files(entry)
    contents = reading.contents(file.hash for file in files)
    name = state_name(entry.line, entry.number)
    return [
        Held(f"{name}:{file.name}", contents[file.hash] if file.hash in contents else reading.content_of(file.hash))
        for file in files
    ]


class RecordedFlow(NamedTuple):
    """One version of a flow: its export as an input, and its id in it."""

    held: Held
    id: str
    around: list[Held]


def recorded_flow(source: str, book: BookPlace, with_files_beside: bool = False) -> RecordedFlow:
    """A version of a flow, with the other files of its snapshot where what it means may depend on them."""
    from zeitbuch.book.lines import split_state, state_name
    from zeitbuch.book.place import open_book
    from zeitbuch.book.prune import require_unpruned
    from zeitbuch.book.selection import find_snapshot, find_version, flow_versions

    name, _, text = source.rpartition("@")
    line, key = split_state(text, book.line)
    with open_book(book.place).reading() as reading:
        snapshots = reading.snapshots(line)
        version = find_version(flow_versions(reading.versions(line=line), name), key, snapshots)
        entry = find_snapshot(snapshots, str(version.snapshot), line)
        if not reading.packed([version.hash]):
            require_unpruned(reading, entry)
        label = f"{version.name}{state_name(line, version.number)}"
        around = recorded_files(reading, entry) if with_files_beside else []
        return RecordedFlow(Held(f"{label}:{version.file}", reading.content_of(version.hash)), version.id, around)
