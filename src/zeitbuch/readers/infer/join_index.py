# The names of the steps of every sample and who names whom: what every way of finding links asks.
"""An index of the steps by name."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, Literal, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .clocks import CRON
from .fields import BRACKETED
from .identity import Identity
from .steps import Found, Sample, Sight
from .survey import STAR, STAR_KEY, Path, value_at
from .vocabulary import guess_kinds

JoinForm = Literal["records", "adjacency", "pointers", "predecessors", "order"]


class Join(NamedTuple):
    """One link found: indices of steps (or -1 - n for the n-th name that is no step), with its outlet."""

    sample: int
    source: str
    target: str
    outlet: str


class Joins(NamedTuple):
    """How steps are joined. Paths are from the flow (records, adjacency) or from the step (pointers, predecessors)."""

    way: JoinForm
    at: Path = ()
    source: Path = ()
    target: Path = ()
    outlets: tuple[Path, ...] = ()  # the first that a link has
    label: Path = ()
    condition: Path = ()
    by: Literal["id", "name"] = "id"
    pairs: tuple[Join, ...] = ()
    sure: float = 0.0
    more: tuple[Path, ...] = ()  # further pointers within the steps
    direction: float = 0.0  # how clearly anything tells which end comes first, 0..1
    missed: int = 0  # texts where links are named that name no step
    also: tuple[Joins, ...] = ()  # further lists of links, or objects from step to targets


class JoinIndex:
    """Names of the steps of every sample, and the order in which they stand."""

    def __init__(self, found: Found, identity: Identity) -> None:
        self.samples = found.samples
        self.ids = identity.ids
        self.either = [{**mapping, **table} for mapping, table in zip(identity.names, identity.ids, strict=True)]
        self.names = identity.names
        self.total = sum(len(sample.steps) for sample in found.samples)
        self.operation = found.operation
        self.operations = [
            [as_text(value_at(sight.raw, found.operation)) for sight in sample.steps] for sample in found.samples
        ]

        self.timed = self._timed_operations()
        self.lineage = [self._lineage_pairs(number, sample) for number, sample in enumerate(found.samples)]
        self.numeric = all(name.isdecimal() for table in identity.ids for name in table)

    def _lineage_pairs(self, number: int, sample: Sample) -> set[tuple[int, int]]:
        """(user, source) of steps: the texts of the one name the other in a placeholder."""
        names = sorted(self.either[number], key=len, reverse=True)
        if not names:
            return set()
        pattern = re.compile(r"(?<!\w)(?:" + "|".join(map(re.escape, names)) + r")(?!\w)")
        inside = {id(sight.raw) for sight in sample.steps}
        found: set[tuple[int, int]] = set()
        for index, sight in enumerate(sample.steps):
            for _, value in own_leaves(sight, inside - {id(sight.raw)}):
                if type(value) is str and len(value) < 20_000:
                    for matched in BRACKETED.finditer(value):
                        hit = pattern.search(matched["inner"])
                        if hit and self.either[number][hit[0]] != index:
                            found.add((index, self.either[number][hit[0]]))
        return found

    def direction_agreement(self, pairs: list[Join]) -> float:
        """How far the pairs agree on one direction: 1 when all run forward or all back, near 0 for chance."""
        ahead = back = 0
        for join in pairs:
            first, second = self.either[join.sample].get(join.source), self.either[join.sample].get(join.target)
            if first is not None and second is not None:
                ahead += first < second
                back += first > second
        return abs(ahead - back) / max(1, ahead + back)

    def are_meant(self, pairs: list[Join], texts: int) -> bool:
        """Whether numbers that are ids of steps are meant as such, not by chance."""
        if len(pairs) < 0.98 * texts:
            return False
        ends = [
            (join.sample, self.either[join.sample][join.source], self.either[join.sample][join.target])
            for join in pairs
        ]
        told = sum(
            (second, first) in self.lineage[number] or (first, second) in self.lineage[number]
            for number, first, second in ends
        )
        many = len({(join.sample, join.source) for join in pairs}) >= 0.5 * self.total
        return many or self.direction_agreement(pairs) >= 0.6 or told >= max(2, 0.25 * len(pairs))

    def looks_like_start(self, sample: int, name: str) -> bool:
        """Whether a step looks like a trigger: by the words of its operation, or a cron text in it."""
        index = self.either[sample].get(name)
        if index is None:
            return True  # a name that is no step: a trigger that stands apart
        best = guess_kinds(self.operations[sample][index])
        return (bool(best) and best[0].trigger is not None) or self.operations[sample][index] in self.timed

    def _timed_operations(self) -> set[str]:
        """Operations of which every step has a cron text."""
        seen: dict[str, list[bool]] = {}
        for sample, names in zip(self.samples, self.operations, strict=True):
            for sight, name in zip(sample.steps, names, strict=True):
                held = any(type(value) is str and CRON.match(value) for _, value in own_leaves(sight, set()))
                seen.setdefault(name, []).append(held)
        return {name for name, held in seen.items() if all(held)}

    def direction_votes(self, pairs: list[Join]) -> float:
        """Votes for the direction as written: positive when links run from start to end. What a step takes from another comes
        after it, nothing leads to a trigger, and a flow has one beginning rather than many. The order in which steps stand tells
        nothing."""
        votes = 0.0
        for join in pairs:
            first, second = self.either[join.sample].get(join.source), self.either[join.sample].get(join.target)
            if first is not None and second is not None and first != second:
                votes += 4 * (
                    ((second, first) in self.lineage[join.sample]) - ((first, second) in self.lineage[join.sample])
                )
            votes += 3 * (
                self.looks_like_start(join.sample, join.source) - self.looks_like_start(join.sample, join.target)
            )
        return votes + 2 * self._single_roots(pairs)

    def _single_roots(self, pairs: list[Join]) -> int:
        """Flows with one beginning and several ends, less those with several beginnings and one end."""
        sources: dict[int, set[str]] = {}
        targets: dict[int, set[str]] = {}
        for join in pairs:
            sources.setdefault(join.sample, set()).add(join.source)
            targets.setdefault(join.sample, set()).add(join.target)
        roots = {sample: len(sources[sample] - targets[sample]) for sample in sources}
        ends = {sample: len(targets[sample] - sources[sample]) for sample in sources}
        return sum((roots[sample] == 1 < ends[sample]) - (ends[sample] == 1 < roots[sample]) for sample in sources)


def own_leaves(sight: Sight, inside: set[int]) -> Iterator[tuple[Path, Any]]:
    """Leaves of a step without those of the steps inside it."""

    def walk(value: Any, path: Path) -> Iterator[tuple[Path, Any]]:
        if id(value) in inside:
            return
        if type(value) is dict:
            for key, item in value.items():
                yield from walk(item, (*path, key if key != STAR else STAR_KEY))
        elif type(value) is list:
            for item in value:
                yield from walk(item, (*path, STAR))
        else:
            yield path, value

    for key, value in sight.raw.items():
        yield from walk(value, (key,))
