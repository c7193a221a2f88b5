# Names of files for flows: plain and unique within a folder.
"""Names of files for flows."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.model.plain_names import DEVICES, plain_name


def file_names(titles: Sequence[str]) -> list[str]:
    """One safe, different file name (without suffix) for each title, in order."""
    used: set[str] = {"index", *DEVICES}
    last: dict[str, int] = {}
    names: list[str] = []
    for title in titles:
        base = plain_name(title)
        name, number = base, last.get(base, 1)
        while name in used:
            number += 1
            name = f"{base}-{number}"
        last[base] = number
        used.add(name)
        names.append(name)
    return names
