# What was read from a file is kept in the user's cache folder, so that a second run over a folder reads only what has
# changed. An entry goes by the hash of the content, the name of the file, and a key of everything else that the result
# depends on (dialects, limits, model map, version). One file for each key: read whole, written beside and moved into
# place, so that runs at the same time never see half of one; what cannot be decoded is as good as absent.
"""The cache of read files."""

from __future__ import annotations

import contextlib
import hashlib
import os
import time
from collections.abc import Iterable
from pathlib import Path

import msgspec
from msgspec import Struct

from zeitbuch.version import __version__

FORM = 2  # of the cache files
MOST = 268_435_456  # bytes of one cache file
STALE = 60 * 86400.0  # seconds after which an entry that no run asked for is dropped
_RACY = 2_000_000_000  # nanoseconds: a file changed so shortly before it was read may change again unseen


class Known(Struct, array_like=True, gc=False):
    """What is known of one file: its state when read, and the hash of its content."""

    size: int
    changed: int
    inode: int
    seen: int
    content: bytes


class Body(Struct, array_like=True):
    """All entries of one key."""

    files: dict[str, Known]
    entries: dict[bytes, bytes]
    used: dict[bytes, float]


def cache_folder() -> Path:
    """The user's cache folder of Zeitbuch."""
    base = os.environ.get("XDG_CACHE_HOME")
    return (Path(base) if base else Path.home() / ".cache") / "zeitbuch"


def key_of(parts: Iterable[bytes]) -> str:
    """The key of a cache file: version, form and all else that results depend on."""
    total = hashlib.blake2b(f"{__version__}/{FORM}".encode(), digest_size=16)
    for part in parts:
        total.update(len(part).to_bytes(8, "big") + part)
    return total.hexdigest()


def content_hash(name: str, data: bytes) -> bytes:
    """The name of an entry: the content of a file and what the file is called."""
    return hashlib.blake2b(
        data, digest_size=16, key=hashlib.blake2b(name.encode("utf-8", "surrogatepass"), digest_size=32).digest()
    ).digest()


class Cache:
    """The entries of one key. ``get`` and ``put`` work in memory; ``save`` writes once, at the end."""

    def __init__(self, key: str) -> None:
        self.path = cache_folder() / f"{key}.read"
        self.fresh = False
        self.body = self._load_body()
        self.asked: set[bytes] = set()

    def _load_body(self) -> Body:
        try:
            raw = self.path.read_bytes()
            if hashlib.blake2b(raw[16:], digest_size=16).digest() == raw[:16]:
                return msgspec.msgpack.decode(raw[16:], type=Body)
        except (OSError, msgspec.MsgspecError, ValueError):
            pass
        return Body({}, {}, {})

    def by_state(self, name: str) -> bytes | None:
        """The entry of a file that has not changed since it was read, by its size, time and inode alone."""
        known = self.body.files.get(name)
        if known is None:
            return None
        try:
            state = os.stat(name)
        except OSError:
            return None
        if (state.st_size, state.st_mtime_ns, state.st_ino) != (known.size, known.changed, known.inode):
            return None
        if known.seen - known.changed < _RACY:
            return None
        return self._entry_of(known.content)

    def _entry_of(self, content: bytes) -> bytes | None:
        entry = self.body.entries.get(content)
        if entry is not None:
            self.asked.add(content)
        return entry

    def put_entry(self, name: str, content: bytes, state: tuple[int, int, int] | None, entry: bytes) -> None:
        """Keep what was read."""
        self.body.entries[content] = entry
        self.asked.add(content)
        self.fresh = True
        if state is not None:
            self.body.files[name] = Known(*state, time.time_ns(), content)

    def save_cache(self) -> None:
        """Write the cache when something is new. A full disk or a read-only folder costs only the cache."""
        if not self.fresh:
            return
        now = time.time()
        body = self.body
        used = {raw: now if raw in self.asked else body.used.get(raw, now) for raw in body.entries}
        entries = {raw: data for raw, data in body.entries.items() if raw in self.asked or now - used[raw] < STALE}
        if sum(map(len, entries.values())) > MOST:
            entries = {raw: data for raw, data in entries.items() if raw in self.asked}
        if sum(map(len, entries.values())) > MOST:
            return
        files = {name: known for name, known in body.files.items() if known.content in entries}
        raw = msgspec.msgpack.encode(Body(files, entries, {raw: used[raw] for raw in entries}))
        import tempfile

        beside = ""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            handle, beside = tempfile.mkstemp(dir=self.path.parent, prefix=".read")
            with os.fdopen(handle, "wb") as file:
                file.write(hashlib.blake2b(raw, digest_size=16).digest() + raw)
            os.replace(beside, self.path)
        except OSError:
            with contextlib.suppress(OSError):
                os.unlink(beside)
