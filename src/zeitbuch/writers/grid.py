# Terminal tables drawn directly: a general table renderer was measured at 1.2 ms a row, more than reading the flow
# the row is about. Widths come from a library's table of character cells, asked only for text beyond ASCII.
"""Rows of cells as aligned lines of text."""

from __future__ import annotations

from collections.abc import Sequence

GAP = "   "


def size(text: str) -> int:
    """Terminal cells that a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def wrapped(text: str, width: int) -> list[str]:
    """A text on lines of at most ``width`` cells, broken between words, within a word only where it is longer."""
    if size(text) <= width:
        return [text]
    lines: list[str] = []
    line = ""
    for word in text.split():
        if line and size(line) + 1 + size(word) <= width:
            line = f"{line} {word}"
            continue
        if line:
            lines.append(line)
        line = ""
        for letter in word:
            if size(line + letter) > width:
                lines.append(line)
                line = ""
            line += letter
    return [*lines, line] if line else lines


def lines(rows: Sequence[Sequence[str]], widths: Sequence[int], right: Sequence[bool]) -> list[str]:
    """Each row as one or more lines; cells are wrapped and aligned."""
    found: list[str] = []
    columns = list(zip(widths, right, strict=True))
    for row in rows:
        if all([cell.isascii() and len(cell) <= width for cell, width in zip(row, widths, strict=True)]):
            parts = [
                cell.rjust(width) if to_right else cell.ljust(width)
                for cell, (width, to_right) in zip(row, columns, strict=True)
            ]
            found.append(GAP.join(parts).rstrip())
            continue
        cells = [wrapped(cell, width) for cell, width in zip(row, widths, strict=True)]
        for at in range(max(map(len, cells))):
            parts = []
            for cell, width, to_right in zip(cells, widths, right, strict=True):
                text = cell[at] if at < len(cell) else ""
                blank = " " * (width - size(text))
                parts.append(blank + text if to_right else text + blank)
            found.append(GAP.join(parts).rstrip())
    return found
