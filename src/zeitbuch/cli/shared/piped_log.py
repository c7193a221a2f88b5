# A log is gone through more than once, which a pipe does not allow: it is kept in a file of its own until the program ends.
"""Usage logs from standard input."""

from __future__ import annotations

import contextlib
import shutil
import sys
import zlib
from collections.abc import Sequence
from pathlib import Path

from zeitbuch.core.model.problems import fail
from zeitbuch.readers.usage.line_tables import temporary_folder

# How a file begins -> what it is; whatever else is a table of text.
_BEGINNINGS = (
    (b"PAR1", ".parquet"),
    (b"PK\x03\x04", ".xlsx"),
    (b"{", ".jsonl"),
    (b"[", ".json"),
    (b"<", ".xes"),
)
_GZIP = b"\x1f\x8b"
_LOOK = 4096


def piped_logs(named: Sequence[str], sources: Sequence[str] = ()) -> list[str]:
    """The files of a log, with ``-`` for standard input kept in a file. Raises ZeitbuchError where it is named twice, or empty."""
    if "-" not in named:
        return list(named)
    if [*named, *sources].count("-") > 1:
        raise fail(
            "usage-none", "expected standard input (-) for one thing, found it named twice", "name a file for the other"
        )
    return [str(_kept_input()) if name == "-" else name for name in named]


def _kept_input() -> Path:
    source = sys.stdin.buffer
    begin = source.read(_LOOK)
    if not begin.strip():
        raise fail(
            "usage-empty", "expected a usage log on standard input, found nothing", "name a file, or pipe one in"
        )
    path = temporary_folder() / f"stdin{_suffix_of(begin)}"
    with path.open("wb") as file:
        file.write(begin)
        shutil.copyfileobj(source, file)
    return path


def _suffix_of(begin: bytes) -> str:
    if begin.startswith(_GZIP):
        with contextlib.suppress(zlib.error):
            return f"{_suffix_of(zlib.decompressobj(zlib.MAX_WBITS | 16).decompress(begin, _LOOK))}.gz"
    start = begin.removeprefix(b"\xef\xbb\xbf").lstrip()
    return next((suffix for letters, suffix in _BEGINNINGS if start.startswith(letters)), ".csv")
