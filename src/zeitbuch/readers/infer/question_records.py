# A question of a proposal with its answers, and what each of them changes.
"""Questions and answers as records."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from zeitbuch.readers.dialects.rules import Dialect

Change = Callable[[Dialect], Dialect]


class Answer(NamedTuple):
    """One answer: a word to give it by, what it means, and what it changes."""

    word: str
    meaning: str
    change: Change


class Question(NamedTuple):
    """Something that is asked. ``id`` names it in a file of answers; ``weight``: how much hangs on it; ``other`` makes the change for
    an answer of the owner's own (None: it is none), ``others`` says what such an answer is."""

    id: str
    text: str
    example: str
    answers: tuple[Answer, ...]
    weight: float
    other: Callable[[str], Change | None]
    others: str = ""


def no_other(_: str) -> Change | None:
    """No answer of the owner's own can be used."""
    return None


def keep_same(dialect: Dialect) -> Dialect:
    """What is right already stays as it is."""
    return dialect
