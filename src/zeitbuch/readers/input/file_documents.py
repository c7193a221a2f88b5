# A YAML file may hold several documents, one behind another, and a file of JSON Lines one in every line. Each is read by itself;
# empty lines stand in the place of those before it, so that lines are those of the file.
"""The documents of a file."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.model.records import Origin

from .sources import STDIN_NAME

# YAML 1.2.2, section 9.1.2: "---" at the start of a line begins a document, wherever it stands.
_START = re.compile(rb"^---(?=[ \t\r\n]|\Z)", re.MULTILINE)
_SAYS = re.compile(rb"^[ \t]*[^ \t\r\n#%.]", re.MULTILINE)  # neither comment, directive nor the end of a document
_PADDED = 20_000_000  # newlines in all; a file of very many documents has lines of the document instead
MEMBER = re.compile(r"(?:document|line)-(\d+)\.(?:yaml|json)")
LINES = (".jsonl", ".ndjson")


def documents_of(base: Origin, data: bytes) -> Iterator[tuple[Origin, bytes]]:
    """The documents of a file, each with its place; a file of another form, or with one document, as it is."""
    if (base.member or base.source).lower().endswith(LINES):
        yield from _documents_of_lines(base, data)
        return
    spans = _spans_of(base, data)
    if len(spans) < 2:
        yield base, data[: spans[0][1]] if spans else data
        return
    padded = len(spans) * data.count(b"\n") <= _PADDED
    for place, (begin, end) in enumerate(spans, 1):
        member = f"document-{place}.yaml" if base.member is None else f"{base.member} document-{place}.yaml"
        before = b"\n" * data.count(b"\n", 0, begin) if padded else b""
        yield Origin(base.source, "", member), before + data[begin:end]


def _documents_of_lines(base: Origin, data: bytes) -> Iterator[tuple[Origin, bytes]]:
    """One document a line; the member is named after the line, which stands by itself."""
    for number, line in enumerate(data.split(b"\n"), 1):
        if line.strip():
            member = f"line-{number}.json"
            yield Origin(base.source, "", member if base.member is None else f"{base.member} {member}"), line


def one_document(name: str, member: str, data: bytes) -> bytes:
    """The document of a file that its place names; all of the file when it is none of them."""
    found = MEMBER.fullmatch(member)
    if found is None:
        return data
    if member.startswith("line-"):
        lines = data.split(b"\n")
        return lines[int(found[1]) - 1] if int(found[1]) <= len(lines) else data
    documents = dict(enumerate(documents_of(Origin(name), data), 1))
    return documents.get(int(found[1]), (None, data))[1]


def _spans_of(base: Origin, data: bytes) -> list[tuple[int, int]]:
    """Where the documents begin and end that hold anything."""
    name = base.member or base.source
    if not name.endswith((".yaml", ".yml")) and name != STDIN_NAME:
        return []
    marks = [found.start() for found in _START.finditer(data)]
    if not marks:
        return []
    begins = [0, *marks] if marks[0] else marks
    marked = set(marks)
    spans = zip(begins, [*begins[1:], len(data)], strict=True)
    return [(begin, end) for begin, end in spans if _SAYS.search(data, begin + 3 * (begin in marked), end)]
