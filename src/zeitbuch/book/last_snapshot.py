# An unchanged estate is the common case, and loading the database library takes longer than finding that nothing changed.
# So the hash of the last list of files of an SQLite book is read by the standard library; all else goes the ordinary way.
"""The last snapshot of a book that is one file, without loading anything."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import NamedTuple

import msgspec

from .records import Body

_LAST = "SELECT number, at, body FROM zb_entry WHERE kind = 'snapshot' AND line = ? ORDER BY seq DESC LIMIT 1"
_HEAD = "SELECT hash FROM zb_entry ORDER BY seq DESC LIMIT 1"


class Last(NamedTuple):
    """The last snapshot of a line: its number, its time, the hash of its list of files, whether a flow could not be read; and the hash
    of the last entry of the book."""

    number: int
    at: str
    files: str
    unreadable: bool
    head: str


def last_snapshot(place: str, line: str = "") -> Last | None:
    """The last snapshot; None when there is none or it is not to be had this way (a book of an earlier form)."""
    if "://" in place or not Path(place).is_file():
        return None
    try:
        # Opened for writing like any user of the write-ahead log, and only read from.
        connection = sqlite3.connect(place, timeout=5)
        try:
            row = connection.execute(_LAST, (line,)).fetchone()
            head = connection.execute(_HEAD).fetchone()
        finally:
            connection.close()
        if row is None:
            return None
        body = msgspec.json.decode(row[2], type=Body)
        return Last(row[0], row[1], body.files, bool(body.unreadable), head[0])
    except (sqlite3.Error, UnicodeDecodeError, msgspec.MsgspecError):
        return None
