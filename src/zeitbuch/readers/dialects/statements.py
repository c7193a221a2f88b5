# A step that works with a database is called *query* whatever it does there: the statement itself says whether it changes or deletes.
"""What a statement for a database does."""

from __future__ import annotations

import re
from functools import lru_cache
from itertools import pairwise
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from sqlparse.sql import Statement, Token

StatementKind = Literal["read", "write", "delete"]
# By the word with which a statement of SQL begins (ISO/IEC 9075-2); procedures may change something.
_KINDS: dict[str, StatementKind] = {
    "SELECT": "read", "VALUES": "read", "SHOW": "read", "DESCRIBE": "read",
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
_HOLDING = ("WITH", "EXPLAIN")
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
        found = {kind for part in parts for kind in _kinds_of(part)}
    except (SQLParseError, RecursionError):
        return None  # nested beyond reason
    if len(text) > _LONGEST and _STRONGER[0] not in found:
        return None  # what was not looked at may do more
    return next((kind for kind in _STRONGER if kind in found), None)


def _kinds_of(part: Statement) -> set[StatementKind]:
    """What one statement does, by its first word. Behind WITH and EXPLAIN it is all that they hold: parts of them may change something,
    too."""
    from sqlparse.tokens import Keyword, Name

    tokens = [token for token in part.flatten() if token.ttype in Keyword or token.ttype in Name]  # type: ignore[no-untyped-call]
    first = tokens[0].normalized.upper() if tokens else ""
    words = _words_held([token for token in tokens if token.ttype in Keyword]) if first in _HOLDING else [first]
    return {_KINDS[word] for word in words if word in _KINDS}


def _words_held(keywords: list[Token]) -> list[str]:
    """Without UPDATE behind FOR, which locks the rows that are read, and REPLACE, which is a function there."""
    words = [token.normalized.upper() for token in keywords]
    return [word for before, word in pairwise(["", *words]) if before != "FOR" and word != "REPLACE"]
