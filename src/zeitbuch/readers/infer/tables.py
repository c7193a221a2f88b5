# Steps and links may stand as rows of bare values: a list of texts as long as each of many lists beside it has the names of their columns.
"""Tables within documents."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.readers.dialects.reshape_rules import RowsRule

from .link_words import FROM_WORDS, TO_WORDS, path_has_word
from .survey import STAR, Path, dotted_path, json_path

_LEAST_ROWS = 3  # of all tables at one place
_LEAST_COLUMNS = 2
_DEEPEST = 8

Key = tuple[Path, str, str]
Seen = tuple[int, tuple[str, ...]]  # the number of rows, and the names of columns


def rows_rules(documents: list[Any]) -> list[RowsRule]:
    """Rules for all tables of some documents. Names in the first row are the same in every document."""
    found: dict[Key, list[Seen]] = {}
    for document in documents:
        for key, seen in _tables_in(document, ()):
            found.setdefault(key, []).append(seen)
    return [
        RowsRule(
            at=json_path(path),
            columns=dotted_path((columns,)) if columns else "",
            rows=dotted_path((rows,)) if rows else "",
        )
        for (path, columns, rows), seen in sorted(found.items())
        if sum(count for count, _ in seen) >= _LEAST_ROWS and (columns or _are_heads([names for _, names in seen]))
    ]


def _are_heads(found: list[tuple[str, ...]]) -> bool:
    """Whether the first rows of several lists have the names of columns: the same in all, and more than a pair that happens to come first."""
    names = found[0]
    ends = len(names) == 2 and bool(path_has_word(names[:1], FROM_WORDS) and path_has_word(names[1:], TO_WORDS))
    return len(found) > 1 and len(set(found)) == 1 and (len(names) > 2 or ends)


def _tables_in(value: Any, path: Path) -> Iterator[tuple[Key, Seen]]:
    """Places of tables, with what is seen of them."""
    if len(path) > _DEEPEST:
        return
    if type(value) is dict:
        yield from _tables_of_object(value, path)
        for key, inner in value.items():
            yield from _tables_in(inner, (*path, key))
    elif type(value) is list:
        if _may_be_headed(value):
            yield (path, "", ""), (len(value) - 1, tuple(value[0]))
        for inner in value:
            if type(inner) is dict:
                yield from _tables_in(inner, (*path, STAR))


def _tables_of_object(value: dict[str, Any], path: Path) -> Iterator[tuple[Key, Seen]]:
    named = [key for key, inner in value.items() if _are_names(inner)]
    for rows, inner in value.items():
        if type(inner) is list and inner and all(type(row) is list for row in inner):
            fitting = [key for key in named if all(len(row) == len(value[key]) for row in inner)]
            if len(fitting) == 1:
                yield (path, fitting[0], rows), (len(inner), tuple(value[fitting[0]]))


def _are_names(value: Any) -> bool:
    return (
        type(value) is list and len(value) >= _LEAST_COLUMNS and all(type(name) is str and name and len(name) <= 40 for name in value)
        and len(set(value)) == len(value)
    )  # fmt: skip


def _may_be_headed(value: list[Any]) -> bool:
    """Whether the first of some rows may have the names of columns: texts that do not come again below."""
    if (
        len(value) < 2
        or not all(type(row) is list and len(row) == len(value[0]) for row in value)
        or not _are_names(value[0])
    ):
        return False
    return not any(item in value[0] for row in value[1:] for item in row if type(item) is str)
