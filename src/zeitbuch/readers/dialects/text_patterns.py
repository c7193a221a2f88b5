# Several things written into one text, such as "sort:yes -> file". The text is walked once from left to right and never back, so
# that no text can make it slow.
"""Patterns that take a text apart."""

from __future__ import annotations

import re
from typing import NamedTuple

from zeitbuch.core.model.problems import fail

_TOKEN = re.compile(r"\{([^{}\[\]]+)\}|((?<!\[)\[(?!\[)|(?<!\])\](?!\]))|((?:[^{}\[\]]|\[\[|\]\])+)")


class _Part(NamedTuple):
    """A literal with the name behind it; either may be empty. An optional one may be missing. ``written`` is the literal with the
    space around it."""

    literal: str
    name: str
    optional: bool
    written: str


class TextPattern:
    """A pattern such as ``{from}[:{outlet}] -> {to}``: names in braces, divided by literals; a literal with its name may stand in
    brackets; two brackets are one that is meant as such. Space around names and literals does not count.

    Raises ZeitbuchError when it names nothing, a thing twice, or two things with nothing between them."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.parts = _parts_of(text)
        self.names = [part.name for part in self.parts if part.name]

    def take_apart(self, text: str) -> dict[str, str] | None:
        """The things in a text by name; None when it is not like the pattern."""
        found: dict[str, str] = {}
        open_name, position = "", 0
        for place, part in enumerate(self.parts):
            if not part.literal:
                open_name = part.name
                continue
            at = text.find(part.literal, position)
            if part.optional and (at < 0 or at > self._next_literal(text, place, position)):
                continue
            if at < 0 or (not open_name and text[position:at].strip()):
                return None
            if open_name:
                found[open_name] = text[position:at].strip()
            open_name, position = part.name, at + len(part.literal)
        rest = text[position:].strip()
        if open_name:
            found[open_name] = rest
        elif rest:
            return None
        return found

    def put_together(self, words: list[str]) -> str | None:
        """The text of these words, in the order of the names; None when one is missing (empty) that may not be."""
        left = dict(zip(self.names, words, strict=False))
        if any(part.name and not part.optional and not left.get(part.name) for part in self.parts):
            return None
        told = [part for part in self.parts if not part.optional or left.get(part.name)]
        return "".join(part.written + left.get(part.name, "") for part in told)

    def _next_literal(self, text: str, place: int, position: int) -> int:
        for part in self.parts[place + 1 :]:
            if not part.optional:
                at = text.find(part.literal, position)
                return at if at >= 0 else len(text)
        return len(text)


def _parts_of(text: str) -> list[_Part]:
    parts: list[_Part] = []
    literal, written, optional, ended = "", "", False, 0
    for token in _TOKEN.finditer(text):
        ended += len(token[0])
        name, bracket, words = token.groups()
        if bracket:
            if (bracket == "[") == optional or literal:
                raise _wrong(text)
            optional = bracket == "["
        elif name:
            if parts and not literal:
                raise _wrong(text)
            parts.append(_Part(literal, name, optional, written))
            literal = written = ""
        else:
            words = words.replace("[[", "[").replace("]]", "]")
            literal, written = words.strip() or words, words
    if literal:
        parts.append(_Part(literal, "", False, written))
    names = [part.name for part in parts if part.name]
    if ended < len(text) or optional or not names or len(set(names)) < len(names) or (parts and parts[0].optional):
        raise _wrong(text)
    return parts


def _wrong(text: str) -> Exception:
    expected = "expected names in braces, each once and with something between them"
    return fail("dialect-key", f"{expected}, found '{text}'", "example: {from}[:{outlet}] -> {to}")
