# An unchanged estate is the common case, and loading the database library takes longer than finding that nothing changed.
# So the hash of the last list of files of an SQLite book is read by the standard library; all else goes the ordinary way.
"""The last snapshot of a book that is one file, without loading anything."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import NamedTuple

import msgspec

from .records import Body


class Last(NamedTuple):
    """The last snapshot: its number, its time, and the hash of its list of files."""

    number: int
    at: str
    files: str


def last_snapshot(place: str) -> Last | None:
    """The last snapshot; None when there is none or it is not to be had this way."""
    if "://" in place or not Path(place).is_file():
        return None
    try:
        # Opened for writing like any user of the write-ahead log, and only read from.
        connection = sqlite3.connect(place, timeout=5)
        try:
            row = connection.execute(
                "SELECT number, at, body FROM zb_entry WHERE kind = 'snapshot' ORDER BY seq DESC LIMIT 1"
            ).fetchone()
        finally:
            connection.close()
        return Last(row[0], row[1], msgspec.json.decode(row[2], type=Body).files) if row is not None else None
    except (sqlite3.Error, UnicodeDecodeError, msgspec.MsgspecError):
        return None
