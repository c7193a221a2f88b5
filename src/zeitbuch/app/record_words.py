# What a recording says of itself on the terminal.
"""Snapshots in words."""

from __future__ import annotations

from collections import Counter

from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import BodyResult
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook


def write_text(result: BodyResult, look: TextLook) -> str:
    """A snapshot that was taken (``result.body`` is a ``Taken``), a line for itself and one for each version."""
    taken = result.body
    if not taken.new:
        return f"nothing new since snapshot {taken.snapshot}: {count_words(taken.files, 'file')} as they were\n"
    counter = Counter(version.status for version in taken.versions)
    flows = f"{counter['added']} added, {counter['changed']} changed, {counter['removed']} removed"
    files = f"{count_words(taken.files, 'file')}, {taken.fresh} new or changed, {taken.gone} removed"
    lines = [f"snapshot {taken.snapshot} ({taken.at}): {files}; flows: {flows}"]
    if taken.snapshot > 1:
        lines += [
            "  " + make_inert(f"{value.name}@{value.number}: {value.summary}", keep_lines=False)
            for value in taken.versions
        ]
    return "\n".join(lines) + "\n"
