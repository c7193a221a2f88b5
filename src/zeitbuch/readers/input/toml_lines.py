# TOML parsers say where a file is no TOML, but not where a value stands. This finds the line of a pointer into a file
# that has been parsed already, from its headers and keys.
"""Lines of tables and keys in TOML files."""

from __future__ import annotations

import re
from re import Match

_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(#.*)?$")
_KEY = re.compile(r"^\s*((?:\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+))*)\s*=")
_PART = re.compile(r"\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+")


def _table_names(text: str) -> list[str]:
    return [part.strip("\"'") for part in _PART.findall(text)]


def lines_of(text: str) -> dict[str, int]:
    """JSON pointer -> line (from 1) of every table and key of a TOML text."""
    found: dict[str, int] = {}
    counts: dict[str, int] = {}
    base = ""
    inside = ""  # the marks of a text of several lines
    for number, line in enumerate(text.splitlines(), 1):
        if inside:
            if inside in line:
                inside = ""
            continue
        header = _HEADER.match(line)
        if header:
            base = _note_table(header, counts, found, number)
            continue
        key = _KEY.match(line)
        if key:
            found.setdefault(base + "".join(f"/{name}" for name in _table_names(key[1])), number)
            rest = line[key.end() :]
            for marks in ('"""', "'''"):
                if rest.count(marks) == 1:
                    inside = marks
    return found


def _note_table(header: Match[str], counts: dict[str, int], found: dict[str, int], number: int) -> str:
    base = ""
    names = _table_names(header[2])
    for place, name in enumerate(names):
        base += f"/{name}"
        last = place == len(names) - 1
        if last and header[1] == "[[":
            counts[base] = counts.get(base, -1) + 1
            for other in [key for key in counts if key.startswith(f"{base}/{counts[base]}/")]:
                del counts[other]
        if base in counts:
            base += f"/{counts[base]}"
    found.setdefault(base, number)
    return base


def line_of(text: str, pointer: str) -> int | None:
    """Line of a pointer, or of the nearest table above it."""
    lines = lines_of(text)
    while pointer:
        if pointer in lines:
            return lines[pointer]
        pointer = pointer.rpartition("/")[0]
    return None
