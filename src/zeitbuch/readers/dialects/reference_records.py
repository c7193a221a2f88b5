"""What the reference of the dialect language is made of."""

from __future__ import annotations

from typing import NamedTuple


class Key(NamedTuple):
    """One key: what it says, and an example as it is written in the file."""

    name: str
    words: str
    example: str


class TableOfKeys(NamedTuple):
    """One table of a dialect file: the type it is, how it is headed, what it is for, and its keys."""

    kind: str
    header: str
    words: str
    keys: tuple[Key, ...]
