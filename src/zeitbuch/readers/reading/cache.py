# What was read from a file is kept in the user's cache folder, so that a second run over a folder reads only what has
# changed. An entry goes by the hash of the content, the name of the file, and a key of everything else that the result
# depends on (dialects, limits, model map, version). One file for each key, written beside and moved into place, so that runs at
# the same time never see half of one: a head that says where the entries stand, and the entries, each with its own hash. What is
# damaged is as good as absent and costs nothing to the others.
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

from zeitbuch.readers.secrets.labels import PROCESS_KEY
from zeitbuch.version import __version__

FORM = 3  # of the cache files
MOST = 268_435_456  # bytes of one cache file
MOST_ENTRY = 33_554_432  # bytes of one entry: what is larger is read anew each time
STALE = 60 * 86400.0  # seconds after which an entry that no run asked for is dropped
_RACY = 2_000_000_000  # nanoseconds: a file changed so shortly before it was read may change again unseen


class Known(Struct, array_like=True, gc=False):
    """What is known of one file: its state when read, and the hash of its content."""

    size: int
    changed: int
    inode: int
    seen: int
    content: bytes


class Place(Struct, array_like=True, gc=False):
    """Where an entry stands behind the head, its hash, and when a run last asked for it."""

    start: int
    length: int
    hash: bytes
    used: float


class Head(Struct, array_like=True):
    """What a cache file holds: states of files, and places of entries by content."""

    files: dict[str, Known]
    places: dict[bytes, Place]


def cache_folder() -> Path:
    """The user's cache folder of Zeitbuch."""
    base = os.environ.get("XDG_CACHE_HOME")
    return (Path(base) if base else Path.home() / ".cache") / "zeitbuch"


def digest_key(kept: bool = True) -> bytes:
    """The key by which secrets of two versions are compared: the user's own, made once and ``kept`` in the cache folder; where there is
    none, that of this process."""
    path = cache_folder() / "digest.key"
    known = _read_key(path)
    if len(known) == len(PROCESS_KEY) or not kept:
        return known or PROCESS_KEY
    own = path.with_name(f"digest.{os.getpid()}.part")
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        with os.fdopen(os.open(own, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            file.write(PROCESS_KEY)
        if known:
            os.replace(own, path)  # what is damaged is of no use
        else:
            os.link(own, path)  # fails where another run was quicker: its key is read below
    with contextlib.suppress(OSError):
        own.unlink()
    return _read_key(path) or PROCESS_KEY


def _read_key(path: Path) -> bytes:
    try:
        return path.read_bytes()[: len(PROCESS_KEY)]
    except OSError:
        return b""


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


def _short_hash(raw: bytes | memoryview) -> bytes:
    return hashlib.blake2b(raw, digest_size=16).digest()


class Cache:
    """The entries of one key. Entries are put and taken in memory; ``save_cache`` writes once, at the end."""

    def __init__(self, key: str) -> None:
        self.path = cache_folder() / f"{key}.read"
        self.fresh: dict[bytes, bytes] = {}
        self.head, self.entries = self._load_file()
        self.asked: set[bytes] = set()

    def _load_file(self) -> tuple[Head, memoryview]:
        try:
            raw = memoryview(self.path.read_bytes())
            length = int.from_bytes(raw[:8], "big")
            head = raw[24 : 24 + length]
            if _short_hash(head) == raw[8:24]:
                return msgspec.msgpack.decode(head, type=Head), raw[24 + length :]
        except (OSError, msgspec.MsgspecError, ValueError):
            pass
        return Head({}, {}), memoryview(b"")

    def contents(self) -> frozenset[bytes]:
        """The contents of which there are entries."""
        return frozenset(self.head.places) | frozenset(self.fresh)

    def by_state(self, name: str, path: str) -> bytes | None:
        """The entry of a file, lying at ``path``, that has not changed since it was read, by its size, time and inode alone."""
        known = self.head.files.get(name)
        if known is None or not path:
            return None
        try:
            state = os.stat(path)
        except OSError:
            return None
        if (state.st_size, state.st_mtime_ns, state.st_ino) != (known.size, known.changed, known.inode):
            return None
        if known.seen - known.changed < _RACY:
            return None
        return self.entry_of(known.content)

    def entry_of(self, content: bytes) -> bytes | None:
        """The entry of a content; None when there is none, or a damaged one."""
        entry = self.fresh.get(content)
        place = self.head.places.get(content)
        if entry is None and place is not None:
            raw = self.entries[place.start : place.start + place.length]
            entry = bytes(raw) if _short_hash(raw) == place.hash else None
        if entry is not None:
            self.asked.add(content)
        return entry

    def put_entry(self, name: str, content: bytes, state: tuple[int, int, int] | None, entry: bytes) -> None:
        """Keep what was read, unless it is so large that it would drive out the others."""
        if len(entry) > MOST_ENTRY:
            return
        self.fresh[content] = entry
        self.asked.add(content)
        if state is not None:
            self.head.files[name] = Known(*state, time.time_ns(), content)

    def _kept_entries(self) -> dict[bytes, tuple[bytes | memoryview, float]]:
        """Entries to write, with their times: those asked for, then the others from the newest on, as far as there is room."""
        now = time.time()
        times = {content: now if content in self.asked else place.used for content, place in self.head.places.items()}
        times.update(dict.fromkeys(self.fresh, now))
        kept: dict[bytes, tuple[bytes | memoryview, float]] = {}
        room = MOST
        for content in sorted(times, key=lambda content: -times[content]):
            place = self.head.places.get(content)
            raw: bytes | memoryview | None = self.fresh.get(content)
            if raw is None and place is not None:
                raw = self.entries[place.start : place.start + place.length]
            if raw is None or len(raw) > room or now - times[content] >= STALE:
                continue
            room -= len(raw)
            kept[content] = raw, times[content]
        return kept

    def save_cache(self) -> None:
        """Write the cache when something is new. A full disk or a read-only folder costs only the cache."""
        if not self.fresh:
            return
        kept = self._kept_entries()
        places: dict[bytes, Place] = {}
        start = 0
        for content, (raw, used) in kept.items():
            held = self.head.places.get(content)
            # The hash of an entry that was damaged stays what it was, so that it stays damaged and is never believed.
            digest = held.hash if held is not None and content not in self.fresh else _short_hash(raw)
            places[content] = Place(start, len(raw), digest, used)
            start += len(raw)
        files = {name: known for name, known in self.head.files.items() if known.content in kept}
        head = msgspec.msgpack.encode(Head(files, places))
        self._write_file(head, [raw for raw, _ in kept.values()])

    def _write_file(self, head: bytes, entries: list[bytes | memoryview]) -> None:
        import tempfile

        beside = ""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            handle, beside = tempfile.mkstemp(dir=self.path.parent, prefix=".read")
            with os.fdopen(handle, "wb") as file:
                file.write(len(head).to_bytes(8, "big") + _short_hash(head) + head)
                file.writelines(entries)
            os.replace(beside, self.path)
        except BaseException as error:
            with contextlib.suppress(OSError):
                os.unlink(beside)
            if not isinstance(error, OSError):
                raise
