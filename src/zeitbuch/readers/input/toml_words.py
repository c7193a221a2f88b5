# What the decoder says of a wrong value ("Invalid enum value 'modell'") in words that help: what is allowed there, and what was
# perhaps meant. What is allowed is taken from the types themselves.
"""Messages about wrong keys and values of TOML files."""

from __future__ import annotations

import difflib
import re
from typing import Any, NamedTuple

from msgspec import inspect

_PLACE = re.compile(r"at `\$([^`]*)`")
_STEP = re.compile(r"\.([^.\[\]]+)|\[(\d+|\.\.\.)\]")
_NO_WORD = re.compile(r"Invalid enum value (.+?) - at")
_NO_KEY = re.compile(r"unknown field `([^`]*)`")
_MISSING = re.compile(r"missing required field `([^`]*)`")
_WRONG_TYPE = re.compile(r"Expected `([^`]*)`, got `([^`]*)`")
_TYPES = {
    "str": "a text", "int": "a whole number", "float": "a number", "bool": "true or false", "array": "a list",
    "object": "a table", "null": "nothing",
}  # fmt: skip


class Words(NamedTuple):
    """What was expected and found, and what to do about it (empty: nothing to add)."""

    message: str
    hint: str


def words_of_error(error: str, kind: Any, renamed: dict[str, str]) -> Words:
    """The words for a message of the decoder about data that should be of this type; ``renamed`` are keys that have other names
    now."""
    place = _PLACE.search(error)
    path = place[1] if place else ""
    where = f"`{path.removeprefix('.')}`" if path else "the file"
    here = _types_at(kind, path)
    if hit := _NO_KEY.search(error):
        return _unknown_key(hit[1], where, here, renamed)
    if hit := _NO_WORD.search(error):
        allowed = [str(value) for one in here if isinstance(one, inspect.LiteralType) for value in one.values]
        found = hit[1].strip("'")
        return Words(f"expected at {where} one of {', '.join(allowed)}; found {hit[1]}", _meant(found, allowed))
    if hit := _MISSING.search(error):
        return Words(f"expected the key `{hit[1]}` in {where}, found none", "")
    if hit := _WRONG_TYPE.search(error):
        wanted = " or ".join(_TYPES.get(part.strip(), part.strip()) for part in hit[1].split("|"))
        return Words(f"expected {wanted} at {where}, found {_TYPES.get(hit[2], hit[2])}", "")
    if "RFC3339 encoded date" in error:
        return Words(f"expected a date at {where}, found a text that is none", "write it as 2026-11-01")
    return Words(error, "")


def _unknown_key(key: str, where: str, here: list[inspect.Type], renamed: dict[str, str]) -> Words:
    known = [field.encode_name for one in here if isinstance(one, inspect.StructType) for field in one.fields]
    if key in renamed:
        return Words(
            f"expected in {where} a key that is known, found `{key}`", f"`{key}` is called `{renamed[key]}` now"
        )
    listed = f"; known are {', '.join(known)}" if known else ""
    return Words(f"expected in {where} a key that is known, found `{key}`{listed}", _meant(key, known))


def _meant(found: str, known: list[str]) -> str:
    near = difflib.get_close_matches(found, known, 1, 0.6)
    return f"did you mean `{near[0]}`?" if near else ""


def _types_at(kind: Any, path: str) -> list[inspect.Type]:
    """The types that may stand at a path such as ``.kind[0].role``."""
    here = _plain([inspect.type_info(kind)])
    for key, place in _STEP.findall(path):
        below: list[inspect.Type] = []
        for one in here:
            if key and isinstance(one, inspect.StructType):
                below += [field.type for field in one.fields if field.encode_name == key]
            elif isinstance(one, inspect.DictType):
                below.append(one.value_type)
            elif place and isinstance(one, inspect.ListType | inspect.VarTupleType):
                below.append(one.item_type)
        here = _plain(below)
    return here


def _plain(types: list[inspect.Type]) -> list[inspect.Type]:
    found: list[inspect.Type] = []
    for one in types:
        if isinstance(one, inspect.UnionType):
            found += _plain(list(one.types))
        elif isinstance(one, inspect.Metadata):
            found += _plain([one.type])
        else:
            found.append(one)
    return found
