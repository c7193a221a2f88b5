# File names made from flow names: plain letters only, never a path, unique within a folder.
"""Names of files for flows."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence


def file_names(titles: Sequence[str]) -> list[str]:
    """One safe, different file name (without suffix) for each title, in order."""
    used: set[str] = set()
    names: list[str] = []
    for title in titles:
        plain = unicodedata.normalize("NFKD", title[:300]).encode("ascii", "ignore").decode().lower()
        base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60].rstrip("-") or "flow"
        name, number = base, 2
        while name in used or name == "index":
            name, number = f"{base}-{number}", number + 1
        used.add(name)
        names.append(name)
    return names
