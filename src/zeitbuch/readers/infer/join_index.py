# The names of the steps of every sample and who names whom: what every way of finding links asks.
"""An index of the steps by name."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .fields import BRACKETED
from .identity import Identity
from .steps import Found, Sample, Sight
from .survey import STAR, Path, value_at
from .vocabulary import guess_kinds


class Join(NamedTuple):
    """One link found: indices of steps (or -1 - n for the n-th name that is no step), with its outlet."""

    sample: int
    source: str
    target: str
    outlet: str


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
        """Whether a step looks like a trigger."""
        index = self.either[sample].get(name)
        if index is None:
            return True  # a name that is no step: a trigger that stands apart
        best = guess_kinds(self.operations[sample][index])
        return bool(best) and best[0].trigger is not None

    def direction_votes(self, pairs: list[Join]) -> float:
        """Votes for the direction as written: positive when links run from start to end."""
        votes = 0.0
        for join in pairs:
            first, second = self.either[join.sample].get(join.source), self.either[join.sample].get(join.target)
            if first is not None and second is not None and first != second:
                votes += 1 if first < second else -1
                votes += 4 * (
                    ((second, first) in self.lineage[join.sample]) - ((first, second) in self.lineage[join.sample])
                )
            votes += 3 * (
                self.looks_like_start(join.sample, join.source) - self.looks_like_start(join.sample, join.target)
            )
        return votes


def own_leaves(sight: Sight, inside: set[int]) -> Iterator[tuple[Path, Any]]:
    """Leaves of a step without those of the steps inside it."""

    def walk(value: Any, path: Path) -> Iterator[tuple[Path, Any]]:
        if id(value) in inside:
            return
        if type(value) is dict:
            for key, item in value.items():
                yield from walk(item, (*path, key))
        elif type(value) is list:
            for item in value:
                yield from walk(item, (*path, STAR))
        else:
            yield path, value

    for key, value in sight.raw.items():
        yield from walk(value, (key,))
