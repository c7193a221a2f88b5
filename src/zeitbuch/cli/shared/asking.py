# Proposals ask on the terminal what they do not know.
"""Answers from a terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable

from .session import say


def read_answer(word_of: Callable[[str], str | None], allowed: str) -> str | None:
    """An answer that can be used, as its word; empty for none, None to stop asking. ``word_of`` has None for what cannot be used."""
    while True:
        sys.stderr.write("> ")
        sys.stderr.flush()
        said = sys.stdin.readline()
        if not said or said.strip() == "q":
            return None
        if not said.strip():
            return ""
        word = word_of(said)
        if word is not None:
            return word
        say(f"expected {allowed}, found '{said.strip()}'")
