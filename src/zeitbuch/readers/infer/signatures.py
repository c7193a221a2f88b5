# What all documents of a builder have and by which they are known.
"""Finding the signature of a dialect."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.dialects.query import Query


def holding_for_all(queries: list[str], documents: list[Any]) -> list[str]:
    """The queries that select something in every document."""
    return [text for text in dict.fromkeys(queries) if all(Query(text).selects_any(document) for document in documents)]


def shared_keys(documents: list[Any]) -> list[str]:
    """The keys at the top that all documents have."""
    if not all(type(document) is dict for document in documents):
        return []
    return [key for key in documents[0] if all(key in document for document in documents)]
