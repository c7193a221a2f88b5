# Copies for the terminal and as Markdown.
"""Writers for copies."""

from __future__ import annotations

from zeitbuch.core.diff.clones import Clone, clone_title, left_words
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import ClonesReport
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.grid import fill_cells
from zeitbuch.writers.table.tables import markdown_text
from zeitbuch.writers.theme.terminal import TextLook

from .text import change_lines, markdown_change


def clones_summary(found: list[Clone]) -> str:
    """'3 pairs of copies; in 1 something was left as it was.'"""
    if not found:
        return "No copies found."
    left = sum(bool(clone.left) for clone in found)
    return f"{count_words(len(found), 'pair')} of copies; in {left} something was left as it was."


def to_text(found: list[Clone], width: int, colour: bool, evidence: bool) -> str:
    """Copies, each with what was left and where they differ."""
    width = min(width, 120)
    lines = [clones_summary(found)]
    for clone in found:
        head = fill_cells(make_inert(clone_title(clone), keep_lines=False), width, "", "  ").split("\n")
        lines += ["", *[f"\x1b[1m{name}\x1b[0m" if colour else name for name in head]]
        for left in clone.left:
            text = f"! {make_inert(left_words(left), keep_lines=False)}"
            lines.append(fill_cells(text, width, "  ", "      "))
            if evidence and left.origin is not None:
                lines.append(f"      @ {make_inert(str(left.origin), keep_lines=False)}")
        for change in clone.changes:
            lines += change_lines(change, "", width, colour, evidence)
        if not clone.changes:
            lines.append("  the same in all that carries meaning")
    return "\n".join(lines) + "\n"


def to_markdown(found: list[Clone]) -> str:
    """Copies for a review."""
    lines = ["# Copies", "", clones_summary(found), ""]
    for clone in found:
        lines += [f"## {markdown_text(clone_title(clone))}", ""]
        lines += [f"- **!** {markdown_text(left_words(left))}" for left in clone.left]
        for change in clone.changes:
            lines += markdown_change(change, "")
        if not clone.changes:
            lines.append("- the same in all that carries meaning")
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def write_text(report: ClonesReport, look: TextLook) -> str:
    """Copies for the terminal."""
    return to_text(list(report.body.clones), look.width, look.colour, look.evidence)


def write_markdown(report: ClonesReport, look: TextLook) -> str:
    """Copies as Markdown."""
    return to_markdown(list(report.body.clones))
