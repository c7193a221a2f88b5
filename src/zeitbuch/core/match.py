# Which flow and which step of the old version is which of the new one: by id, then by name and kind. Only the
# pairing; what the pairs mean is judged in changes.py.
"""Matching of two versions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from .model import Flow, Step

T = TypeVar("T")
Pairs = tuple[list[tuple[T, T]], list[T], list[T]]  # matched, removed, added


def _by(key: Callable[[T], object], old: list[T], new: list[T], pairs: list[tuple[T, T]]) -> None:
    """Pairs what has a key that occurs once on each side; takes the pairs out of both lists."""
    first: dict[object, list[T]] = {}
    second: dict[object, list[T]] = {}
    for item in old:
        first.setdefault(key(item), []).append(item)
    for item in new:
        second.setdefault(key(item), []).append(item)
    for k, items in first.items():
        others = second.get(k, [])
        if k and len(items) == 1 and len(others) == 1:
            pairs.append((items[0], others[0]))
            old.remove(items[0])
            new.remove(others[0])


def match_flows(old: Sequence[Flow], new: Sequence[Flow]) -> Pairs[Flow]:
    """Flows by id, then by name."""
    left, right = list(old), list(new)
    pairs: list[tuple[Flow, Flow]] = []
    _by(lambda f: f.id, left, right, pairs)
    _by(lambda f: f.name.casefold(), left, right, pairs)
    return pairs, left, right


def match_steps(old: Flow, new: Flow) -> Pairs[Step]:
    """Steps by id (if the kind or the name still agrees), then by name and kind, then by id alone."""
    left, right = list(old.steps), list(new.steps)
    pairs: list[tuple[Step, Step]] = []
    by_id = {s.id: s for s in right}
    for step in list(left):
        other = by_id.get(step.id)
        if other is not None and (other.kind == step.kind or other.name == step.name):
            pairs.append((step, other))
            left.remove(step)
            right.remove(other)
    _by(lambda s: (s.name.casefold(), s.kind) if s.name else None, left, right, pairs)
    _by(lambda s: s.id, left, right, pairs)
    return pairs, left, right
