# Which documents come from one builder: those that share their keys. A flow of one step has fewer keys than one of twenty, so the
# smaller one counts; keys that many builders have (`id`, `name`) weigh little beside where they stand.
"""Telling builders apart."""

from __future__ import annotations

from collections.abc import Set as AbstractSet
from typing import Any

from .survey import STAR, Path

_DEPTH = 4
_MOST_COMPARED = 60  # groups that a document is held against: a folder of as many unlike objects is no builder's
_LEAST_SHARED = 0.55  # of the keys of the smaller of two documents


def group_alike(documents: list[Any]) -> list[list[int]]:
    """The numbers of the documents that are written alike, the largest group first."""
    shapes: dict[frozenset[Path], list[int]] = {}
    for number, document in enumerate(documents):
        shapes.setdefault(_keys_of(document), []).append(number)
    groups: list[tuple[set[Path], list[int]]] = []
    for shape, numbers in sorted(shapes.items(), key=lambda entry: (-len(entry[0]), entry[1])):
        rated = [(_shared(shape, keys), place) for place, (keys, _) in enumerate(groups[:_MOST_COMPARED])]
        shared, place = max(rated, key=lambda entry: (entry[0], -entry[1]), default=(0.0, 0))
        if rated and shared >= _LEAST_SHARED:
            groups[place][0].update(shape)
            groups[place][1].extend(numbers)
        else:
            groups.append((set(shape), list(numbers)))
    return sorted((sorted(numbers) for _, numbers in groups), key=lambda numbers: (-len(numbers), numbers))


def _keys_of(document: Any) -> frozenset[Path]:
    """Where keys stand, some levels deep. Items of lists are one place; so are the entries of an object of many alike."""
    found: set[Path] = set()
    _add_keys(document, (), found)
    return frozenset(found)


def _add_keys(value: Any, path: Path, found: set[Path]) -> None:
    if type(value) is list:
        found.add((*path, STAR))
        for item in value[:50]:
            _add_keys(item, (*path, STAR), found)
    elif type(value) is dict and len(path) < _DEPTH:
        inner = [item for item in value.values() if type(item) is dict]
        alike = len(inner) > 1 and len(inner) == len(value)
        for key, item in list(value.items())[:200]:
            here = (*path, STAR if alike else key)
            found.add(here)
            _add_keys(item, here, found)


def _shared(first: AbstractSet[Path], second: AbstractSet[Path]) -> float:
    """The share of the keys of the smaller set that the other has too; what stands higher weighs more."""
    small, large = sorted((first, second), key=len)
    weights = {path: 0.5 ** (len(path) - 1) for path in small}
    whole = sum(weights.values())
    return sum(weight for path, weight in weights.items() if path in large) / whole if whole else float(small == large)
