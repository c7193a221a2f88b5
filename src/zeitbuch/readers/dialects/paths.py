# Short dotted paths within one step (`with.engine`, `keepers.*.name`, `"a.b".c`), compiled to functions, and the
# tree of keys they claim: what no path claims is what was not understood.
"""Dotted paths: compiled getters, and the claims they make on a record."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Any

from zeitbuch.core.model.problems import fail

Getter = Callable[[dict[str, Any]], Any]
Claims = dict[str, Any]  # key -> True (all of it) or a nested Claims

ITEM = "."  # as a path: the thing itself; one that is no object is read as {".": it}

_PART = re.compile(r'"([^"]+)"|([^."\s][^."]*)')
_WHOLE = re.compile(r'(?:"[^"]+"|[^."\s][^."]*)(?:\.(?:"[^"]+"|[^."\s][^."]*))*')


@lru_cache(maxsize=4096)  # dialects name the same few paths again and again
def path_keys(path: str) -> tuple[str, ...]:
    """The keys of a dotted path; keys with dots stand in double quotes. Raises ZeitbuchError when malformed."""
    if path == ITEM:
        return (ITEM,)
    if not _WHOLE.fullmatch(path):
        raise fail("path", f"expected a dotted path, found '{path}'", "example: with.engine")
    return tuple(matched[1] or matched[2] for matched in _PART.finditer(path))


def _walk_path(value: Any, keys: tuple[str, ...]) -> Any:
    for place, key in enumerate(keys):
        if type(value) is dict:
            if key == "*" and key not in value:
                rest = keys[place + 1 :]
                return [_walk_path(item, rest) for item in value.values()]
            value = value.get(key)
        elif type(value) is list:
            if key == "*":
                rest = keys[place + 1 :]
                return [_walk_path(item, rest) for item in value]
            value = value[int(key)] if key.isdecimal() and int(key) < len(value) else None
        else:
            return None
    return value


def _getter_of_path(path: str) -> Getter:
    keys = path_keys(path)
    if len(keys) == 1 and keys[0] != "*":
        (only,) = keys
        return lambda record: record.get(only)
    if len(keys) == 2 and "*" not in keys and not keys[1].isdecimal():
        first, second = keys

        def two(record: dict[str, Any]) -> Any:
            inner = record.get(first)
            return inner.get(second) if type(inner) is dict else None

        return two
    return lambda record: _walk_path(record, keys)


def get_nothing(_record: dict[str, Any]) -> Any:
    """The getter of a path that was not given."""
    return None


def make_getter(paths: str | list[str]) -> Getter:
    """A function from a record to the first value that one of the paths finds, else None."""
    if not paths:
        return get_nothing
    if isinstance(paths, str):
        return _getter_of_path(paths)
    ways = [_getter_of_path(part) for part in paths]

    def first(record: dict[str, Any]) -> Any:
        for way in ways:
            value = way(record)
            if value is not None:
                return value
        return None

    return first


def make_getters(paths: str | list[str]) -> list[Getter]:
    """A getter for each of the paths."""
    return [_getter_of_path(path) for path in ([paths] if isinstance(paths, str) else paths) if path]


def claim_paths(claims: Claims, paths: str | Iterable[str]) -> None:
    """Note that the values at these paths are understood."""
    for path in [paths] if isinstance(paths, str) else paths:
        if path and path != ITEM:
            claim_keys(claims, path_keys(path))


def claim_keys(claims: Claims, keys: tuple[str, ...]) -> None:
    """Note that the value behind these keys is understood; ``*`` is every key and every place of a list."""
    here = claims
    for key in keys[:-1]:
        inner = here.setdefault(key, {})
        if inner is True:
            return
        here = inner
    here[keys[-1]] = True


_TEXT = "\x00"  # among claims: a text that stands here, not what an object or list holds; no key of an export is so


def claim_texts(claims: Claims, keys: tuple[str, ...]) -> None:
    """Note that a text behind these keys is understood; objects and lists that stand there are claimed by other paths, or not at all."""
    claim_keys(claims, (*keys, _TEXT))


def copy_claims(claims: Claims) -> Claims:
    """A copy that further claims may be added to."""
    return {key: value if value is True else copy_claims(value) for key, value in claims.items()}


def unclaimed_part(record: dict[str, Any], claims: Claims) -> dict[str, Any]:
    """The part of a record that no path claims."""
    rest: dict[str, Any] = {}
    each = claims.get("*")
    for key, value in record.items():
        held = claims.get(key, each)
        if held is True:
            continue
        if held is None:
            rest[key] = value
        elif type(value) is dict:
            if "*" in held or not value.keys() <= held.keys() or any([value is not True for value in held.values()]):
                inner = unclaimed_part(value, held)
                if inner:
                    rest[key] = inner
        elif type(value) is list:
            _unclaimed_items(held, value, rest, key)
        elif value is not None and not (type(value) is str and _TEXT in held):
            rest[key] = value
    return rest


def _unclaimed_items(held: Any, value: list[Any], rest: dict[str, Any], key: str) -> None:
    each = held.get("*")
    if each is True and len(held) == 1:
        return  # every item is claimed whole, as steps and links are
    below = [_unclaimed_item(item, held.get(str(index), each)) for index, item in enumerate(value)]
    if any([item is not _CLAIMED for item in below]):
        rest[key] = [{} if item is _CLAIMED else item for item in below]


_CLAIMED = object()


def _unclaimed_item(item: Any, held: Any) -> Any:
    if held is True or item is None or (type(item) is str and held is not None and _TEXT in held):
        return _CLAIMED
    if held is None or type(item) is not dict:
        return item
    return unclaimed_part(item, held) or _CLAIMED


def is_words(value: Any) -> bool:
    """Whether ``as_text`` keeps all of a value."""
    kind = type(value)
    if kind is list:
        return not any([type(item) is dict or type(item) is list for item in value])
    return kind is not dict


def are_items(value: Any) -> bool:
    """Whether a value can say what a loop goes over: a list, its name or an expression, a number, or lists of which each combination counts
    (``{"language": ["no", "de"], "tone": ["plain"]}``)."""
    if type(value) is dict:
        return bool(value) and all(type(inner) is list for inner in value.values())
    return True


def as_text(value: Any) -> str:
    """A scalar as text: numbers and booleans in JSON's spelling, None as empty; a list of scalars divided by commas."""
    if type(value) is str:
        return value
    if value is None or type(value) is dict:
        return ""
    if type(value) is list:
        return ", ".join(filter(None, map(as_text, value))) if is_words(value) else ""
    if value is True:
        return "true"
    if value is False:
        return "false"
    return str(value)


_FLAGS = {
    "true": True, "yes": True, "on": True, "1": True, "enabled": True, "active": True,
    "false": False, "no": False, "off": False, "0": False, "disabled": False, "inactive": False,
}  # fmt: skip


def as_flag(value: Any) -> bool | None:
    """Yes or no, also as a word or as 1 and 0; else None."""
    if value is True or value is False:
        return bool(value)
    return _FLAGS.get(as_text(value).strip().lower())


def as_number(value: Any) -> float | None:
    """A finite number, also when written as text; else None. Booleans are no numbers."""
    if type(value) not in (float, int, str):
        return None
    try:
        found = float(value)
    except (ValueError, OverflowError):
        return None
    return found if math.isfinite(found) else None


def as_count(value: Any) -> int | None:
    """A whole number from 1 on; else None."""
    found = as_whole_number(value)
    return found if found is not None and found > 0 else None


def as_whole_number(value: Any) -> int | None:
    """A whole number, also when written as text; else None."""
    found = as_number(value)
    return int(found) if found is not None and found == int(found) else None
