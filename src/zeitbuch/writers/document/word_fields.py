# What python-docx has no words for: fields, bookmarks, content controls. A list of contents has its entries already, so that every program shows them;
# pages are put in when somebody updates it.
"""Fields and content controls of Word files (ECMA-376 part 1)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, Literal

from zeitbuch.core.report import blocks as d
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.escape.text import make_inert

ControlKind = Literal["text", "date", "verdict"]
_NOT_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2
_VERDICTS = ("approved", "approved with changes", "refused")
_ROOM = "\u2003" * 4  # an empty control as wide as a few letters: it can be filled in with a pen, too


def clean_text(text: str) -> str:
    """A text as Word files may hold it."""
    return _NOT_XML.sub("?", make_inert(text, keep_lines=True))


def _element(tag: str, /, **values: str) -> Any:
    from docx.oxml import OxmlElement
    from docx.oxml.ns import qn

    made = OxmlElement(f"w:{tag}")
    for key, value in values.items():
        made.set(qn(f"w:{key}"), value)
    return made


def add_field(run: Any, code: str) -> None:
    """A field such as the number of the page (17.16)."""
    run._r.append(_element("fldChar", fldCharType="begin"))
    run._r.append(_instruction(code))
    run._r.append(_element("fldChar", fldCharType="end"))


def _instruction(code: str) -> Any:
    words = _element("instrText")
    words.set("{http://www.w3.org/XML/1998/namespace}space", "preserve")
    words.text = code
    return words


class Marks:
    """The bookmarks of headings (17.13.6): a name and a number for each."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, str], int] = {}

    def of(self, one: FlowDocument, anchor: str) -> str:
        """The name of a heading of a document; its title has no anchor."""
        return f"zb{self._known.setdefault((id(one), anchor), len(self._known) + 1)}"

    def put(self, paragraph: Any, one: FlowDocument, block: d.Heading) -> None:
        """Marks a heading that something leads to."""
        number = self._known.get((id(one), block.anchor if block.level > 1 else ""))
        if number is None:
            return
        start = _element("bookmarkStart", id=str(number), name=f"zb{number}")
        paragraph._p.insert(1 if paragraph._p.pPr is not None else 0, start)
        paragraph._p.append(_element("bookmarkEnd", id=str(number)))


def add_contents(made: Any, entries: Sequence[tuple[str, str]], levels: str) -> None:
    """A list of contents (17.16.5.68) of headings of these levels; ``entries`` are titles and bookmarks."""
    paragraphs = [made.add_paragraph() for _ in entries]
    for paragraph, (title, mark) in zip(paragraphs, entries, strict=True):
        link = _element("hyperlink", anchor=mark, history="1")
        link.append(paragraph.add_run(clean_text(title))._r)
        paragraph._p.append(link)
    if not paragraphs:
        return
    begin, end = paragraphs[0].add_run()._r, paragraphs[-1].add_run()._r
    for part in (
        _element("fldChar", fldCharType="begin"),
        _instruction(f'TOC \\o "{levels}" \\h'),
        _element("fldChar", fldCharType="separate"),
    ):
        begin.append(part)
    paragraphs[0]._p.insert(1 if paragraphs[0]._p.pPr is not None else 0, begin)
    end.append(_element("fldChar", fldCharType="end"))


def add_control(paragraph: Any, title: str, kind: ControlKind) -> None:
    """A content control (17.5.2) in an empty paragraph: a text, a day, or a choice of verdicts."""
    about = _element("sdtPr")
    about.append(_element("alias", val=clean_text(title)))
    about.append(_element("showingPlcHdr"))
    if kind == "date":
        day = _element("date")
        day.append(_element("dateFormat", val="yyyy-MM-dd"))
        about.append(day)
    elif kind == "verdict":
        choice = _element("dropDownList")
        for words in _VERDICTS:
            choice.append(_element("listItem", displayText=words, value=words))
        about.append(choice)
    else:
        about.append(_element("text"))
    content = _element("sdtContent")
    content.append(paragraph.add_run(_ROOM)._r)
    control = _element("sdt")
    control.append(about)
    control.append(content)
    paragraph._p.append(control)
