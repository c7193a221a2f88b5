# Two texts compared word by word, for people: few long marks rather than many short ones.
"""Comparison of prompt texts by words."""

from __future__ import annotations

import re
from difflib import SequenceMatcher
from typing import Literal

from msgspec import Struct


class Word(Struct, frozen=True):
    """A piece of a text comparison: ``mark`` is same, old or new."""

    mark: Literal["same", "old", "new"]
    text: str


_PIECES = re.compile(r"\s+|\w+|[^\w\s]", re.UNICODE)


def word_changes(old: str, new: str) -> tuple[Word, ...]:
    """Two texts by words. Equal stretches of less than two words between changes are drawn into them."""
    a, b = _PIECES.findall(old), _PIECES.findall(new)
    pieces: list[Word] = []

    def put(mark: Literal["same", "old", "new"], text: str) -> None:
        if text:
            pieces.append(Word(mark, text))

    pending_old, pending_new = "", ""
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        left, right = "".join(a[i1:i2]), "".join(b[j1:j2])
        if (
            tag == "equal"
            and (left.strip() or not (pending_old or pending_new))
            and (len(left.split()) > 1 or not (pending_old or pending_new))
        ):
            put("old", pending_old)
            put("new", pending_new)
            pending_old = pending_new = ""
            put("same", left)
        else:
            pending_old += left
            pending_new += right
    # What both end with belongs to neither.
    tail = ""
    while pending_old and pending_new and pending_old[-1] == pending_new[-1] and not pending_old[-1].isalnum():
        tail = pending_old[-1] + tail
        pending_old, pending_new = pending_old[:-1], pending_new[:-1]
    put("old", pending_old)
    put("new", pending_new)
    put("same", tail)
    return tuple(pieces)
