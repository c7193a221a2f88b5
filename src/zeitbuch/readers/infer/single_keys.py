# Steps written as {"mail_send": {...}}: what a step does is the only key of its item, and what it is stands below.
"""Lists whose items have a single key."""

from __future__ import annotations

from typing import Any

from .survey import STAR, Group, Path, count_leaves, find_groups

_KEY = "@key"
_LEAST_ITEMS = 3
_LEAST_SHARE = 0.5  # of what the documents hold


def single_key_list(documents: list[Any]) -> Path:
    """The path of lists whose items all have one key and hold most of what the documents say; empty when there are none."""
    total = sum(map(count_leaves, documents))
    good = [group for group in find_groups(documents) if not group.keyed and _has_single_keys(group)]
    held = [(sum(count_leaves(item.value) for item in group.items), group.path[:-1]) for group in good]
    most, path = max(held, default=(0, ()))
    return path if most >= _LEAST_SHARE * total else ()


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
