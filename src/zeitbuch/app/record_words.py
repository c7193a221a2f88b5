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
    name = f"{taken.line}:{taken.snapshot}" if taken.line else str(taken.snapshot)
    if not taken.new:
        noted = "; the note was added to it" if taken.noted else ""
        return f"nothing new since snapshot {name}: {count_words(taken.files, 'file')} as they were{noted}\n"
    counter = Counter(version.status for version in taken.versions)
    flows = f"{counter['added']} added, {counter['changed']} changed, {counter['removed']} removed"
    flows += f", {counter['renumbered']} with another id" if counter["renumbered"] else ""
    files = f"{count_words(taken.files, 'file')}, {taken.fresh} new or changed, {taken.gone} removed"
    lines = [f"snapshot {name} ({taken.at}): {files}; flows: {flows}"]
    if taken.unreadable:
        names = ", ".join(make_inert(name, keep_lines=False) for name in taken.unreadable)
        lines.append(f"  could not be read, neither removed nor unchanged: {names}")
    if taken.snapshot > 1:
        lines += [
            "  " + make_inert(f"{value.name}@{value.number}: {value.summary}", keep_lines=False)
            for value in taken.versions
        ]
    lines.append(f"the last entry of the book has the hash {taken.head}")
    return "\n".join(lines) + "\n"
