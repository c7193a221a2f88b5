# Where a query or path finds nothing: what stands near it in the records, so that a slip is seen at once.
"""Near misses of queries and paths."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Iterable
from typing import Any, NamedTuple

from .paths import path_keys
from .query import Query

_LOOKED_AT = 200  # records
_NAMED = 6


class Key(NamedTuple):
    """A key, and the share of cases in which it fits."""

    name: str
    share: float


def near_query(query: Query, documents: Iterable[Any]) -> str:
    """How far a query comes, and what is there instead; empty where that cannot be told."""
    if query.parts is None:
        return "nothing is there"
    found: list[Any] = list(documents)[:_LOOKED_AT]
    came = "$"
    for part in query.parts:
        below = _below(found, part)
        if not below:
            keys = Counter(key for one in found if isinstance(one, dict) for key in one)
            if not keys:
                return f"nothing is at {came}"
            near = difflib.get_close_matches(part, list(keys), 1, 0.6)
            listed = ", ".join(f"`{key}`" for key, _ in keys.most_common(_NAMED))
            return f"at {came} there is no `{part}`" + (
                f"; did you mean `{near[0]}`?" if near else f"; there are {listed}"
            )
        found, came = below, f"{came}[*]" if part == "*" else f"{came}.{part}"
    return ""


def _below(found: list[Any], part: str) -> list[Any]:
    below: list[Any] = []
    for one in found:
        if part != "*":
            below += [one[part]] if isinstance(one, dict) and part in one else []
        elif isinstance(one, dict | list):
            below += one.values() if isinstance(one, dict) else one
    return below[: _LOOKED_AT * 10]


def near_key(path: str, records: list[dict[str, Any]]) -> str:
    """What is there in the place of a path that finds nothing: the same key elsewhere, one spelled nearly alike, or the keys that
    stand beside it."""
    *above, last = path_keys(path)
    looked = records[:_LOOKED_AT]
    counts: Counter[tuple[str, ...]] = Counter()
    for record in looked:
        counts.update(set(_paths_of(record)))
    beside = [one for one in counts if one[:-1] == tuple(above)]
    alike = difflib.get_close_matches(last, [one[-1] for one in beside], 1, 0.7)
    near = [one for one in counts if one[-1] == last] or [one for one in beside if one[-1] in alike]
    if near:
        best = max(near, key=lambda one: (counts[one], one))
        return f"nothing is there; `{_spelled(best)}` is in {counts[best]} of {len(looked)}"
    if not beside:
        return "nothing is there"
    named = sorted(beside, key=lambda one: (-counts[one], one))
    listed = ", ".join(f"`{_spelled(one[-1:])}`" for one in named[:_NAMED]) + (" ..." if len(named) > _NAMED else "")
    where = f"in `{_spelled(tuple(above))}`" if above else "beside it"
    return f"nothing is there; {where} there are {listed}"


def _paths_of(record: dict[str, Any]) -> Iterable[tuple[str, ...]]:
    for key, value in record.items():
        yield (key,)
        if isinstance(value, dict):
            yield from ((key, inner) for inner in value)


def _spelled(keys: tuple[str, ...]) -> str:
    """A dotted path as it is written in a dialect."""
    return ".".join(f'"{key}"' if "." in key or " " in key or not key else key for key in keys)
