# What the commands of the book share: where it is, and its states as inputs.
"""The book of a session."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zeitbuch.book.store import Book
    from zeitbuch.readers.sources import Input

    from .common import Session

NAME = "book.sqlite"


def place_of(session: Session) -> str:
    """The book named by the option or the workspace, or the file beside the workspace."""
    args: argparse.Namespace = session.args
    workspace = session.workspace
    if getattr(args, "book", None):
        return str(args.book)
    if workspace.book:
        return workspace.book if "://" in workspace.book else workspace.path(workspace.book)
    return workspace.path(NAME)


def opened(session: Session, create: bool = False) -> Book:
    """The book, open."""
    from zeitbuch.book.store import Book

    return Book(place_of(session), create)


def recorded(session: Session, source: str) -> list[Input]:
    """The files of a recorded state, as inputs."""
    from zeitbuch.book.pick import snapshot
    from zeitbuch.readers.sources import Held

    with opened(session).reading() as reading:
        entry = snapshot(reading.snapshots(), source[1:])
        files = reading.files(entry)
        contents = reading.contents(f.hash for f in files)
        found: list[Input] = []
        for f in files:
            data = contents[f.hash] if f.hash in contents else reading.content(f.hash)
            found.append(Held(f"@{entry.number}:{f.name}", data))
    return found
