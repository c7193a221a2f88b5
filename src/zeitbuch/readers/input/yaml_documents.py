# A YAML file may hold several documents, one behind another. Each is read by itself; empty lines stand in the place of those
# before it, so that lines are those of the file.
"""The documents of a YAML file."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.model.records import Origin

# YAML 1.2.2, section 9.1.2: "---" at the start of a line begins a document, wherever it stands.
_START = re.compile(rb"^---(?=[ \t\r\n]|\Z)", re.MULTILINE)
_SAYS = re.compile(rb"^[ \t]*[^ \t\r\n#%.]", re.MULTILINE)  # neither comment, directive nor the end of a document
_PADDED = 20_000_000  # newlines in all; a file of very many documents has lines of the document instead
_MEMBER = re.compile(r"document-(\d+)\.yaml")


def yaml_documents(base: Origin, data: bytes) -> Iterator[tuple[Origin, bytes]]:
    """The documents of a file, each with its place; a file that is no YAML, or holds one, as it is."""
    spans = _spans_of(base, data)
    if len(spans) < 2:
        yield base, data[: spans[0][1]] if spans else data
        return
    padded = len(spans) * data.count(b"\n") <= _PADDED
    for place, (begin, end) in enumerate(spans, 1):
        member = f"document-{place}.yaml" if base.member is None else f"{base.member} document-{place}.yaml"
        before = b"\n" * data.count(b"\n", 0, begin) if padded else b""
        yield Origin(base.source, "", member), before + data[begin:end]


def one_document(name: str, member: str, data: bytes) -> bytes:
    """The document of a file that its place names; all of the file when it is none of them."""
    found = _MEMBER.fullmatch(member)
    if found is None:
        return data
    documents = dict(enumerate(yaml_documents(Origin(name), data), 1))
    return documents.get(int(found[1]), (None, data))[1]


def _spans_of(base: Origin, data: bytes) -> list[tuple[int, int]]:
    """Where the documents begin and end that hold anything."""
    name = base.member or base.source
    if not name.endswith((".yaml", ".yml")) and name != "<stdin>":
        return []
    marks = [found.start() for found in _START.finditer(data)]
    if not marks:
        return []
    begins = [0, *marks] if marks[0] else marks
    marked = set(marks)
    spans = zip(begins, [*begins[1:], len(data)], strict=True)
    return [(begin, end) for begin, end in spans if _SAYS.search(data, begin + 3 * (begin in marked), end)]
