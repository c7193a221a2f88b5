# What an input may cost. Exports are hostile until read; every limit can be raised by option and the message
# that refuses an input names it.
"""Limits on inputs and the walk that enforces them."""

from __future__ import annotations

import sys
from gc import get_referents
from typing import Any

from msgspec import Struct, structs

from zeitbuch.core.model.problems import ZeitbuchError, fail

_LISTS = sys.implementation.name == "cpython"


class Limits(Struct, frozen=True):
    """``bytes`` of one file or member, ``depth`` of nesting, ``values`` in one file, ``text`` characters of one
    string; for packages: ``members``, ``nesting`` of packages in packages, ``unpacked`` bytes of all that is read, ``headers`` bytes of
    what describes members; ``merged`` values that YAML merges into others; for one flow: ``steps``, ``links``, ``scopes`` of steps
    within steps."""

    bytes: int = 268_435_456
    depth: int = 120
    values: int = 20_000_000
    text: int = 1_000_000
    members: int = 50_000
    nesting: int = 3
    unpacked: int = 1_073_741_824
    headers: int = 16_777_216
    merged: int = 500_000
    steps: int = 100_000
    links: int = 300_000
    scopes: int = 100


def raise_limit(limits: Limits, name: str, value: int) -> Limits:
    """A copy with one limit changed. Raises ZeitbuchError for an unknown name or a value below 1."""
    if name not in limits.__struct_fields__:
        raise fail(
            "limit-unknown",
            f"expected the name of a limit, found '{name}'",
            "known limits: " + ", ".join(limits.__struct_fields__),
        )
    if value < 1:
        raise fail("limit-unknown", f"expected a limit of at least 1, found {name}={value}")
    return structs.replace(limits, **{name: value})


def too_large(name: str, allowed: int, found: str, where: str = "") -> ZeitbuchError:
    """The refusal of an input, with the limit that refused it."""
    place = f" at {where}" if where else ""
    return fail(
        "limit",
        f"expected at most {name}={allowed}, found {found}{place}",
        f"if the file is to be trusted, raise the limit: --limit {name}=NUMBER",
    )


class Counts:
    """What ``measure_tree`` counts beside scalar values: ``entries`` of objects, and ``texts`` among the values."""

    __slots__ = ("entries", "texts")

    def __init__(self) -> None:
        self.entries = self.texts = 0


def measure_tree(
    value: Any,
    limits: Limits,
    keys: set[str] | None = None,
    check_text: bool = True,
    plain: bool = False,
    counts: Counts | None = None,
) -> int:
    """Number of scalar values below ``value``; all its keys are added to ``keys``, and what else is counted to ``counts``,
    when these are given.

    ``plain`` says that the value was decoded from JSON: then the interpreter itself lists what its containers hold
    (of an object with nothing but texts as keys: the values), which takes a third off.

    Walks level by level, so no depth of nesting can hurt it. Raises ZeitbuchError when depth, count or the
    length of a string passes its limit.
    """
    objects: list[Any] = [value] if type(value) is dict else []
    lists: list[Any] = [value] if type(value) is list else []
    leaves = 0 if objects or lists else 1
    depth = seen = 0
    counts = counts or Counts()
    counts.texts += type(value) is str
    while objects or lists:
        depth += 1
        if depth > limits.depth:
            raise too_large("depth", limits.depth, "deeper nesting")
        # This runs over every value of every file: few steps a container, one test a value.
        held = _held_by(objects, keys) if keys is not None or not (plain and _LISTS) else get_referents(*objects)
        counts.entries += len(held)
        for listed in lists:
            held += listed
        if check_text:
            longest = max([len(value) for value in held if type(value) is str], default=0)
            if longest > limits.text:
                raise too_large("text", limits.text, f"a single string of {longest:,} characters")
        others = [value for value in held if type(value) is not str]
        counts.texts += len(held) - len(others)
        objects = [value for value in others if type(value) is dict]
        lists = [value for value in others if type(value) is list] if len(others) > len(objects) else []
        leaves += len(held) - len(objects) - len(lists)
        seen += len(held)
        if seen > limits.values:
            raise too_large("values", limits.values, f"more than {limits.values:,} values")
    return leaves


def _held_by(objects: list[Any], keys: set[str] | None) -> list[Any]:
    """The values of objects; their keys are added to ``keys``."""
    held: list[Any] = []
    for one in objects:
        held += one.values()
        if keys is not None:
            keys.update(one)
    return held


def count_values(value: Any) -> int:
    """Number of scalar values below an already checked value."""
    kind = type(value)
    if kind is dict:
        return sum([count_values(item) for item in value.values()])
    if kind is list:
        return sum([count_values(item) for item in value])
    return 1
