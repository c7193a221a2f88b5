"""The columns of a terminal table: which fit, how wide each is, and what stands between them."""

from __future__ import annotations

from collections.abc import Sequence
from heapq import heapify, heappop, heapreplace
from typing import NamedTuple

from zeitbuch.core.model.sheet import Sheet
from zeitbuch.writers.table.grid import GAP, NARROW_GAP, cell_width

_SAMPLE = 200  # rows by which the lines of a table are counted
_LONG = 22  # letters of a word that is kept whole, whatever else has to go
_LONGEST = 60  # letters of a word that is kept whole where nothing else has to go


class ColumnFit(NamedTuple):
    """The columns that stay, by index; the width of each in cells; and the blanks between two."""

    kept: list[int]
    widths: list[int]
    gap: str


def fit_columns(sheet: Sheet, rows: list[list[str]], width: int, right: Sequence[bool]) -> ColumnFit:
    """The columns that fit into ``width`` cells: words whole, and as few lines as can be. ``right`` says which columns hold
    numbers, which are never broken. Where not all fit, those that hold nothing are the first to go."""
    texts = [[column.title, *(row[index] for row in rows)] for index, column in enumerate(sheet.columns)]
    natural = [max(map(cell_width, set(items))) for items in texts]
    if sum(natural) + len(GAP) * (len(natural) - 1) <= width:
        return ColumnFit(list(range(len(natural))), natural, GAP)
    least = [
        max(_least_width(items[:1], number), *map(cell_width, set(items[1:])), 1)
        if to_right
        else max(min(number, column.least or 8), _least_width(items, _LONG))
        for number, items, to_right, column in zip(natural, texts, right, sheet.columns, strict=True)
    ]
    filled = [index for index, items in enumerate(texts) if any(items[1:])]
    kept = filled if len(filled) > 1 else list(range(len(natural)))

    def free() -> int:
        return width - len(NARROW_GAP) * (len(kept) - 1) - sum(least[index] for index in kept)

    while free() < 0 and any(sheet.columns[index].rank for index in kept):
        kept.remove(max(kept, key=lambda i: sheet.columns[i].rank))
    sizes = [least[index] for index in kept]
    spare = free()
    while spare < 0 and max(sizes) > 4:
        # Not even the columns that must stay fit: the widest gives way.
        sizes[sizes.index(max(sizes))] -= 1
        spare += 1
    seen = [texts[index][: _SAMPLE + 1] for index in kept]
    cells = [[cell_width(text) for text in items] for items in seen]
    most = [natural[index] for index in kept]
    wide = [size if right[index] else max(size, _least_width(texts[index], _LONGEST))
            for size, index in zip(sizes, kept, strict=True)]  # fmt: skip
    ways = [sizes, wide] if 0 < sum(wide) - sum(sizes) <= spare else [sizes]
    shared = [_share_room(cells, most, way, spare + sum(sizes) - sum(way)) for way in ways]
    best = min(shared, key=lambda tried: _count_lines(cells, tried) + _count_broken(seen, tried))
    return ColumnFit(kept, best, NARROW_GAP)


def _least_width(texts: list[str], most: int) -> int:
    """The narrowest width that breaks no word of up to ``most`` letters."""
    words = {word for text in set(texts) for word in text.split()}
    return max([min(most, cell_width(word)) for word in words] or [1])


def _share_room(cells: list[list[int]], natural: list[int], sizes: list[int], spare: int) -> list[int]:
    """The sizes grown by up to ``spare`` cells in all. The columns that lack least are made whole, as many of them as make the
    rows take the fewest lines; the others share what is left."""
    best, fewest = sizes, None
    whole, left = list(sizes), spare
    order = sorted((i for i in range(len(sizes)) if sizes[i] < natural[i]), key=lambda i: natural[i] - sizes[i])
    for place in range(len(order) + 1):
        if place:
            index = order[place - 1]
            left -= natural[index] - whole[index]
            whole[index] = natural[index]
        if left < 0:
            break
        tried = _balance(natural, whole, left)
        lines = _count_lines(cells, tried)
        if fewest is None or lines <= fewest:
            best, fewest = tried, lines
    return best


def _balance(natural: list[int], sizes: list[int], spare: int) -> list[int]:
    """Each further cell goes to the column that would be broken into the most lines."""
    grown = list(sizes)
    wanting = [(-(natural[i] / grown[i]), i) for i in range(len(grown)) if grown[i] < natural[i]]
    heapify(wanting)
    while spare > 0 and wanting:
        index = wanting[0][1]
        grown[index] += 1
        spare -= 1
        if grown[index] < natural[index]:
            heapreplace(wanting, (-(natural[index] / grown[index]), index))
        else:
            heappop(wanting)
    return grown


def _count_broken(texts: list[list[str]], sizes: list[int]) -> int:
    """How many words are broken: the address of an event, the name of a file."""
    return sum(
        cell_width(word) > size
        for items, size in zip(texts, sizes, strict=True)
        for text in items
        for word in text.split()
    )


def _count_lines(cells: list[list[int]], sizes: list[int]) -> int:
    return sum(max(-(-wide // size) for wide, size in zip(row, sizes, strict=True)) for row in zip(*cells, strict=True))
