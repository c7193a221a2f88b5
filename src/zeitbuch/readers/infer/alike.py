# Which documents come from one builder: those that share their keys. A flow of one step has fewer keys than one of twenty, so the
# smaller one counts; keys that many builders have (`id`, `name`) weigh little beside where they stand.
"""Telling builders apart."""

from __future__ import annotations

from typing import Any

from .survey import STAR, Path

_DEPTH = 4
_LEAST_SHARED = 0.55  # of the keys of the smaller of two documents


def group_alike(documents: list[Any]) -> list[list[int]]:
    """The numbers of the documents that are written alike, the largest group first."""
    groups: list[tuple[set[Path], list[int]]] = []
    shapes = [_keys_of(document) for document in documents]
    for number in sorted(range(len(documents)), key=lambda index: (-len(shapes[index]), index)):
        shape = shapes[number]
        best = max(groups, key=lambda group: _shared(shape, group[0]), default=None)
        if best is not None and _shared(shape, best[0]) >= _LEAST_SHARED:
            best[0].update(shape)
            best[1].append(number)
        else:
            groups.append((set(shape), [number]))
    return sorted((sorted(numbers) for _, numbers in groups), key=lambda numbers: (-len(numbers), numbers))


def _keys_of(document: Any) -> set[Path]:
    """Where keys stand, some levels deep. Items of lists are one place; so are the entries of an object of many alike."""
    found: set[Path] = set()
    _add_keys(document, (), found)
    return found


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


def _shared(first: set[Path], second: set[Path]) -> float:
    """The share of the keys of the smaller set that the other has too; what stands higher weighs more."""
    small, large = sorted((first, second), key=len)
    weights = {path: 0.5 ** (len(path) - 1) for path in small}
    whole = sum(weights.values())
    return sum(weight for path, weight in weights.items() if path in large) / whole if whole else float(small == large)
