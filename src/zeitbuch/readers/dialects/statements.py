# A step that works with a database is called *query* whatever it does there: the statement itself says whether it changes or deletes.
"""What a statement for a database does."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Literal

StatementKind = Literal["read", "write", "delete"]
# By the word with which a statement of SQL begins (ISO/IEC 9075-2); procedures may change something.
_KINDS: dict[str, StatementKind] = {
    "SELECT": "read", "VALUES": "read", "SHOW": "read", "DESCRIBE": "read", "EXPLAIN": "read",
    "INSERT": "write", "UPDATE": "write", "MERGE": "write", "REPLACE": "write", "UPSERT": "write", "CREATE": "write", "ALTER": "write",
    "COPY": "write", "CALL": "write", "EXEC": "write", "EXECUTE": "write",
    "DELETE": "delete", "TRUNCATE": "delete", "DROP": "delete",
}  # fmt: skip
_STRONGER: tuple[StatementKind, ...] = ("delete", "write", "read")  # what several of them do is what the strongest does
_PLAIN = re.compile(r"\s*(\w+)\b[^;]*;?\s*", re.DOTALL)
_LIKE = re.compile(
    r"(?is)\s*(?:(?:--[^\n]*\n|/\*.*?\*/)\s*)*(?:select\b.+\bfrom\b|insert\s+into\b|update\b.+\bset\b|delete\s+from\b|merge\s+into\b"
    r"|truncate\b|drop\s+table\b|with\b.+\bas\s*\(|create\s+table\b|call\s+\w+\s*\(|exec(?:ute)?\s+\w+[.(])"
)
_LONGEST = 20_000  # letters that are looked at


def is_statement(text: str) -> bool:
    """Whether a text is a statement of SQL rather than a sentence: 'select a berth' is none."""
    return _LIKE.match(text[:_LONGEST]) is not None


@lru_cache(maxsize=4096)
def statement_kind(text: str) -> StatementKind | None:
    """What a statement does with the data, of several the strongest; None where that cannot be told."""
    plain = _PLAIN.fullmatch(text)
    if plain is not None and plain[1].upper() in _KINDS:
        return _KINDS[plain[1].upper()]
    import sqlparse
    from sqlparse.exceptions import SQLParseError

    try:
        parts = sqlparse.parse(text[:_LONGEST]) if text.strip() else ()
    except (SQLParseError, RecursionError):
        return None  # nested beyond reason
    found = {_kind_of(part.get_type(), str(part)) for part in parts}  # type: ignore[no-untyped-call]
    return next((kind for kind in _STRONGER if kind in found), None)


def _kind_of(word: str | None, text: str) -> StatementKind | None:
    first = re.match(r"\s*(\w+)", text)
    return _KINDS.get(word or "") or (_KINDS.get(first[1].upper()) if first is not None else None)
