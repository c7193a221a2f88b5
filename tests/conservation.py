"""Changes or removes one value of a document at a time, and asks whether what is read of it tells."""

from __future__ import annotations

import copy
import json
import random
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import msgspec

from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import Dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

Path = tuple[Any, ...]


class Silent(NamedTuple):
    """A value whose change or removal nothing told."""

    path: Path
    act: str
    before: Any
    after: Any


def leaves(value: Any, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every scalar below a value, with the keys that lead to it."""
    if isinstance(value, dict):
        for key, item in value.items():
            yield from leaves(item, (*path, key))
    elif isinstance(value, list):
        for place, item in enumerate(value):
            yield from leaves(item, (*path, place))
    else:
        yield path, value


def other_value(value: Any, draw: random.Random) -> Any:
    """Another value of the same type."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + draw.choice((1, 2, 7))
    if isinstance(value, float):
        return value + 0.5 if value + 0.5 != value else value / 2
    if value is None:
        return "something"
    if value[:1].isdecimal():
        return f"{9 - int(value[0]) or 1}{value[1:]}"
    return f"{value}q"


def with_value(document: Any, path: Path, after: Any) -> Any:
    """A copy with another value at the path."""
    made = copy.deepcopy(document)
    holder = made
    for key in path[:-1]:
        holder = holder[key]
    holder[path[-1]] = after
    return made


def without_value(document: Any, path: Path) -> Any:
    """A copy without the value at the path."""
    made = copy.deepcopy(document)
    holder = made
    for key in path[:-1]:
        holder = holder[key]
    del holder[path[-1]]
    return made


def said_of(raw: bytes, name: str, dialects: Sequence[Dialect] = (), reader: Reader | None = None) -> Any:
    """All that reading says of a document but how many values it holds: flows with their unread parts, and what was refused."""
    reader = reader or Reader(dialects)
    told = len(reader.problems)
    flows = list(reader.flows_of([Held(name, raw)]))
    return [plain_flow(flow) for flow in flows], sorted(
        problem.message for problem in reader.problems[told:] if problem.severity == "error"
    )


def plain_flow(flow: Flow) -> Any:
    plain = msgspec.to_builtins(msgspec.structs.replace(flow, origin=None))
    plain.pop("content", None)
    for part in ("steps", "triggers", "links"):
        for record in plain.get(part, ()):
            record.pop("origin", None)
    return plain


def silent_values(
    document: Any, dialects: Sequence[Dialect], draw: random.Random, most: int = 10**9
) -> tuple[int, list[Silent]]:
    """How many values were tried, and those whose change or removal nothing told. ``most`` are drawn. A reader reads five documents: the
    first as what it has never met, the others by what it has learned."""
    readers: list[Reader] = []

    def said(value: Any) -> Any:
        readers.append(Reader(dialects) if len(readers) % 5 == 0 else readers[-1])
        return said_of(json.dumps(value).encode(), "export.json", reader=readers[-1])

    before = said(document)
    every = list(leaves(document))
    tried = every if len(every) <= most else draw.sample(every, most)
    found: list[Silent] = []
    for path, value in tried:
        after = other_value(value, draw)
        if said(with_value(document, path, after)) == before:
            found.append(Silent(path, "changed", value, after))
        if said(without_value(document, path)) == before:
            found.append(Silent(path, "removed", value, None))
    return len(tried), found
