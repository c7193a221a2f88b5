# A terminal that can makes of a place a link to its file (the escape sequence OSC 8); one that cannot shows the same letters.
"""Places of files as links."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

_ENDS = ("!", "#", ":")  # behind a file: a member of a package, a pointer, a line


def link_place(text: str) -> str:
    """The text of a place, as a link to its file where there is one on this machine."""
    target = _file_of(text.strip())
    return f"\x1b]8;;{target}\x1b\\{text}\x1b]8;;\x1b\\" if target else text


@lru_cache(maxsize=2_000)
def _file_of(place: str) -> str:
    """The address of the file at a place; empty where none is there."""
    for name in (place, *[place.partition(end)[0] for end in _ENDS]):
        try:
            if name and Path(name).is_file():
                return Path(name).absolute().as_uri()
        except (OSError, ValueError):
            continue
    return ""
