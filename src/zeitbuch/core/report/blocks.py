# What a page is made of, whatever writes it: Markdown, HTML, Word or the terminal. The same flow gives the same blocks; nothing here knows the date.
"""Blocks of pages."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from zeitbuch.core.model.sheet import Sheet


class Heading(Struct, frozen=True, tag=True):
    """``level`` 1 to 6; ``anchor`` is unique on its page."""

    level: int
    text: str
    anchor: str = ""


class Paragraph(Struct, frozen=True, tag=True):
    """Plain text; ``quiet`` for remarks."""

    text: str
    quiet: bool = False


class Facts(Struct, frozen=True, tag=True):
    """Pairs of a word and what is to be said of it."""

    pairs: tuple[tuple[str, str], ...]


class Bullets(Struct, frozen=True, tag=True):
    """A list of lines."""

    items: tuple[str, ...]


class Outline(Struct, frozen=True, tag=True):
    """Lines with their depth (0: outermost), each below what it belongs to."""

    lines: tuple[tuple[int, str], ...]


class Table(Struct, frozen=True, tag=True):
    """A sheet within the page."""

    sheet: Sheet


class Quote(Struct, frozen=True, tag=True):
    """Text shown word for word, such as a prompt."""

    label: str
    text: str


class Picture(Struct, frozen=True, tag=True):
    """The place of the map."""

    alt: str


class Links(Struct, frozen=True, tag=True):
    """The index: (title, page name, remark)."""

    items: tuple[tuple[str, str, str], ...]


class SignLine(Struct, frozen=True):
    """What one role signs; by whom, when, with which verdict and where it is signed, or empty for the pen."""

    role: str
    sentence: str
    by: str = ""
    on: str = ""
    verdict: str = ""
    signed: str = ""


class Signatures(Struct, frozen=True, tag=True):
    """The lines that reviewers sign, for the state with this fingerprint."""

    fingerprint: str
    lines: tuple[SignLine, ...] = ()

    def rows(self) -> list[tuple[str, ...]]:
        """The cells of its table, the head first."""
        heads = ("role", "what is signed", "name", "date", "verdict", "signature")
        return [heads, *[(one.role, one.sentence, one.by, one.on, one.verdict, one.signed) for one in self.lines]]

    def remark(self) -> str:
        """What the signatures hold for."""
        words = f"This document describes the state with the fingerprint {self.fingerprint[:16]}. Moving boxes leaves it valid; a changed prompt, model, "
        return words + "link or setting does not. Verdicts: approved, approved with changes, refused."


NoteBlock = Paragraph | Bullets | Outline | Quote


class Aside(Struct, frozen=True, tag=True):
    """What somebody added: who or where from, and the text."""

    label: str
    blocks: tuple[NoteBlock, ...]


Block = Heading | Paragraph | Facts | Bullets | Outline | Table | Quote | Picture | Links | Signatures | Aside


class Page(Struct, frozen=True):
    """One document: file name without suffix, title, blocks."""

    name: str
    title: str
    blocks: tuple[Block, ...]
    kind: Literal["flow", "group", "index"] = "flow"
