# What a flow says beside its name and state: who takes its failures, how many of its runs go on at a time, which step is the first.
"""Finding the facts of flows."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .fields import key_in
from .identity import Identity
from .join_index import Joins
from .steps import Found
from .survey import STAR, Path, dotted_path, find_leaves, lies_at
from .vocabulary import plain_word, words_of

_FAULTS = (
    "error",
    "fault",
    "fail",
    "catch",
    "rescue",
    "trouble",
    "fehler",
    "erreur",
    "fallo",
    "feil",
    "avvik",
    "fout",
    "errore",
    "erro",
)
_FLOWS = ("flow", "process", "ablauf", "flux", "flujo", "flyt", "stroom", "flusso", "fluxo", "handler")
_RUNS = frozenset(
    "concurrency concurrent parallel parallelism simultaneous runs instances gleichzeitig simultane paralelo samtidig gelijktijdig".split()
)
_LEAST_SHARE = 0.8  # of the flows that name a first step


def flow_facts(found: Found, identity: Identity, joins: Joins, taken: set[str]) -> dict[str, str]:
    """Paths for the [flow] table: ``fault_handlers``, ``concurrency``, ``first``. ``taken`` are paths that say something else."""
    columns = columns_of_heads(found)
    names = _names_of_flows(columns, len(found.samples))
    result: dict[str, str] = {}
    for path, values in sorted(columns.items()):
        bare = path[:-1] if path[-1:] == (STAR,) else path
        told = dotted_path(bare)
        if told in taken or STAR in bare:
            continue
        if _names_handler(path, values, names):
            result.setdefault("fault_handlers", told)
        elif (
            path == bare
            and key_in(path, _RUNS)
            and all(type(value) is int and 0 < value <= 1000 for _, value in values)
        ):
            result.setdefault("concurrency", told)
    first = _first_step(found, identity, joins, columns, taken)
    return result | ({"first": dotted_path(first)} if first else {})


def _names_handler(path: Path, values: list[tuple[int, Any]], names: set[str]) -> bool:
    """Whether a field names flows that are started after a failure: flows that are there, or its key says both."""
    key = plain_word(next((part for part in reversed(path) if part != STAR), ""))
    failing, flow = (any(word in key for word in words) for words in (_FAULTS, _FLOWS))
    texts = [as_text(value) for _, value in values]
    return failing and (
        set(texts) <= names or (flow and all(0 < len(text) < 80 and text.count(" ") < 6 for text in texts))
    )


def columns_of_heads(found: Found) -> dict[Path, list[tuple[int, Any]]]:
    """By path: the values of flows outside their steps, each with the number of its flow."""
    steps = tuple(part for part in found.steps_at if part != STAR)
    columns: dict[Path, list[tuple[int, Any]]] = {}
    for number, sample in enumerate(found.samples):
        for path, value in find_leaves(_without(sample.raw, steps), depth=3):
            if value not in (None, "", [], {}):
                columns.setdefault(path, []).append((number, value))
    return columns


def _without(value: Any, keys: Path) -> Any:
    """A record without what stands behind keys."""
    if type(value) is not dict or not keys:
        return {}
    rest = {key: inner for key, inner in value.items() if key != keys[0]}
    return {**rest, keys[0]: _without(value.get(keys[0]), keys[1:])} if len(keys) > 1 else rest


def _names_of_flows(columns: dict[Path, list[tuple[int, Any]]], flows: int) -> set[str]:
    """What names a flow: the values at the top of flows that are another for each."""
    names: set[str] = set()
    for path, values in columns.items():
        texts = {as_text(value) for _, value in values}
        if len(path) == 1 and len(texts) == len(values) == flows:
            names |= texts
    return names


def _first_step(
    found: Found, identity: Identity, joins: Joins, columns: dict[Path, list[tuple[int, Any]]], taken: set[str]
) -> Path:
    """The field that names a step of its own flow to which no link leads; empty when there is none."""
    led = {(pair.sample, pair.target) for pair in joins.pairs}
    links = [each.at for each in (joins, *joins.also)] if joins.way in ("records", "adjacency") else []
    for path, values in sorted(columns.items()):
        if (
            any(lies_at(path, at) for at in links)
            or STAR in path
            or dotted_path(path) in taken
            or len(values) < _LEAST_SHARE * len(found.samples)
        ):
            continue
        named = [(number, as_text(value)) for number, value in values]
        if _may_begin(path, named) and all(_is_step(identity, one) and one not in led for one in named):
            return path
    return ()


def _may_begin(path: Path, named: list[tuple[int, str]]) -> bool:
    """A count or a version may be the number of a step by chance: a number needs a word."""
    told = any(word in _FIRST for key in path for word in words_of(key))
    return told or not all(name.isdecimal() for _, name in named)


def _is_step(identity: Identity, named: tuple[int, str]) -> bool:
    number, name = named
    return name in identity.ids[number] or name in identity.names[number]


_FIRST = frozenset(
    "first start starts begin begins entry initial root erste erster premier primero debut inicio forste eerste primo".split()
)
