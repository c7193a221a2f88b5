# File names made from flow names: plain letters only, never a path or a name that some system keeps for a device, unique within
# a folder.
"""Names of files for flows."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

_DEVICES = frozenset(
    {"con", "prn", "aux", "nul", *[f"{word}{place}" for word in ("com", "lpt") for place in range(10)]}
)


def file_names(titles: Sequence[str]) -> list[str]:
    """One safe, different file name (without suffix) for each title, in order."""
    used: set[str] = {"index", *_DEVICES}
    last: dict[str, int] = {}
    names: list[str] = []
    for title in titles:
        plain = unicodedata.normalize("NFKD", title[:300]).encode("ascii", "ignore").decode().lower()
        base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60].rstrip("-") or "flow"
        name, number = base, last.get(base, 1)
        while name in used:
            number += 1
            name = f"{base}-{number}"
        last[base] = number
        used.add(name)
        names.append(name)
    return names
