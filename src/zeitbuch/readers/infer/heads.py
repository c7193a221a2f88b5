# What a flow is called and when it starts may stand in one record of a list, and its steps in another that names the first.
"""Finding lists in which the heads of flows stand beside their steps."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import DivideRule, GatherRule

from .gathering import tables_of
from .operations import is_tokenlike
from .survey import STAR, Path, dotted_path, find_leaves, is_scalar, json_path, value_at

_FEWEST = 3  # flows whose head stands apart
_FEWEST_LISTED, _FEWEST_KEYED = 2, 3  # records that may be steps
_MOST_SORTS = 6
_DEPTH = 2  # of the field by which records name each other
_Rows = list[dict[str, Any]]


class Heads(NamedTuple):
    """How a list is divided by the sort of its records, and how what belongs to a flow is put into its head."""

    divide: DivideRule
    gathers: list[GatherRule]


def head_rules(documents: list[Any]) -> Heads | None:
    """The rules for documents with a list of heads of flows and what else belongs to these, one record of each sort a flow at least; None
    where there is no such list."""
    for path, rows in tables_of(documents).items():
        for field in rows[0] if len(rows) >= _FEWEST else ():
            sorts = _sorts_of(rows, field)
            found = _head_of(sorts) if sorts else None
            if found is not None:
                head, shared = found
                to = json_path((*path, head, STAR))
                gathers = [
                    GatherRule(json_path((*path, sort, STAR)), dotted_path(shared), to, sort, dotted_path(shared))
                    for sort in sorts
                    if sort != head
                ]
                return Heads(DivideRule(at=json_path(path), by=dotted_path((field,))), gathers)
    return None


def _sorts_of(rows: _Rows, field: str) -> dict[str, _Rows]:
    """The rows by a field that says of which sort each is, where some sorts hold steps and others none; empty where it does not."""
    if not all(is_tokenlike(row.get(field)) for row in rows):
        return {}
    sorts: dict[str, _Rows] = {}
    for row in rows:
        sorts.setdefault(str(row[field]), []).append(row)
    holding = [all(map(_holds_steps, listed)) for listed in sorts.values()]
    return sorts if 1 < len(sorts) <= _MOST_SORTS and any(holding) and not all(holding) else {}


def _head_of(sorts: dict[str, _Rows]) -> tuple[str, Path] | None:
    """The sort without steps of which each record is named by one of every other, and the field by which all name it."""
    for head, heads in sorts.items():
        if len(heads) >= _FEWEST and not any(map(_holds_steps, heads)):
            others = [listed for sort, listed in sorts.items() if sort != head]
            shared = next((path for path in _fields_of(heads[0]) if _name_heads(path, heads, others)), None)
            if shared is not None:
                return head, shared
    return None


def _name_heads(path: Path, heads: _Rows, others: list[_Rows]) -> bool:
    """Whether the heads are told apart by what stands at a place, all others name one of them there, and those of one sort name all."""
    names = set(_names_at(heads, path))
    named = [set(_names_at(listed, path)) for listed in others]
    return len(names) == len(heads) and all(one <= names for one in named) and names in named


def _holds_steps(value: Any, depth: int = 3) -> bool:
    """Whether a record holds a list or an object of several records."""
    if type(value) is not dict or not depth:
        return False
    for inner in value.values():
        many = list(inner.values()) if type(inner) is dict else inner if type(inner) is list else []
        fewest = _FEWEST_KEYED if type(inner) is dict else _FEWEST_LISTED
        if sum(type(item) is dict for item in many) >= fewest or _holds_steps(inner, depth - 1):
            return True
    return False


def _fields_of(row: dict[str, Any]) -> Iterator[Path]:
    return (path for path, value in find_leaves(row, depth=_DEPTH) if STAR not in path and is_scalar(value))


def _names_at(rows: _Rows, path: Path) -> list[str]:
    """What stands at a place of each row; an empty text where there is nothing."""
    return [as_text(value_at(row, path)) for row in rows]
