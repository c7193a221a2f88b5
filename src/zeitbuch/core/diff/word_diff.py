# Two texts compared word by word, for people: few long marks rather than many short ones. The longest common run of
# words comes from a library; what it keeps between two changes is drawn into them when it is too little to be read as kept.
"""Comparison of prompt texts by words."""

from __future__ import annotations

import itertools
import re
from typing import Any, Literal

from msgspec import Struct

Mark = Literal["same", "old", "new"]


class Word(Struct, frozen=True):
    """A piece of a text comparison: ``mark`` is same, old or new."""

    mark: Mark
    text: str


_PIECES = re.compile(r"\s+|\w+|[^\w\s]", re.UNICODE)
Span = tuple[bool, int, int, int, int]  # kept?, from and to in the old and in the new text


def _changed_spans(a: list[str], b: list[str]) -> list[Span]:
    """Kept and changed stretches in turn."""
    from rapidfuzz.distance import LCSseq

    spans: list[Span] = []
    for op in LCSseq.opcodes(a, b):
        kept = op.tag == "equal"
        if spans and spans[-1][0] == kept:
            _, index, _, inner, _ = spans.pop()
            spans.append((kept, index, op.src_end, inner, op.dest_end))
        else:
            spans.append((kept, op.src_start, op.src_end, op.dest_start, op.dest_end))
    return spans


def _word_counts(pieces: list[str]) -> list[int]:
    """How many words stand before each place."""
    return list(itertools.accumulate((not part.isspace() for part in pieces), initial=0))


def _join_short_spans(spans: list[Span], a: list[str], b: list[str]) -> list[Span]:
    """The spans with what is too little between two changes drawn into them: less than two words, or no more than half of
    the smaller of both changes."""
    first_count, second_count = _word_counts(a), _word_counts(b)

    def size(span: Span) -> int:
        _, i1, i2, j1, j2 = span
        return max(first_count[i2] - first_count[i1], second_count[j2] - second_count[j1])

    again = True
    while again:
        again = False
        found: list[Span] = []
        place = 0
        while place < len(spans):
            span = spans[place]
            inside = span[0] and found and not found[-1][0] and place + 1 < len(spans)
            if inside:
                kept = size(span)
                if kept < 2 or 2 * kept <= min(size(found[-1]), size(spans[place + 1])):
                    first = found.pop()
                    last = spans[place + 1]
                    found.append((False, first[1], last[2], first[3], last[4]))
                    place += 2
                    again = True
                    continue
            found.append(span)
            place += 1
        spans = found
    return spans


def _slide_change(before: list[str], change: list[str], after: list[str]) -> None:
    """Moves what only came or only went to where a sentence begins, when the text around it is the same either way."""
    room = 0
    while room < min(len(change), len(after)) and change[room] == after[room]:
        room += 1
    back = 0
    while back < min(len(change), len(before)) and change[-1 - back] == before[-1 - back]:
        back += 1
    line = [*before[len(before) - back :], *change, *after[:room]]

    def worth(shift: int) -> tuple[int, int]:
        place = back + shift
        left = line[place - 1] if place else (before[-1 - back] if len(before) > back else "\n")
        ends = left in ".!?:" or "\n" in left
        return (2 if ends else 1 if left.isspace() else 0), -abs(shift)

    best = max(range(-back, room + 1), key=worth)
    size = len(change)
    kept_before, kept_after = before[: len(before) - back], after[room:]
    place = back + best
    before[:] = [*kept_before, *line[:place]]
    change[:] = line[place : place + size]
    after[:] = [*line[place + size :], *kept_after]


def word_changes(old: str, new: str) -> tuple[Word, ...]:
    """Two texts by words. Kept stretches that are too short to be read as such are drawn into the changes around them."""
    first, second = _PIECES.findall(old), _PIECES.findall(new)
    parts: list[tuple[Mark, list[str]]] = []
    for kept, i1, i2, j1, j2 in _join_short_spans(_changed_spans(first, second), first, second):
        if kept:
            parts.append(("same", first[i1:i2]))
            continue
        _trim_common(first, i1, i2, second, j1, j2, parts)
    parts = [("same", []), *[pair for pair in parts if pair[1]], ("same", [])]
    for index in range(1, len(parts) - 1):
        if parts[index][0] != "same" and parts[index - 1][0] == parts[index + 1][0] == "same":
            _slide_change(parts[index - 1][1], parts[index][1], parts[index + 1][1])
    return _merge_marks([Word(name, "".join(p)) for name, p in parts if p])


def _trim_common(
    first: list[Any], i1: int, i2: int, second: list[Any], j1: int, j2: int, parts: list[tuple[Mark, list[str]]]
) -> None:
    """What both begin or end with belongs to neither, unless it is part of a word."""
    gone, come = first[i1:i2], second[j1:j2]
    # What both begin or end with belongs to neither, unless it is part of a word.
    head: list[str] = []
    tail: list[str] = []
    while gone and come and gone[0] == come[0]:
        head.append(gone.pop(0))
        come.pop(0)
    while gone and come and gone[-1] == come[-1]:
        tail.insert(0, gone.pop())
        come.pop()
    pieces: tuple[tuple[Mark, list[str]], ...] = (("same", head), ("old", gone), ("new", come), ("same", tail))
    parts += [piece for piece in pieces if piece[1]]


def _merge_marks(pieces: list[Word]) -> tuple[Word, ...]:
    """Neighbours of one mark as one."""
    found: list[Word] = []
    for piece in pieces:
        if found and found[-1].mark == piece.mark:
            found[-1] = Word(piece.mark, found[-1].text + piece.text)
        else:
            found.append(piece)
    return tuple(found)
