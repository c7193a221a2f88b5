# What a SOURCE names, for the command line and for Python alike: the one place that knows files, revisions and the book.
"""Sources as inputs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import Held, Input, Suffixes, list_files

if TYPE_CHECKING:
    from zeitbuch.book.records import Entry
    from zeitbuch.book.store import Reading


def inputs_of(source: str, limits: Limits, book: str, also: Suffixes = ()) -> list[Input]:
    """Files, folders and packages as they are; revisions (git:REV[:PATH]) and recorded states (@N, @latest, @DATE) as bytes.
    ``book`` is the place of the book, ``also`` are suffixes of files that the active dialects read. Raises ZeitbuchError for a revision or state that is not there."""
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


def recorded_inputs(source: str, place: str) -> list[Input]:
    """The files of a recorded state."""
    from zeitbuch.book.selection import find_snapshot
    from zeitbuch.book.store import Book

    with Book(place).reading() as reading:
        return [*recorded_files(reading, find_snapshot(reading.snapshots(), source[1:]))]


def recorded_files(reading: Reading, entry: Entry) -> list[Held]:
    """The files of a snapshot with their bytes."""
    files = reading.files(entry)
    contents = reading.contents(file.hash for file in files)
    found: list[Held] = []
    for file in files:
        data = contents[file.hash] if file.hash in contents else reading.content_of(file.hash)
        found.append(Held(f"@{entry.number}:{file.name}", data))
    return found
