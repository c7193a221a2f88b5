# An unchanged estate is the common case, and loading the database library takes longer than finding that nothing changed.
# So the last list of files of an SQLite book is read by the standard library; all else goes the ordinary way.
"""The last snapshot's files of a book that is one file, without loading anything."""

from __future__ import annotations

import sqlite3
import zlib
from pathlib import Path

import msgspec

from .records import Body, File, files_of


def last_files(place: str) -> tuple[int, list[File]] | None:
    """Number and files of the last snapshot; None when there is none or it is not to be had this way."""
    if "://" in place or not Path(place).is_file():
        return None
    try:
        # Opened for writing like any user of the write-ahead log, and only read from.
        connection = sqlite3.connect(place, timeout=5)
        try:
            row = connection.execute(
                "SELECT number, body FROM zb_entry WHERE kind = 'snapshot' ORDER BY seq DESC LIMIT 1"
            ).fetchone()
            if row is None:
                return None
            body = msgspec.json.decode(row[1], type=Body)
            held = connection.execute("SELECT data FROM zb_content WHERE hash = ?", (body.files,)).fetchone()
            return (row[0], files_of(zlib.decompress(held[0]))) if held is not None else None
        finally:
            connection.close()
    except (sqlite3.Error, msgspec.MsgspecError, zlib.error):
        return None
