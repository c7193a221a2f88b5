# Pages for the terminal: wrapped to its width, headings bold when colour is wanted, tables drawn.
"""Documents as plain text."""

from __future__ import annotations

from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.presentations import PageResult
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.grid import cell_width, fill_cells
from zeitbuch.writers.table.tables import to_table
from zeitbuch.writers.theme.terminal import TextLook


def _wrap_lines(text: str, width: int, first: str = "", rest: str = "", hang: str = "") -> str:
    lines = []
    for index, line in enumerate(make_inert(text).split("\n")):
        lead = line[: len(line) - len(line.lstrip())]
        start = (first if index == 0 else rest) + lead
        lines.append(fill_cells(line.strip(), width, start, rest + lead + hang))
    return "\n".join(lines)


def to_text(page: d.Page, width: int, colour: bool) -> str:
    """A page for a terminal of that width."""
    width = min(width, 110)
    parts: list[str] = []
    for block in page.blocks:
        match block:
            case d.Heading(level=level, text=text):
                words = make_inert(text, keep_lines=False)
                parts.append(
                    f"\x1b[1m{words}\x1b[0m"
                    if colour
                    else words + ("\n" + "=" * min(cell_width(words), width) if level == 1 else "")
                )
            case d.Paragraph(text=text):
                parts.append(_wrap_lines(text, width))
            case d.Facts(pairs=pairs):
                size = max([len(key) for key, _ in pairs] or [0])
                parts.append(
                    "\n".join(
                        _wrap_lines(f"{value}", width, f"{key:<{size}}  ", " " * (size + 2)) for key, value in pairs
                    )
                )
            case d.Bullets(items=items):
                parts.append("\n".join(_wrap_lines(key, width, hang="  ") for key in items))
            case d.Outline(lines=lines):
                parts.append("\n".join(_wrap_lines("  " * depth + text, width, hang="  ") for depth, text in lines))
            case d.Table(sheet=sheet):
                parts.append(to_table(sheet, width, colour).strip("\n"))
            case d.Aside(label=label, blocks=blocks):
                inner = to_text(d.Page("", "", blocks), width - 4, colour).rstrip()
                parts.append("\n".join([f"| {label}", *[f"| {line}".rstrip() for line in inner.split("\n")]]))
            case d.Quote(label=label, text=text):
                parts.append(
                    (f"{make_inert(label)}:\n" if label else "")
                    + "\n".join(_wrap_lines(line, width, "  | ", "  | ") for line in text.strip().split("\n"))
                )
            case _:
                continue
    return "\n\n".join(parts) + "\n"


def write_text(result: PageResult, look: TextLook) -> str:
    """A page as text for the terminal."""
    return to_text(result.page, look.width, look.colour)
