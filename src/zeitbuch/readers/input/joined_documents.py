# Some builders write one record of a flow a line, or its head and its steps as documents of one file. A dialect may say that these
# belong together: then they are rows of one document, as the lines of a table are.
"""The documents of a file as rows of one."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from zeitbuch.core.model.records import Origin

from .file_documents import LINES, MEMBER, documents_of
from .sources import STDIN_NAME
from .tables import ROWS

_YAML = (".yaml", ".yml")
_BEHIND = re.compile(rf"[! ]{MEMBER.pattern}\Z")
_ROW = re.compile(rf"/{ROWS}/(?P<place>\d+)(?=/|\Z)")
_HAS_ROWS = re.compile(rb"^rows[ \t]*:", re.MULTILINE)


def may_hold_several(name: str) -> bool:
    """Whether a file of this name may hold several documents."""
    return name.lower().endswith((*LINES, *_YAML)) or name == STDIN_NAME


def file_holding(document: str) -> str:
    """The file, or member of a package, that holds a document by its name."""
    return _BEHIND.sub("", document)


def joined_documents(found: Iterable[tuple[str, Any]]) -> list[tuple[str, Any]]:
    """Documents by name (a file, or a member behind its package), those of one file as the rows of one."""
    made: dict[str, Any] = {}
    for name, value in found:
        file = file_holding(name)
        if may_hold_several(file.rpartition("!")[2]):
            made.setdefault(file, {ROWS: []})[ROWS].append(value)
        else:
            made[name] = value
    return list(made.items())


@lru_cache(maxsize=1)  # places in one file are asked for one after the other
def _parts_of(name: str, data: bytes) -> list[tuple[Origin, bytes]]:
    return list(documents_of(Origin(name), data))


def document_of_row(name: str, data: bytes, pointer: str) -> tuple[bytes, str] | None:
    """Where documents are read together: the bytes of the one that holds a pointer, on the lines of the file, and the pointer within it.
    None where they are read apart."""
    found = _ROW.match(pointer) if may_hold_several(name) else None
    parts = _parts_of(name, data) if found is not None else []
    if found is None or int(found["place"]) >= len(parts) or (len(parts) == 1 and _HAS_ROWS.search(data)):
        return None
    origin, part = parts[int(found["place"])]
    line = MEMBER.fullmatch(origin.member or "") if name.lower().endswith(LINES) else None
    return b"\n" * (int(line[1]) - 1 if line is not None else 0) + part, pointer[found.end() :]
