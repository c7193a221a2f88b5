# What all documents of a builder have and by which they are known.
"""Finding the signature of a dialect."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from zeitbuch.readers.dialects.paths import path_keys
from zeitbuch.readers.dialects.query import Query
from zeitbuch.readers.dialects.reshape_rules import DivideRule

from .survey import Path, json_path

_MOST_SORTS = 3


def holding_for_all(queries: list[str], documents: list[Any]) -> list[str]:
    """The queries that select something in every document."""
    return [text for text in dict.fromkeys(queries) if all(Query(text).selects_any(document) for document in documents)]


def signs_of_rows(rules: Mapping[str, list[Any]], fields: list[Path], documents: list[Any]) -> list[str]:
    """Queries for documents whose rows are put together to flows: the fields of steps in rows that are grouped, and the sorts of rows that are
    divided."""
    grouped = [f"{rule.at}{json_path(path)[1:]}" for rule in rules.get("group", []) for path in fields]
    return grouped + [text for rule in rules.get("divide", []) for text in _sorts_in_all(rule, documents)]


def _sorts_in_all(rule: DivideRule, documents: list[Any]) -> list[str]:
    """Queries for records of each sort that every document has, where a list is divided by sorts."""
    member = json_path(path_keys(rule.by))[1:]
    sorts = [{value for _, value in Query(f"{rule.at}[*]{member}").find_all(document)} for document in documents]
    shared = sorted(sort for sort in set.intersection(*sorts) if "'" not in sort and "\\" not in sort) if sorts else []
    return [f"{rule.at}[?@{member} == '{sort}']" for sort in shared[:_MOST_SORTS]]


def shared_keys(documents: list[Any]) -> list[str]:
    """The keys at the top that all documents have."""
    if not all(type(document) is dict for document in documents):
        return []
    return [key for key in documents[0] if all(key in document for document in documents)]
