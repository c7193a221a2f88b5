# What the commands of the book share: where it is, and its states as inputs.
"""The book of a session."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zeitbuch.book.store import Book

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
