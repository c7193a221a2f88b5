# Steps may hang together by what they give out and listen to, and name no step at all: where nothing else links them, two fields whose
# texts meet across the steps of a flow say so. It is asked, with the order of the list as the other answer.
"""Topics that steps give out and listen to."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from .fields import key_in
from .join_index import Joins
from .starts import Starts
from .steps import Found
from .survey import Path, value_at

_LEAST_MET = 0.6  # of the topics of both fields
_LEAST_HAVE = 0.6  # of the steps that have each field
_LEAST_DISTINCT = 0.8  # of the topics that are given out in a flow: words of a list come again
_GIVES = frozenset(
    "emit emits emitted publish publishes out output outputs produces gives raises sends sendet publica emite produit ut gibt".split()
)
_TAKES = frozenset(
    "listen listens listening subscribe subscribes in input inputs consumes takes hears on hort ecoute escucha abonne lytter luistert".split()
)


class Topics(NamedTuple):
    """The field of steps that gives topics out, that of those who listen, and how many ways that makes; ``starts`` where triggers that
    stand apart give topics out too."""

    gives: Path
    takes: Path
    ways: int
    starts: Path


def find_topics(found: Found, joins: Joins, starts: Starts | None) -> Topics | None:
    """Two fields by which steps hang together, where nothing else links them."""
    if joins.way != "order":
        return None
    columns = _columns_of(found)
    heard = {path: [set().union(*flow) for flow in column] for path, column in columns.items()}
    pairs = [(one, two) for one in columns for two in columns if one < two and _may_meet(heard[one], heard[two])]
    met = [(ways, one, two) for one, two in pairs if (ways := _count_ways(columns[one], columns[two]))]
    if not met:
        return None
    ways, first, second = max(met, key=lambda each: (each[0], -len(each[1]) - len(each[2]), each[1:]))
    begun = _topics_of_triggers(starts, {first: columns[first], second: columns[second]})
    votes = _votes_for(first, second, begun) - _votes_for(second, first, begun)
    if votes < 0:
        first, second = second, first
    return Topics(first, second, ways, begun.get(second, ()))


def _votes_for(gives: Path, takes: Path, begun: dict[Path, Path]) -> int:
    """What speaks for a direction: triggers give out what steps take; words say less."""
    return 3 * (takes in begun) + key_in(gives, _GIVES) + key_in(takes, _TAKES)


Column = list[list[set[str]]]  # the topics of every step, by flows


def _columns_of(found: Found) -> dict[Path, Column]:
    """Fields of steps that hold texts, or lists of texts, in most steps."""
    steps = [sight.raw for sample in found.samples for sight in sample.steps]
    paths = {path for raw in steps for path in _text_paths(raw)}
    columns = {
        path: [[_topics_in(value_at(sight.raw, path)) for sight in sample.steps] for sample in found.samples]
        for path in paths
    }
    return {path: column for path, column in columns.items() if _count_filled(column) >= _LEAST_HAVE * len(steps)}


def _count_filled(column: Column) -> int:
    return sum(bool(topics) for flow in column for topics in flow)


def _text_paths(raw: dict[str, Any], above: Path = ()) -> Iterator[Path]:
    for key, value in raw.items():
        if type(value) is dict and not above:
            yield from _text_paths(value, (*above, key))
        elif _topics_in(value):
            yield (*above, key)


def _topics_in(value: Any) -> set[str]:
    texts = value if type(value) is list else [value]
    return {text for text in texts if text} if all(type(text) is str and len(text) <= 80 for text in texts) else set()


def _may_meet(first: list[set[str]], second: list[set[str]]) -> bool:
    """Whether enough topics of both fields are the same, whichever steps have them."""
    same = sum(len(one & two) for one, two in zip(first, second, strict=True))
    return same >= _LEAST_MET * min(sum(map(len, first)), sum(map(len, second))) > 0


def _count_ways(gives: Column, takes: Column) -> int:
    """How many ways lead from steps that give a topic out to others that take it; 0 where too few meet, or topics come again."""
    ways = given = given_met = taken = taken_met = distinct = 0
    for giving, taking in zip(gives, takes, strict=True):
        pairs = {
            (at, to, topic)
            for at, out in enumerate(giving)
            for to, heard in enumerate(taking)
            for topic in out & heard
            if at != to
        }
        ways += len(pairs)
        given += sum(map(len, giving))
        distinct += len(set().union(*giving))
        taken += sum(map(len, taking))
        given_met += len({(at, topic) for at, _, topic in pairs})
        taken_met += len({(to, topic) for _, to, topic in pairs})
    enough = given and min(given_met / given, taken_met / max(1, taken)) >= _LEAST_MET
    return ways if enough and distinct >= _LEAST_DISTINCT * given else 0


def _topics_of_triggers(starts: Starts | None, columns: dict[Path, Column]) -> dict[Path, Path]:
    """By the fields of steps that take what triggers give out: where triggers name it."""
    found: dict[Path, Path] = {}
    for takes, column in columns.items():
        hits: dict[Path, int] = {}
        for number, record in starts.records if starts is not None else ():
            heard = set().union(*column[number])
            for path in _text_paths(record):
                hits[path] = hits.get(path, 0) + bool(_topics_in(value_at(record, path)) & heard)
        best = max(hits, key=lambda path: hits[path], default=())
        if starts is not None and best and hits[best] >= _LEAST_MET * len(starts.records):
            found[takes] = best
    return found
