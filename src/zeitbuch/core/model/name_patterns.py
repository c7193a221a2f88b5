# Patterns of names: `*`, `?` and `[...]`, whatever the case of the letters. One meaning for flows, steps, cases and hosts.
"""Patterns with ``*``."""

from __future__ import annotations

import re
from collections.abc import Callable
from fnmatch import translate
from functools import lru_cache

_WILD = re.compile(r"[*?\[]")
_LITERAL = re.compile(r"\[[*?\[]\]")  # a wild sign that means itself, see ``literal_pattern``
Fits = Callable[[tuple[str, ...]], bool]


@lru_cache(maxsize=4096)
def compile_pattern(pattern: str) -> Fits:
    """What says whether one of several names fits a pattern; empty names fit none but an empty pattern."""
    if pattern == "*":
        return bool
    low = pattern.casefold()
    if not _WILD.search(low):

        def same(names: tuple[str, ...]) -> bool:
            return low in [name.casefold() for name in names]

        return same
    if low[-1] == "*" and not _WILD.search(low[:-1]):
        begin = low[:-1]

        def begins(names: tuple[str, ...]) -> bool:
            return any([name.casefold().startswith(begin) for name in names])

        return begins
    match = re.compile(translate(low)).match

    def found(names: tuple[str, ...]) -> bool:
        for name in names:
            folded = name.casefold()
            if folded and match(folded):
                return True
        return False

    return found


def pattern_fits(pattern: str, *names: str) -> bool:
    """Whether a pattern fits one of the names; ``*`` fits even where there is no name."""
    return pattern == "*" or compile_pattern(pattern)(names)


def is_plain(pattern: str) -> bool:
    """Whether a pattern is a name as it stands, without a wild sign."""
    return not _WILD.search(pattern)


def literal_pattern(name: str) -> str:
    """A name as a pattern that means itself."""
    return "".join(f"[{letter}]" if letter in "*?[" else letter for letter in name)


def pattern_rank(pattern: str) -> int:
    """How much a pattern says: 0 nothing, 1 with wild parts, 2 one name."""
    if not pattern or pattern == "*":
        return 0
    return 1 if _WILD.search(_LITERAL.sub("", pattern)) else 2
