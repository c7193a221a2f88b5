# Copies for the terminal and as Markdown.
"""Writers for copies."""

from __future__ import annotations

from zeitbuch.core.diff.clones import Clone, ClonesResult, copy_title, group_title
from zeitbuch.core.diff.left_over import left_words
from zeitbuch.core.graph.exchanged_words import exchanged_line
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import ClonesReport
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.grid import fill_cells
from zeitbuch.writers.table.tables import markdown_text
from zeitbuch.writers.theme.terminal import TextLook

from .text import change_lines, markdown_change


def clones_summary(found: ClonesResult) -> str:
    """'3 groups of copies; in 1 something was left as it was. 2 words ...'"""
    groups = found.groups
    left = sum(any(clone.left for clone in group.copies) for group in groups)
    said = f"{count_words(len(groups), 'group')} of copies; in {left} something was left as it was."
    if not groups:
        said = "No copies found."
    near = sum(bool(word.near) for word in found.words)
    if found.words:
        said += f" {count_words(len(found.words), 'word')} that flows hand to each other; {near} not written alike."
    return said


def _lines_of_copy(clone: Clone, width: int, colour: bool, evidence: bool) -> list[str]:
    lines = []
    for left in clone.left:
        text = f"! {make_inert(left_words(left), keep_lines=False)}"
        lines.append(fill_cells(text, width, "  ", "      "))
        if evidence and left.origin is not None:
            lines.append(f"      @ {make_inert(str(left.origin), keep_lines=False)}")
    for change in clone.changes:
        lines += change_lines(change, "", width, colour, evidence)
    return lines if clone.changes else [*lines, "  the same in all that carries meaning"]


def to_text(found: ClonesResult, width: int, colour: bool, evidence: bool) -> str:
    """Copies, each with what was left and where they differ; then the words that flows hand to each other."""
    width = min(width, 120)
    lines = [clones_summary(found)]
    for group in found.groups:
        head = fill_cells(make_inert(group_title(group), keep_lines=False), width, "", "  ").split("\n")
        lines += ["", *[f"\x1b[1m{name}\x1b[0m" if colour else name for name in head]]
        for clone in group.copies:
            if len(group.copies) > 1:
                lines.append(fill_cells(f"{make_inert(copy_title(clone), keep_lines=False)}:", width, " ", "   "))
            lines += _lines_of_copy(clone, width, colour, evidence)
    if found.words:
        lines += ["", "Words that flows hand to each other"]
        for word in found.words:
            text = f"{'!' if word.near else '.'} {make_inert(exchanged_line(word), keep_lines=False)}"
            lines.append(fill_cells(text, width, "  ", "      "))
    return "\n".join(lines) + "\n"


def to_markdown(found: ClonesResult) -> str:
    """Copies for a review."""
    lines = ["# Copies", "", clones_summary(found), ""]
    for group in found.groups:
        lines += [f"## {markdown_text(group_title(group))}", ""]
        for clone in group.copies:
            lines += [f"### {markdown_text(copy_title(clone))}", ""] if len(group.copies) > 1 else []
            lines += [f"- **!** {markdown_text(left_words(left))}" for left in clone.left]
            for change in clone.changes:
                lines += markdown_change(change, "")
            lines += [] if clone.changes else ["- the same in all that carries meaning"]
            lines.append("")
    if found.words:
        lines += ["## Words that flows hand to each other", ""]
        lines += [f"- {'**!** ' if word.near else ''}{markdown_text(exchanged_line(word))}" for word in found.words]
    return "\n".join(lines).rstrip() + "\n"


def write_text(report: ClonesReport, look: TextLook) -> str:
    """Copies for the terminal."""
    return to_text(report.body, look.width, look.colour, look.evidence)


def write_markdown(report: ClonesReport, look: TextLook) -> str:
    """Copies as Markdown."""
    return to_markdown(report.body)
