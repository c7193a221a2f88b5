"""A decoder: files that end in .tide, lines of ``path = value``, become a plain tree.

A decoder offers ``SUFFIXES`` and ``decode(name, raw)``, which gives objects (with texts as keys), lists and scalars. What it
gives is then read like any export: by dialects, by the formats of the house, or by a format of a plug-in. With
``recognises_bytes(raw)`` it is also asked for files of no known suffix, and for standard input.
"""

from __future__ import annotations

from typing import Any

SUFFIXES = (".tide",)


def recognises_bytes(raw: bytes) -> bool:
    """Whether a file of any other name is written this way."""
    return raw.startswith(b"quay = ")


def decode(name: str, raw: bytes) -> Any:
    """The tree in a file. An exception becomes a message that names the file, the plug-in and what was wrong."""
    tree: dict[str, Any] = {}
    for number, line in enumerate(raw.decode("utf-8").splitlines(), 1):
        if not line.strip():
            continue
        path, separator, value = line.partition("=")
        if not separator:
            raise ValueError(f"line {number}: expected path = value, found {line.strip()!r}")
        _put(tree, [part.strip() for part in path.split(".")], value.strip())
    return _listed(tree)


def _put(tree: dict[str, Any], path: list[str], value: str) -> None:
    for part in path[:-1]:
        tree = tree.setdefault(part, {})
    tree[path[-1]] = int(value) if value.isdecimal() else value


def _listed(value: Any) -> Any:
    """Objects whose keys count from 0 are lists."""
    if not isinstance(value, dict):
        return value
    if value and list(value) == [str(number) for number in range(len(value))]:
        return [_listed(inner) for inner in value.values()]
    return {key: _listed(inner) for key, inner in value.items()}
