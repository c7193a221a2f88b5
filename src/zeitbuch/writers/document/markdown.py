# Pages as Markdown (CommonMark with tables). Names and values are escaped; prompts stand in fences that are longer
# than any in them.
"""Documents as Markdown."""

from __future__ import annotations

import re

from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.presentations import FlowDocument, PageResult
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.tables import markdown_text, to_markdown
from zeitbuch.writers.theme.terminal import TextLook


def fence_text(text: str) -> str:
    """A text in a code block that it cannot close."""
    longest = max([len(member) for member in re.findall(r"`+", text)] + [2])
    marks = "`" * (longest + 1)
    return f"{marks}text\n{make_inert(text.strip(chr(10)))}\n{marks}"


def _block_markdown(block: d.Block, picture: str) -> str:
    match block:
        case d.Heading(level=level, text=text):
            return f"{'#' * level} {markdown_text(text)}"
        case d.Paragraph(text=text, quiet=quiet):
            words = markdown_text(text)
            return f"*{words}*" if quiet and words else words
        case d.Facts(pairs=pairs):
            return "\n".join(f"- **{markdown_text(key)}:** {markdown_text(value)}" for key, value in pairs)
        case d.Bullets(items=items):
            return "\n".join(f"- {markdown_text(key)}" for key in items)
        case d.Outline(lines=lines):
            return "\n".join(f"{'  ' * depth}- {markdown_text(text)}" for depth, text in lines)
        case d.Table(sheet=sheet):
            return to_markdown(sheet).rstrip()
        case d.Quote(label=label, text=text):
            return (f"**{markdown_text(label)}**\n\n" if label else "") + fence_text(text)
        case d.Aside(label=label, blocks=blocks):
            inner = "\n\n".join([f"*{markdown_text(label)}*", *[_block_markdown(one, "") for one in blocks]])
            return "\n".join(f"> {line}".rstrip() for line in inner.split("\n"))
        case d.Picture(alt=alt):
            return f"![{markdown_text(alt)}]({picture})"
        case d.Links(items=items):
            return "\n".join(f"- [{markdown_text(text)}]({name}.md): {markdown_text(r)}" for text, name, r in items)
        case d.Signatures():
            return _signatures_markdown(block)


def _signatures_markdown(block: d.Signatures) -> str:
    head, *lines = block.rows()
    rows = [head, ("---",) * len(head), *[tuple(markdown_text(cell) for cell in line) for line in lines]]
    table = "\n".join(f"| {' | '.join(row)} |" for row in rows)
    return f"{table}\n\n*{markdown_text(block.remark())}*"


def to_markdown_page(page: d.Page, picture: str = "") -> str:
    """A page as Markdown; ``picture`` is the path of the map from the page."""
    return "\n\n".join(_block_markdown(second, picture) for second in page.blocks) + "\n"


def write_markdown(result: PageResult, look: TextLook) -> str:
    """A page as Markdown."""
    return to_markdown_page(result.page)


def write_document_markdown(document: FlowDocument, look: TextLook) -> dict[str, str]:
    """The files of a document by their paths: the page, and its map as a drawing of its own."""
    page = document.page
    if document.map is None:
        return {f"{page.name}.md": to_markdown_page(page)}
    picture = f"maps/{page.name}.svg"
    return {picture: document.map(False), f"{page.name}.md": to_markdown_page(page, picture)}
