# What a book holds, as records, and the hashes that chain them. Hashes are taken over JSON with sorted keys, so that any
# other program can check them.
"""Records and hashes of the book."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Literal

import msgspec
from msgspec import Struct, field

NOTHING = "0" * 64  # before the first entry
Status = Literal["added", "changed", "removed"]


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
    """What a snapshot vouches for: the hash of its list of files (a content of its own) and of its versions; and the figures of
    the estate."""

    files: str
    count: int
    versions: str
    estimated: EstateCosts = field(default=EstateCosts(), name="reckoned")  # the name that books have


class Entry(Struct, frozen=True):
    """One link of the chain. ``number`` counts entries of its kind, ``at`` is UTC (RFC 3339)."""

    seq: int
    kind: str
    number: int
    at: str
    who: str
    note: str
    body: str
    previous: str
    hash: str = ""


class Version(Struct, frozen=True):
    """One version of a flow. ``flow`` is its key in the book, ``number`` counts its versions from 1. ``file``, ``member`` and
    ``hash`` say where its bytes are; ``calls``, ``run`` and ``month`` (decimal numbers) are the figures when it was recorded,
    ``unpriced`` what had no price then."""

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


def sha256(data: bytes) -> str:
    """SHA-256 in hexadecimal digits."""
    return hashlib.sha256(data).hexdigest()


def entry_hash(entry: Entry) -> str:
    """The hash of an entry: over all its fields but the hash."""
    fields = {key: getattr(entry, key) for key in entry.__struct_fields__ if key != "hash"}
    return sha256(msgspec.json.encode(fields, order="sorted"))


def versions_hash(versions: Iterable[Version]) -> str:
    """The hash of the versions of one snapshot, in the order of flow and number."""
    rows = sorted(versions, key=lambda v: (v.flow, v.number))
    return sha256(b"\n".join(msgspec.json.encode(version, order="sorted") for version in rows))


def manifest(files: Iterable[File]) -> bytes:
    """A list of files as JSON lines, by name: what a snapshot holds."""
    rows = sorted(files, key=lambda f: (f.name, f.hash))
    return b"".join(msgspec.json.encode(file, order="sorted") + b"\n" for file in rows)


def files_of(raw: bytes) -> list[File]:
    """The files of a manifest."""
    return [msgspec.json.decode(line, type=File) for line in raw.splitlines() if line]
