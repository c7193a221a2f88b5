# Terminal tables drawn directly: a general table renderer was measured at 1.2 ms a row, more than reading the flow
# the row is about. Widths come from a library's table of character cells, asked only for text beyond ASCII.
"""Rows of cells as aligned lines of text."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

GAP = "   "


def cell_width(text: str) -> int:
    """Terminal cells that a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def wrap_cells(text: str, width: int) -> list[str]:
    """A text on lines of at most ``width`` cells, broken between words, within a word only where it is longer."""
    if cell_width(text) <= width:
        return [text]
    lines: list[str] = []
    line = ""
    for word in text.split():
        if line and cell_width(line) + 1 + cell_width(word) <= width:
            line = f"{line} {word}"
            continue
        if line:
            lines.append(line)
        line = ""
        for letter in word:
            if cell_width(line + letter) > width:
                lines.append(line)
                line = ""
            line += letter
    return [*lines, line] if line else lines


@lru_cache(maxsize=10_000)
def _align_cell(cell: str, width: int, to_right: bool) -> tuple[str, ...]:
    """The lines of one cell, each filled up to the width."""
    made = []
    for text in wrap_cells(cell, width):
        blank = " " * (width - cell_width(text))
        made.append(blank + text if to_right else text + blank)
    return tuple(made)


def align_rows(rows: Sequence[Sequence[str]], widths: Sequence[int], right: Sequence[bool]) -> list[str]:
    """Each row as one or more lines; cells are wrapped and aligned."""
    if not rows:
        return []
    # Column by column: most cells fit and are plain, and are padded without a second look.
    padded: list[list[str | None]] = []
    whole = True
    for cells, width, to_right in zip(zip(*rows, strict=True), widths, right, strict=True):
        pad = str.rjust if to_right else str.ljust
        made = [pad(child, width) if child.isascii() and len(child) <= width else None for child in cells]
        whole = whole and None not in made
        padded.append(made)
    if whole:
        return [GAP.join(row).rstrip() for row in zip(*padded, strict=True)]
    found: list[str] = []
    for row, plain in zip(rows, zip(*padded, strict=True), strict=True):
        if None not in plain:
            found.append(GAP.join(plain).rstrip())
            continue
        broken = [
            (part,) if part is not None else _align_cell(cell, width, to_right)
            for cell, part, width, to_right in zip(row, plain, widths, right, strict=True)
        ]
        for place in range(max(map(len, broken))):
            parts = [
                cell[place] if place < len(cell) else " " * width for cell, width in zip(broken, widths, strict=True)
            ]
            found.append(GAP.join(parts).rstrip())
    return found
