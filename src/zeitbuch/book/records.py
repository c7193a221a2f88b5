# What a book holds, as records, and the hashes that chain them. Hashes are taken over JSON with sorted keys, so that any
# other program can check them.
"""Records and hashes of the book."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Any, Literal

import msgspec
from msgspec import Struct, field

NOTHING = "0" * 64  # before the first entry
Status = Literal["added", "changed", "renumbered", "removed"]  # renumbered: another id, and nothing else
Mark = Literal["", "seen", "accepted"]
MARKS: tuple[Mark, ...] = ("seen", "accepted")
Period = Literal["day", "week", "month", "year", "none"]  # of each of which a pruning keeps the last state
PERIODS: tuple[Period, ...] = ("day", "week", "month", "year", "none")


class File(Struct, frozen=True):
    """One file of a snapshot: its name and the SHA-256 of its bytes."""

    name: str
    hash: str


class EstateCosts(Struct, frozen=True):
    """What all flows of known volume took and cost a month, as it was estimated when a snapshot was taken."""

    calls: float | None = None
    month: str | None = None
    currency: str = ""
    unpriced: str = ""
    without_volume: int = 0


class Body(Struct, frozen=True):
    """What a snapshot vouches for: the hash of its list of files (a content of its own) and of its versions; the figures of
    the estate; and the keys of the flows whose file could not be read, with the file: their last
    versions stay the current ones."""

    files: str
    count: int
    versions: str
    estimated: EstateCosts = field(default=EstateCosts(), name="reckoned")  # the name that books have
    unreadable: tuple[tuple[int, str], ...] = ()


class Entry(Struct, frozen=True):
    """One link of the chain. ``number`` counts entries of its kind within its line, ``at`` is UTC (RFC 3339). ``line`` is empty for
    the line that needs no name."""

    seq: int
    kind: str
    number: int
    at: str
    who: str
    note: str
    body: str
    previous: str
    hash: str = ""
    line: str = ""


class Version(Struct, frozen=True):
    """One version of a flow. ``flow`` is its key in the book, ``number`` counts its versions from 1. ``file``, ``member`` and
    ``hash`` say where its bytes are; ``calls``, ``run`` and ``month`` (decimal numbers) are the figures when it was recorded,
    ``unpriced`` what had no price then; ``author`` and ``edited`` say who changed it and when, where git or the export tells."""

    flow: int
    number: int
    snapshot: int
    id: str
    name: str
    status: Status
    fingerprint: str
    file: str
    member: str
    hash: str
    summary: str = ""
    calls: float | None = None
    run: str | None = None
    month: str | None = None
    currency: str = ""
    unpriced: str = ""
    line: str = ""
    author: str = ""
    edited: str = ""


LATER = ("line", "author", "edited")  # fields that books of form 1 have not: left out of hashes where they are empty


def storable(text: str) -> str:
    """A text as every database keeps it: what one of them refuses (NUL, halves of pairs) is spelled out."""
    return text.replace("\0", "\\x00").encode("utf-8", "backslashreplace").decode()


def sha256(data: bytes) -> str:
    """SHA-256 in hexadecimal digits."""
    return hashlib.sha256(data).hexdigest()


def entry_hash(entry: Entry) -> str:
    """The hash of an entry: over all its fields but the hash."""
    return sha256(entry_bytes(entry))


def entry_bytes(entry: Entry) -> bytes:
    """What the hash of an entry is taken of: its other fields as JSON, the keys in order."""
    fields = _vouched_fields(entry)
    del fields["hash"]
    return msgspec.json.encode(fields, order="sorted")


def _vouched_fields(record: Entry | Version) -> dict[str, Any]:
    return {key: value for key in record.__struct_fields__ if (value := getattr(record, key)) != "" or key not in LATER}


def versions_hash(versions: Iterable[Version]) -> str:
    """The hash of the versions of one snapshot, in the order of flow and number."""
    rows = sorted(versions, key=lambda v: (v.flow, v.number))
    return sha256(b"\n".join(msgspec.json.encode(_vouched_fields(version), order="sorted") for version in rows))


def manifest(files: Iterable[File]) -> bytes:
    """A list of files as JSON lines, by name: what a snapshot holds."""
    rows = sorted(files, key=lambda f: (f.name, f.hash))
    return b"".join(msgspec.json.encode(file, order="sorted") + b"\n" for file in rows)


def files_of(raw: bytes) -> list[File]:
    """The files of a manifest."""
    return [msgspec.json.decode(line, type=File) for line in raw.splitlines() if line]
