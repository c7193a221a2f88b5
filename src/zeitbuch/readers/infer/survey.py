# What a document of unknown form consists of: every place that repeats (items of a list, entries of an object whose
# keys are names rather than fields), and the leaves of a record by path.
"""Places that repeat, and leaves by path."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import ITEM
from zeitbuch.readers.input.pointers import escape_key

Path = tuple[str, ...]
STAR = "*"
STAR_KEY = "\\*"  # a key of an object that is a star, as builders call the way for all else
MOST_DEPTH = 14
_SEVERAL = 4  # entries of an object
_LEAST_NAMING = 3  # entries of an object, on average, that name each other
_NUMBERED = re.compile(
    r"^(?:[A-Za-z]{0,16}[-_.]?\d+|[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})$"
)  # keys that are ids


class Item(NamedTuple):
    """One record of a group: the document it is in, its pointer and its key or index."""

    document: int
    pointer: str
    value: dict[str, Any]

    @property
    def key(self) -> str:
        return self.pointer.rpartition("/")[2].replace("~1", "/").replace("~0", "~")

    @property
    def parent(self) -> str:
        return self.pointer.rpartition("/")[0]


class Group(NamedTuple):
    """All records at one generalised path; ``keyed`` when they are entries of objects."""

    path: Path
    items: list[Item]
    keyed: bool


def is_scalar(value: Any) -> bool:
    """Whether a value is a text or a number that may serve as a name."""
    return type(value) is str or type(value) is int


def is_map(dicts: list[dict[str, Any]]) -> bool:
    """Whether the keys of these objects are names of entries: the entries are alike, the keys are not."""
    entries = [value for mapping in dicts for value in mapping.values()]
    if len(entries) < 2 or not all(type(value) is dict for value in entries):
        return False
    count = Counter(key for value in entries for key in value)
    common = [key for key, number in count.items() if number >= 0.8 * len(entries)]
    if not common:
        return False
    return _keys_are_names(dicts, entries, common)


_LEAST_LANES = 2  # of one flow, in the mean
_MORE_OF_LANES = 2  # keys that only some lanes have


def _keys_are_names(dicts: list[dict[str, Any]], entries: list[Any], common: list[Any]) -> bool:
    keys = {key for mapping in dicts for key in mapping}
    size = len(entries) / max(1, sum(1 for mapping in dicts if mapping))
    if (len(dicts) >= 2 and len(keys) > 1.4 * size) or all(_NUMBERED.match(key) for key in keys):
        return True
    if _are_lanes(entries, common, size) or _are_written_alike(entries, common, size) or _name_each_other(dicts):
        return True
    return len(dicts) < 3 and (size >= 3 or len(common) >= 3) and len(common) >= 2


def _name_each_other(dicts: list[dict[str, Any]]) -> bool:
    """Whether most entries hold the key of another one as a text, as steps do that name what comes before or after them."""
    naming = 0
    for mapping in dicts:
        for key, entry in mapping.items():
            texts = {value for _, value in find_leaves(entry, depth=3) if type(value) is str}
            naming += bool(texts & (mapping.keys() - {key}))
    count = sum(map(len, dicts))
    return count >= _LEAST_NAMING * len(dicts) and naming >= 0.5 * count


def _are_lanes(entries: list[dict[str, Any]], common: list[Any], size: float) -> bool:
    """Lanes or stages with the same keys, each with a list of its own; the two ends of a link hold none. Some may say more of themselves, where
    the lists stand under one key."""
    every = {key for value in entries for key in value}
    if size < _LEAST_LANES or not all(map(_holds_records, entries)):
        return False
    listed = [key for key in common if all(_holds_records({key: value.get(key)}) for value in entries)]
    return set(common) == every or (bool(listed) and len(every) <= len(common) + _MORE_OF_LANES)


def _are_written_alike(entries: list[dict[str, Any]], common: list[Any], size: float) -> bool:
    """The same names in every object, and entries that have most of their keys in common."""
    every = {key for value in entries for key in value}
    least = 0.5 if size >= _SEVERAL else 0.6
    shared = len(common) >= 3 and len(common) >= least * len(every)
    shared = shared or (
        size > _SEVERAL and len(common) >= 2 and len(common) >= 0.6 * len(every) and _mostly_hold(entries)
    )
    return size >= 3 and (shared or len({tuple(sorted(value)) for value in entries}) == 1)


def _mostly_hold(entries: list[dict[str, Any]]) -> bool:
    """Whether most entries hold objects, as states and steps do."""
    return sum(any(type(value) is dict for value in entry.values()) for entry in entries) >= 0.8 * len(entries)


def _holds_records(entry: dict[str, Any]) -> bool:
    """Whether an entry holds a list or an object of records."""
    inner = [
        list(value.values()) if type(value) is dict else value
        for value in entry.values()
        if type(value) in (dict, list)
    ]
    return any(held and all(type(record) is dict for record in held) for held in inner)


def find_groups(documents: list[Any]) -> list[Group]:
    """All places that repeat in the documents, outer ones first."""
    found: list[Group] = []
    level: list[tuple[Path, list[tuple[int, str, Any]]]] = [
        ((), [(index, "", document) for index, document in enumerate(documents)])
    ]
    while level:
        below: list[tuple[Path, list[tuple[int, str, Any]]]] = []
        for path, values in level:
            if len(path) >= MOST_DEPTH:
                continue
            _look_below(values, found, path, below)
        level = below
    return found


def _look_below(
    values: list[tuple[int, str, Any]],
    found: list[Group],
    path: Path,
    below: list[tuple[Path, list[tuple[int, str, Any]]]],
) -> None:
    dicts = [(distance, part, value) for distance, part, value in values if type(value) is dict]
    lists = [(distance, part, value) for distance, part, value in values if type(value) is list]
    if lists:
        inner = [
            (distance, f"{part}/{index}", item) for distance, part, values in lists for index, item in enumerate(values)
        ]
        _add_group(found, path, inner, False)
        below.append(((*path, STAR), inner))
    if dicts and path and is_map([values for _, _, values in dicts]):
        inner = [
            (distance, f"{part}/{escape_key(key)}", item)
            for distance, part, values in dicts
            for key, item in values.items()
        ]
        _add_group(found, path, inner, True)
        below.append(((*path, STAR), inner))
    elif dicts:
        _look_into_objects(path, below, dicts)


def _look_into_objects(
    path: Path, below: list[tuple[Path, list[tuple[int, str, Any]]]], dicts: list[tuple[int, str, dict[Any, Any]]]
) -> None:
    by_key: dict[str, list[tuple[int, str, Any]]] = {}
    for distance, part, v in dicts:
        for key, item in v.items():
            if type(item) is dict or type(item) is list:
                by_key.setdefault(key, []).append((distance, f"{part}/{escape_key(key)}", item))
    below += [((*path, key), values) for key, values in by_key.items()]


def _add_group(found: list[Group], path: Path, values: list[tuple[int, str, Any]], keyed: bool) -> None:
    items = [Item(distance, part, value) for distance, part, value in values if type(value) is dict]
    if items and len(items) >= 0.6 * len(values):
        found.append(Group((*path, STAR), items, keyed))


def find_leaves(value: Any, path: Path = (), depth: int = 8) -> Iterator[tuple[Path, Any]]:
    """All scalar values below a record with their paths; lists count as ``*``."""
    if type(value) is dict and depth:
        for key, inner in value.items():
            yield from find_leaves(inner, (*path, key), depth - 1)
    elif type(value) is list and depth:
        for inner in value:
            yield from find_leaves(inner, (*path, STAR), depth - 1)
    elif type(value) is not dict and type(value) is not list:
        yield path, value


def count_leaves(value: Any) -> int:
    """Number of scalar values below a value."""
    return sum(1 for _ in find_leaves(value, depth=40))


def value_at(value: Any, path: Path) -> Any:
    """The value at a path without ``*``, or None."""
    for key in path:
        if type(value) is not dict:
            return None
        value = value.get(key)
    return value


def values_at(value: Any, path: Path) -> Iterator[Any]:
    """All values at a path; ``*`` goes through lists and objects."""
    if not path:
        yield value
        return
    key, rest = path[0], path[1:]
    if key == STAR:
        inner = value if type(value) is list else list(value.values()) if type(value) is dict else []
        for item in inner:
            yield from values_at(item, rest)
    elif type(value) is dict and key in value:
        yield from values_at(value[key], rest)


def lies_at(path: Path, place: Path) -> bool:
    """Whether a path leads to a place, or below it."""
    return len(path) >= len(place) and all(part in (key, STAR) for key, part in zip(path, place, strict=False))


def dotted_path(path: Path) -> str:
    """A path in the spelling of dialect files."""
    if path == (ITEM,):
        return ITEM
    return ".".join(
        part if part and not any(letter in part for letter in '." ') and part[:1] not in "'" else f'"{part}"'
        for part in path
    )


def json_path(path: Path) -> str:
    """A path as JSONPath query (RFC 9535)."""
    text = "$"
    for part in path:
        if part == STAR:
            text += "[*]"
        elif part.isidentifier() and part.isascii():
            text += f".{part}"
        else:
            text += "['" + part.replace("\\", "\\\\").replace("'", "\\'") + "']"
    return text


def without_path(value: Any, path: Path) -> Any:
    """A value without what stands behind a path, in every item and entry where it has ``*``; None without any path."""
    if not path:
        return None
    key, rest = path[0], path[1:]
    if key == STAR and type(value) is list:
        return [without_path(item, rest) for item in value]
    if type(value) is not dict or (key != STAR and key not in value):
        return value
    return {name: (without_path(item, rest) if key in (name, STAR) else item) for name, item in value.items()}
