# Steps written as {"mail_send": {...}}: what a step does is the only key of its item, and what it is stands below.
"""Lists whose items have a single key."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.dialects.reshape_rules import UnwrapRule

from .survey import STAR, Group, Path, count_leaves, find_groups, json_path
from .vocabulary import guess_kinds

_KEY = "@key"
_LEAST_ITEMS = 3
_LEAST_SHARE = 0.5  # of what the documents hold
_MOST_TYPES = 0.6  # of the number of records


def single_key_list(documents: list[Any]) -> Path:
    """The path of lists whose items all have one key and hold most of what the documents say; empty when there are none."""
    total = sum(map(count_leaves, documents))
    good = [group for group in find_groups(documents) if not group.keyed and _has_single_keys(group)]
    held = [(sum(count_leaves(item.value) for item in group.items), group.path[:-1]) for group in good]
    most, path = max(held, default=(0, ()))
    return path if most >= _LEAST_SHARE * total else ()


def unwrap_rules(documents: list[Any]) -> list[UnwrapRule]:
    """Rules for lists of records with a single key of which nothing else names them, the innermost first; none where there are none."""
    total = sum(map(count_leaves, documents))
    groups = [group for group in find_groups(documents) if not group.keyed and _are_single(group)]
    outer = max(groups, key=_leaves_in, default=None)
    if outer is None or not _come_again(outer) or _leaves_in(outer) < _LEAST_SHARE * total:
        return []
    keys = _keys_in(outer)
    below = [group for group in groups if group.path[: len(outer.path)] == outer.path]
    inner = [group for group in below if _keys_in(group) & keys or _say_what_they_do(group)]
    paths = sorted((group.path for group in inner), key=lambda path: -len(path))
    return [UnwrapRule(at=json_path(path)) for path in paths]


def _are_single(group: Group) -> bool:
    return all(len(item.value) == 1 for item in group.items)


def _say_what_they_do(group: Group) -> bool:
    """Whether the keys are words for kinds of steps, with an object below each."""
    held = all(type(value) is dict for item in group.items for value in item.value.values())
    return held and all(any(guess.kind is not None for guess in guess_kinds(key)) for key in _keys_in(group))


def _leaves_in(group: Group) -> int:
    return sum(count_leaves(item.value) for item in group.items)


def _keys_in(group: Group) -> set[str]:
    return {key for item in group.items for key in item.value}


def _come_again(group: Group) -> bool:
    """Whether the keys are several types that come again, most of them with an object below, and nothing names what stands there."""
    records = [value for item in group.items for value in item.value.values()]
    keys, held = _keys_in(group), sum(type(record) is dict for record in records)
    several = 2 < len(keys) <= _MOST_TYPES * len(records)
    return several and held >= 0.6 * len(records) and not _share_keys(records)


def _has_single_keys(group: Group) -> bool:
    """Whether every item has one key with an object below, several of them, which share keys."""
    if len(group.items) < _LEAST_ITEMS or not all(len(item.value) == 1 for item in group.items):
        return False
    keys = {key for item in group.items for key in item.value}
    return len(keys) > 1 and _share_keys([value for item in group.items for value in item.value.values()])


def _share_keys(records: list[Any]) -> bool:
    if not all(type(record) is dict and record for record in records):
        return False
    every = {key for record in records for key in record}
    return any(sum(key in record for record in records) >= 0.8 * len(records) for key in every)


def open_single_keys(value: Any, path: Path) -> Any:
    """A document in which the items of such lists are what stands below their key, which is kept as ``@key``."""
    if not path:
        return [_opened(item) for item in value] if type(value) is list else value
    key, rest = path[0], path[1:]
    if key == STAR and type(value) is list:
        return [open_single_keys(item, rest) for item in value]
    if type(value) is not dict:
        return value
    return {name: open_single_keys(item, rest) if key in (name, STAR) else item for name, item in value.items()}


def _opened(item: Any) -> Any:
    if type(item) is not dict or len(item) != 1:
        return item
    ((key, inner),) = item.items()
    return {**inner, _KEY: key} if type(inner) is dict else item
