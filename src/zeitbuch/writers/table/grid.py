# Terminal tables drawn directly: a general table renderer was measured at 1.2 ms a row, more than reading the flow
# the row is about. Widths come from a library's table of character cells, asked only for text beyond ASCII.
"""Rows of cells as aligned lines of text."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache

GAP = "   "
NARROW_GAP = "  "  # where a table would not fit otherwise
_UNBROKEN = re.compile(r"\S+(?: %\S*)?")  # words, a number and its per cent sign together


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
    for word in _UNBROKEN.findall(text):
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


def align_rows(
    rows: Sequence[Sequence[str]], widths: Sequence[int], right: Sequence[bool], gap: str = GAP
) -> list[str]:
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
        return [gap.join(row).rstrip() for row in zip(*padded, strict=True)]
    return _break_rows(rows, widths, right, padded, gap)


def _break_rows(
    rows: Sequence[Sequence[str]],
    widths: Sequence[int],
    right: Sequence[bool],
    padded: list[list[str | None]],
    gap: str,
) -> list[str]:
    found: list[str] = []
    for row, plain in zip(rows, zip(*padded, strict=True), strict=True):
        if None not in plain:
            found.append(gap.join(plain).rstrip())
            continue
        broken = [
            (part,) if part is not None else _align_cell(cell, width, to_right)
            for cell, part, width, to_right in zip(row, plain, widths, right, strict=True)
        ]
        for place in range(max(map(len, broken))):
            parts = [
                cell[place] if place < len(cell) else " " * width for cell, width in zip(broken, widths, strict=True)
            ]
            found.append(gap.join(parts).rstrip())
    return found


def fill_cells(text: str, width: int, first: str = "", rest: str = "") -> str:
    """A text on lines of at most ``width`` cells, the first led by ``first`` and the others by ``rest``; the one wrapping of
    sentences, where ``wrap_cells`` is that of cells of a table."""
    lines: list[str] = []
    line, empty = first, True
    for gap, word in re.findall(r"(\s*)(\S+)", text):
        space = "" if empty else gap
        if not empty and cell_width(line) + cell_width(space) + cell_width(word) > width:
            lines.append(line)
            line, empty, space = rest, True, ""
        room = width - cell_width(line) - cell_width(space)
        for piece in _pieces(word, room, width - cell_width(rest)):
            if piece is None:
                lines.append(line)
                line = rest
            else:
                line, space = line + space + piece, ""
        empty = False
    return "\n".join(lines if empty and lines else [*lines, line])


def _pieces(word: str, room: int, later: int) -> Iterator[str | None]:
    """A word, cut where it is longer than a whole line; None stands for a new line."""
    room, later = max(1, room), max(1, later)
    start = used = 0
    if cell_width(word) > room:
        # Letter by letter: to measure the rest anew for every cut takes minutes for a word of some thousand letters.
        for place, letter in enumerate(word):
            wide = cell_width(letter)
            if used + wide > room and place > start:
                yield word[start:place]
                yield None
                start, used, room = place, 0, later
            used += wide
    yield word[start:]
