# Documents as Word files: the styles are those of a template, which a company may replace by its own; what is written is text, tables and a
# picture, so that every program that reads such files shows the same. Equal documents give equal bytes: no clock goes into them.
"""Documents as Word files (ECMA-376)."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.sheet import Sheet, cell_text
from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.theme.terminal import TextLook

from .word_fields import ControlKind, Marks, add_contents, add_control, add_field, clean_text

if TYPE_CHECKING:
    from docx.document import Document
    from docx.text.paragraph import Paragraph

_NO_DATE = (1980, 1, 1, 0, 0, 0)  # the earliest that a ZIP file can say
_WIDTH = 6.7  # inches of an A4 page between its margins
_LETTERS = 86  # letters of a table that stand in it side by side


def write_document_word(document: FlowDocument, look: TextLook) -> dict[str, bytes]:
    """The file of a document by its path."""
    return {f"{document.page.name}.docx": to_word([document])}


def to_word(documents: Sequence[FlowDocument], template: str = "") -> bytes:
    """Documents in one file, each from a new page on: one with its contents behind the first sheet, several with a list of them at the head.
    ``template`` is the path of a Word file whose styles, header and footer are taken. Raises ZeitbuchError when that cannot be read, or the
    library for Word files is missing."""
    made = _empty(template)
    written = [one for one in documents if one.page.kind == "flow"] or list(documents)
    volume = len(written) > 1
    marks = Marks()
    if volume:
        made.add_heading("Flows", 0)
        add_contents(made, [(one.page.title, marks.of(one, "")) for one in written], "1-1")
    for place, one in enumerate(written):
        if place or volume:
            made.add_page_break()  # type: ignore[no-untyped-call]
        for block in one.page.blocks:
            if isinstance(block, d.Heading) and block.anchor == "map" and one.page.kind == "flow":
                made.add_page_break()  # type: ignore[no-untyped-call]
                if not volume:
                    _add_inner_contents(made, one, marks)
            _ADD[type(block)](made, block, one)
            if isinstance(block, d.Heading):
                marks.put(made.paragraphs[-1], one, block)
    return _saved(made)


def _add_inner_contents(made: Document, one: FlowDocument, marks: Marks) -> None:
    """What follows the first sheet, as a list that leads there."""
    titles = [block for block in one.page.blocks if isinstance(block, d.Heading) and block.level == 2 and block.anchor]
    first = next(place for place, block in enumerate(titles) if block.anchor == "map")
    made.add_paragraph().add_run("In this document").bold = True
    add_contents(made, [(block.text, marks.of(one, block.anchor)) for block in titles[first:]], "2-2")


def _empty(template: str) -> Document:
    with telling_missing():
        import docx
        from docx.opc.exceptions import PackageNotFoundError
    try:
        made: Document = docx.Document(template or None)
    except (PackageNotFoundError, OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
        raise fail(
            "path", f"expected a Word file as template, found {template} ({type(error).__name__})", "name a .docx file"
        ) from None
    if not template:
        _set_page(made)
    for paragraph in list(made.paragraphs) if template else ():
        paragraph._element.getparent().remove(paragraph._element)  # what the template shows as an example
    return made


def _set_page(made: Document) -> None:
    """A4 with our margins, a plain face and page numbers."""
    from docx.enum.text import WD_ALIGN_PARAGRAPH
    from docx.shared import Mm, Pt

    section = made.sections[0]
    section.page_width, section.page_height = Mm(210), Mm(297)
    section.left_margin = section.right_margin = Mm(20)
    section.top_margin = section.bottom_margin = Mm(14)
    made.styles["Normal"].font.name = "DejaVu Sans"
    made.styles["Normal"].font.size = Pt(9)
    made.styles["Normal"].paragraph_format.space_after = Pt(2)
    for name, size in (
        ("Title", 17.0),
        ("Heading 1", 10.5),
        ("Heading 2", 10),
        ("Heading 3", 9.5),
        ("Heading 4", 9),
        ("Heading 5", 9),
    ):
        made.styles[name].font.size = Pt(size)
        made.styles[name].paragraph_format.space_before = Pt(4)
        made.styles[name].paragraph_format.space_after = Pt(2)
    footer = section.footer.paragraphs[0]
    footer.alignment = WD_ALIGN_PARAGRAPH.RIGHT
    add_field(footer.add_run(), "PAGE")


def _add_paragraph(made: Document, text: str, *styles: str) -> tuple[Paragraph, bool]:
    """A paragraph, in the first of these styles that the template has; whether it has any. (Given a style by its name, the library goes
    through all of a template, twice, for every paragraph.)"""
    from docx.enum.style import WD_STYLE_TYPE
    from docx.styles import BabelFish

    paragraph = made.add_paragraph(clean_text(text))
    for name in styles:
        style = made.styles.element.get_by_name(BabelFish.ui2internal(name))
        if style is not None and style.type == WD_STYLE_TYPE.PARAGRAPH:
            paragraph._p.style = style.styleId
            return paragraph, True
    return paragraph, False


def _heading(made: Document, block: d.Heading, one: FlowDocument) -> None:
    """A heading of its level, or of the nearest above it that the template has."""
    names = [f"Heading {level}" for level in range(block.level - 1, 0, -1)]
    paragraph, styled = _add_paragraph(made, block.text, *names, "Title")
    if not styled:
        paragraph.runs[0].bold = True


def _paragraph(made: Document, block: d.Paragraph, one: FlowDocument) -> None:
    run = made.add_paragraph().add_run(clean_text(block.text))
    run.italic = block.quiet or None


def _facts(made: Document, block: d.Facts, one: FlowDocument) -> None:
    for key, value in block.pairs:
        paragraph = made.add_paragraph()
        paragraph.add_run(f"{clean_text(key)}: ").bold = True
        paragraph.add_run(clean_text(value))


def _bullets(made: Document, block: d.Bullets, one: FlowDocument) -> None:
    for item in block.items:
        _add_paragraph(made, item, "List Bullet")


def _outline(made: Document, block: d.Outline, one: FlowDocument) -> None:
    from docx.shared import Mm

    for depth, text in block.lines:
        paragraph, _ = _add_paragraph(made, text, "List Bullet")
        paragraph.paragraph_format.left_indent = Mm(6 + 6 * min(depth, 12))


def _table(made: Document, block: d.Table, one: FlowDocument) -> None:
    _add_sheet(made, block.sheet)


def _add_sheet(made: Document, sheet: Sheet) -> None:
    rows = [[column.title for column in sheet.columns]]
    body = [*sheet.rows, *([sheet.total] if sheet.total is not None else [])]
    rows += [[cell_text(value, column.kind) for value, column in zip(row, sheet.columns, strict=True)] for row in body]
    _add_rows(made, rows)


def _add_rows(made: Document, rows: list[list[str]], least: Sequence[int] = ()) -> None:
    """A table of texts, the head first; ``least`` are the letters that each column has room for at least."""
    if not rows[0]:
        return
    from docx.shared import Pt

    table = made.add_table(len(rows), len(rows[0]), style="Table Grid" if "Table Grid" in made.styles else None)
    _share_width(table, rows, least or [6] * len(rows[0]))
    for row, texts in zip(table.rows, rows, strict=True):
        for cell, text in zip(row.cells, texts, strict=True):
            cell.text = clean_text(text)
            cell.paragraphs[0].paragraph_format.space_after = Pt(0)
    for cell in table.rows[0].cells:
        for run in cell.paragraphs[0].runs:
            run.bold = True
    _keep_rows_whole(table)
    behind = made.add_paragraph()
    behind.paragraph_format.space_after = Pt(0)
    behind.paragraph_format.line_spacing = Pt(5)  # two tables must not touch, and a sheet is to fit on its page


def _longest_word(texts: Sequence[str]) -> int:
    return max((len(word) for text in texts for word in re.split(r"[\s-]", text)), default=0)


def _keep_rows_whole(table: Any) -> None:
    """No row is broken across pages, the head stays with the first row and stands on every page (ECMA-376, 17.4.6 and 17.4.50)."""
    from docx.oxml import OxmlElement

    for place, row in enumerate(table.rows):
        about = row._tr.get_or_add_trPr()
        about.append(OxmlElement("w:cantSplit"))
        if place == 0:
            about.append(OxmlElement("w:tblHeader"))
            for cell in row.cells:
                cell.paragraphs[0].paragraph_format.keep_with_next = True


def _share_width(table: Any, rows: list[list[str]], least: Sequence[int]) -> None:
    """Gives each column the room of its longest word, and shares what is left by the longest texts: a sentence needs more than a number."""
    from docx.shared import Inches

    columns = list(zip(*rows, strict=True))
    needs = [float(max(room, _longest_word(texts) + 3)) for room, texts in zip(least, columns, strict=True)]
    wanted = [max(0.0, min(48, max(map(len, texts))) - need) for texts, need in zip(columns, needs, strict=True)]
    left = max(0.0, _LETTERS - sum(needs))
    needs = [
        need + left * (more / sum(wanted) if any(wanted) else 1 / len(needs))
        for need, more in zip(needs, wanted, strict=True)
    ]
    for column, need in zip(table.columns, needs, strict=True):
        column.width = Inches(_WIDTH * need / sum(needs))
        for cell in column.cells:
            cell.width = column.width


def _quote(made: Document, block: d.Quote, one: FlowDocument) -> None:
    if block.label:
        made.add_paragraph().add_run(clean_text(block.label)).bold = True
    _add_paragraph(made, block.text, "Intense Quote")


def _picture(made: Document, block: d.Picture, one: FlowDocument) -> None:
    from docx.shared import Inches

    if one.picture is None:
        return
    image = made.add_picture(io.BytesIO(one.picture()), width=Inches(_WIDTH))
    limit = Inches(8.5)
    if image.height > limit:
        image.width, image.height = int(image.width * limit / image.height), limit
    image._inline.docPr.set("descr", clean_text(block.alt))  # what is read out to those who do not see it


def _links(made: Document, block: d.Links, one: FlowDocument) -> None:
    for title, _, remark in block.items:
        _add_paragraph(made, f"{title}: {remark}", "List Bullet")


_CONTROLS: dict[str, ControlKind] = {"date": "date", "verdict": "verdict"}
_ROOM_TO_SIGN = (6, 14, 14, 8, 8, 16)  # for the pen


def _signatures(made: Document, block: d.Signatures, one: FlowDocument) -> None:
    rows = [list(row) for row in block.rows()]
    _add_rows(made, rows, _ROOM_TO_SIGN)
    for row, line in zip(made.tables[-1].rows[1:], block.lines, strict=True):
        for place, (title, words) in enumerate(zip(rows[0], rows[1 + block.lines.index(line)], strict=True)):
            if place >= 2 and not words:
                add_control(row.cells[place].paragraphs[0], f"{title} ({line.role})", _CONTROLS.get(title, "text"))
    made.add_paragraph().add_run(clean_text(block.remark())).italic = True


def _aside(made: Document, block: d.Aside, one: FlowDocument) -> None:
    """A note: what is added for it is set in, so that nobody takes it for a statement of the export."""
    from docx.shared import Mm

    first = len(made.paragraphs)
    made.add_paragraph().add_run(clean_text(block.label)).italic = True
    for inner in block.blocks:
        _ADD[type(inner)](made, inner, one)
    for paragraph in made.paragraphs[first:]:
        paragraph.paragraph_format.left_indent = (paragraph.paragraph_format.left_indent or 0) + Mm(10)


_ADD: dict[type, Callable[[Any, Any, FlowDocument], None]] = {
    d.Heading: _heading, d.Paragraph: _paragraph, d.Facts: _facts, d.Bullets: _bullets, d.Outline: _outline, d.Table: _table, d.Quote: _quote,
    d.Picture: _picture, d.Links: _links, d.Signatures: _signatures, d.Aside: _aside,
}  # fmt: skip


def _saved(made: Document) -> bytes:
    """The bytes of a file, without any time of its writing."""
    about = made.core_properties
    about.author, about.title, about.comments, about.revision = "Zeitbuch", "", "", 1
    about.created = about.modified = datetime(*_NO_DATE)
    plain = io.BytesIO()
    made.save(plain)
    stamped = io.BytesIO()
    with zipfile.ZipFile(plain) as read, zipfile.ZipFile(stamped, "w", zipfile.ZIP_DEFLATED) as written:
        for name in read.namelist():
            written.writestr(zipfile.ZipInfo(name, _NO_DATE), read.read(name), zipfile.ZIP_DEFLATED)
    return stamped.getvalue()
