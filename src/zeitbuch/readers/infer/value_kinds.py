# What a step may do by its settings alone: an address is called, a mail address is written to, code runs. It asserts nothing; a
# question needs likely answers.
"""Likely kinds of steps by the values of their settings."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .fields import Column, reads_like_prose
from .parts import operator_like, placeholder_like
from .survey import Path, dotted_path, is_scalar

_ADDRESS = re.compile(r"^(?:https?|ftp|wss?)://\S+$")
_MAIL = re.compile(r"^[^\s@]+@[^\s@]+\.[^\s@]+$")
_CODE = re.compile(r"(?m)^\s*(?:return\b|def |function |import |const |let |var )|[;{]\s*$|=>")
_METHODS = frozenset("GET POST PUT PATCH DELETE HEAD".split())
_MOST_SHOWN = 3


def kinds_by_values(columns: dict[Path, Column]) -> list[str]:
    """Kinds that the values of an operation's steps suggest, the likeliest first."""
    scores: dict[str, float] = {}

    def vote(kind: str, weight: float) -> None:
        scores[kind] = scores.get(kind, 0.0) + weight

    values = [value for column in columns.values() for value in column.values]
    texts = [value for value in values if type(value) is str]
    if any(_ADDRESS.match(text) for text in texts):
        vote("http", 2.0)
    if any(text in _METHODS for text in texts):
        vote("http", 1.0)
    if any(_MAIL.match(text) for text in texts):
        vote("send", 2.0)
    if any(_CODE.search(text) and "\n" in text for text in texts):
        vote("code", 2.0)
    _vote_by_make(columns, texts, vote)
    return [kind for kind, _ in sorted(scores.items(), key=lambda entry: (-entry[1], entry[0]))]


def _vote_by_make(columns: dict[Path, Column], texts: list[str], vote: Any) -> None:
    """By how many settings there are, and of which make."""
    if len(columns) == 1:
        (column,) = columns.values()
        if all(type(value) in (int, float) for value in column.values):
            vote("wait", 1.5)
        elif all(type(value) is str and placeholder_like(value) for value in column.values):
            vote("loop", 1.0)
        elif all(type(value) is str and operator_like(value) for value in column.values):
            vote("decide", 1.0)
    if not columns:
        vote("end", 0.5)
    if sum(map(placeholder_like, texts)) > 1 or (len(columns) > 1 and any(map(placeholder_like, texts))):
        vote("shape", 0.4)
        vote("write", 0.5)
    if any(reads_like_prose(text) for text in texts):
        vote("send", 0.5)


def shown_values(columns: dict[Path, Column]) -> str:
    """A few settings with a value each, for people."""
    shown: list[str] = []
    for path, column in columns.items():
        value = next((value for value in column.values if is_scalar(value) or type(value) in (bool, float)), None)
        if value is not None and len(shown) < _MOST_SHOWN:
            text = " ".join(as_text(value).split())
            shown.append(f"{dotted_path(path)} = {text[:57] + '…' if len(text) > 58 else text}")
    return "; ".join(shown)
