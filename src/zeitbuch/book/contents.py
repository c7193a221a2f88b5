# Contents are compressed and checked against their hash whenever they are read: what was swapped or altered is never handed out.
# A list of files differs from the one before it in a few lines, so only these are kept, with a whole list now and then.
"""Contents of the book as bytes of the database, and back."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from .records import sha256

MOST_DIFFERENCES = 50  # one upon the other, before a list is kept whole again
Lines = list[tuple[int, int] | str]


class Packed(NamedTuple):
    """A content as it is stored; with a ``base`` the data are a difference."""

    hash: str
    size: int
    data: bytes
    base: str = ""


class DamagedError(Exception):
    """A content that is not what was recorded."""


def pack(data: bytes) -> Packed:
    """A content by itself."""
    return Packed(sha256(data), len(data), zlib.compress(data, 6))


def pack_difference(data: bytes, base: bytes, base_hash: str) -> Packed | None:
    """A text as the lines in which it differs from another; None where that saves nothing."""
    made = msgspec.json.encode(line_difference(base, data))
    packed = zlib.compress(made, 6)
    whole = zlib.compress(data, 6)
    return Packed(sha256(data), len(data), packed, base_hash) if 2 * len(packed) < len(whole) else None


def line_difference(base: bytes, data: bytes) -> Lines:
    """Ranges of the base's lines (first, end) and lines of its own, one after the other."""
    places = {line: index for index, line in enumerate(base.splitlines(keepends=True))}
    made: Lines = []
    for line in data.splitlines(keepends=True):
        index = places.get(line)
        last = made[-1] if made else None
        if index is None:
            made.append(line.decode())
        elif isinstance(last, tuple) and last[1] == index:
            made[-1] = (last[0], index + 1)
        else:
            made.append((index, index + 1))
    return made


def apply_difference(base: bytes, difference: Sequence[tuple[int, int] | str], most: int) -> bytes:
    """The text that a difference makes of its base; it ends where it is longer than ``most`` bytes."""
    lines = base.splitlines(keepends=True)
    made: list[bytes] = []
    left = most
    for piece in difference:
        made.append(piece.encode() if isinstance(piece, str) else b"".join(lines[piece[0] : piece[1]]))
        left -= len(made[-1])
        if left < 0:
            break
    return b"".join(made)


def unpack(stored: Packed, base: bytes | None = None) -> bytes:
    """The content, checked. Raises DamagedError with what is wrong."""
    # A difference is bounded by what it makes, with its marks of ranges.
    most = stored.size if not stored.base else 16 * stored.size + 1024
    try:
        work = zlib.decompressobj()
        data = work.decompress(stored.data, most + 1)
        if stored.base:
            data = apply_difference(base or b"", msgspec.json.decode(data, type=Lines), stored.size)
    except (zlib.error, msgspec.MsgspecError, UnicodeDecodeError):
        raise DamagedError("cannot be unpacked") from None
    if len(data) != stored.size or sha256(data) != stored.hash:
        raise DamagedError("is not what was recorded")
    if not work.eof or work.unused_data:
        raise DamagedError("has more bytes behind its end")
    return data
