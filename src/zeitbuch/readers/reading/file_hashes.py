# Hashes of files that have not changed since they were hashed, by size, time and inode, so that recording an unchanged
# estate need not read it.
"""The cache of content hashes."""

from __future__ import annotations

import os

from .cache import Cache, key_of


class FileHashes:
    """SHA-256 by file, kept in the user's cache folder."""

    def __init__(self, wanted: bool = True) -> None:
        self.cache = Cache(key_of([b"sha256"])) if wanted else None

    def known_hash(self, name: str) -> str | None:
        """The hash of a file that is as it was when it was hashed."""
        raw = self.cache.by_state(os.path.abspath(name), name) if self.cache is not None else None
        return raw.decode() if raw is not None else None

    def put_hash(self, name: str, hash: str) -> None:
        """Keep the hash of a file, with the state it is in."""
        if self.cache is None:
            return
        try:
            state = os.stat(name)
        except OSError:
            return
        raw = hash.encode()
        self.cache.put_entry(os.path.abspath(name), raw, (state.st_size, state.st_mtime_ns, state.st_ino), raw)

    def save_hashes(self) -> None:
        """Write the cache when something is new."""
        if self.cache is not None:
            self.cache.save_cache()
