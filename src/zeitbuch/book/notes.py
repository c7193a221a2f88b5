# What people say of recorded states: notes, and the marks "seen" and "accepted". Each is an entry of the chain, so that it cannot be
# put in or taken out later.
"""Notes and marks on snapshots and versions."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from .records import Entry, Mark, Version

if TYPE_CHECKING:
    from .store import Writing

NOTE_KIND = "note"


class About(Struct, frozen=True, omit_defaults=True):
    """What a note is about: a snapshot of its line, or a version of a flow (its key in the book); with the mark that it sets."""

    snapshot: int
    flow: int = 0
    version: int = 0
    mark: Mark = ""


def add_note(
    writing: Writing,
    snapshot: Entry,
    *,
    at: str,
    who: str,
    text: str = "",
    mark: Mark = "",
    version: Version | None = None,
) -> Entry:
    """A note or mark on a snapshot, or on a version that stands in it."""
    about = About(snapshot.number, version.flow if version else 0, version.number if version else 0, mark)
    return writing.append_entry(
        NOTE_KIND, at, who, text, msgspec.json.encode(about, order="sorted").decode(), snapshot.line
    )


def about_of(entry: Entry) -> About:
    """What a note is about."""
    return msgspec.json.decode(entry.body, type=About)


def note_words(entries: Iterable[Entry]) -> str:
    """Notes in words, with who wrote them and when."""
    return "; ".join(f"{entry.who}, {entry.at[:10]}: {entry.note}" for entry in entries if entry.note)


def mark_words(entries: Iterable[Entry]) -> str:
    """Marks in words: 'seen by Maren Dahl, 2026-11-02'."""
    return "; ".join(f"{mark} by {entry.who}, {entry.at[:10]}" for entry in entries if (mark := about_of(entry).mark))
