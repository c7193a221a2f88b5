# Which dialect a document is written in shows in what its signature selects.
"""Recognising the dialect of a document."""

from __future__ import annotations

from typing import Any

from .query import Query
from .rules import Dialect


class Recogniser:
    """Says whether a document is written in a dialect, and if not, which part of the signature is missing."""

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.queries = [Query(quantity) for quantity in dialect.signature.all]

    def fits_document(self, document: Any) -> bool:
        return all(query.selects_any(document) for query in self.queries)

    def missing_signs(self, document: Any) -> list[str]:
        return [query.text for query in self.queries if not query.selects_any(document)]
