# Which flow, step, trigger or connection of the old version is which of the new one. Ids are trusted where they hold:
# one that now names another thing (numbers given anew) does not. What ids leave open is paired by content and
# neighbourhood. Only the pairing is done here; what the pairs mean is judged elsewhere.
"""Matching of two versions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Literal, TypeVar

from msgspec import Struct

from zeitbuch.core.model.canonical import Ids
from zeitbuch.core.model.records import Connection, Flow, Step, Trigger

if TYPE_CHECKING:
    from .ones_matrix import Matrix

T = TypeVar("T")
By = Literal["id", "name", "content"]
SURE_STEP = 0.45  # steps so alike are the same step, whatever their neighbours are
LEAST_STEP = 0.25  # steps less alike than this, neighbours counted, are not the same step
DOUBT = 0.2  # share of shared ids that name another thing, over which a flow's ids are not trusted


class Pair(Struct, frozen=True):
    """One thing in both versions: its ids, what paired it, and how sure that is (0 to 1)."""

    old: str
    new: str
    by: By = "id"
    confidence: float = 1.0


class Matching(Struct, frozen=True):
    """Steps and triggers of two versions of a flow. ``renewed`` counts the ids that the builder gave anew."""

    steps: tuple[Pair, ...]
    triggers: tuple[Pair, ...]
    removed: tuple[Step, ...]
    added: tuple[Step, ...]
    connections: dict[str, str] = {}

    @property
    def renewed(self) -> int:
        return sum(pair.old != pair.new for pair in self.steps)

    def ids(self, flows: dict[str, str] | None = None) -> Ids:
        """How the old version's ids are spelled in the new one."""
        parts = {pair.old: pair.new for pair in (*self.triggers, *self.steps) if pair.old != pair.new}
        # An id of the new version that meant something else in the old one must not be taken for it.
        taken = {pair.new for pair in (*self.triggers, *self.steps)} | {step.id for step in self.added}
        for step in self.removed:
            if step.id in taken:
                parts[step.id] = f"{step.id}\u2020"
        return Ids(parts, self.connections, flows or {})


def pair_by(key: Callable[[T], object], old: list[T], new: list[T], pairs: list[tuple[T, T]]) -> None:
    """Pairs what has a key that occurs once on each side; takes the pairs out of both lists."""
    first: dict[object, list[T]] = {}
    second: dict[object, list[T]] = {}
    for item in old:
        first.setdefault(key(item), []).append(item)
    for item in new:
        second.setdefault(key(item), []).append(item)
    gone_old, gone_new = set(), set()
    for value, items in first.items():
        others = second.get(value, [])
        if value and len(items) == 1 and len(others) == 1:
            pairs.append((items[0], others[0]))
            gone_old.add(id(items[0]))
            gone_new.add(id(others[0]))
    old[:] = [x for x in old if id(x) not in gone_old]
    new[:] = [x for x in new if id(x) not in gone_new]


def match_connections(old: Iterable[Connection], new: Iterable[Connection]) -> dict[str, str]:
    """Connections by id, then by name, service and account: old id -> new id, where they differ."""
    left, right = list(old), list(new)
    pairs: list[tuple[Connection, Connection]] = []
    pair_by(lambda c: c.id, left, right, pairs)
    pair_by(lambda c: (c.name, c.service, c.account) if c.name else None, left, right, pairs)
    return {first.id: second.id for first, second in pairs if first.id != second.id}


def _match_triggers(old: Flow, new: Flow) -> list[Pair]:
    left, right = list(old.triggers), list(new.triggers)
    found: list[Pair] = []
    steps: tuple[tuple[By, float, Callable[[Trigger], object]], ...] = (
        ("id", 1.0, lambda t: (t.id, t.kind)),
        ("name", 0.95, lambda t: (t.kind, t.name, t.event) if t.name or t.event else None),
        ("content", 0.8, lambda t: t.kind),
        ("id", 0.7, lambda t: t.id),
    )
    for by, confidence, key in steps:
        pairs: list[tuple[Trigger, Trigger]] = []
        pair_by(key, left, right, pairs)
        found += [Pair(first.id, second.id, by, confidence) for first, second in pairs]
    if len(left) == len(right) == 1 and len(old.triggers) == len(new.triggers) == 1:
        found.append(Pair(left[0].id, right[0].id, "content", 0.6))
    return found


def _trusted_ids(old: Flow, new: Flow) -> tuple[dict[str, str], bool]:
    """Ids that name the same step on both sides, and whether ids can be trusted in this flow at all."""
    fresh = {step.id: step for step in new.steps}
    found, shared, against = _same_ids(old, new, fresh)
    trusted = against <= DOUBT * shared
    if trusted:
        return found, True
    return _named_alike(old, new, found, fresh)


def _named_alike(old: Flow, new: Flow, found: dict[str, str], fresh: dict[str, Step]) -> tuple[dict[str, str], bool]:
    """Of ids that cannot be trusted, those whose step has the same, unique name on both sides."""
    first, second = Counter(step.name for step in old.steps), Counter(step.name for step in new.steps)
    named = {step.id: step.name for step in old.steps}
    sure = [
        key
        for key in found
        if named[key] and named[key] == fresh[key].name and first[named[key]] == second[named[key]] == 1
    ]
    return {key: key for key in sure}, False


def _same_ids(old: Flow, new: Flow, fresh: dict[str, Step]) -> tuple[dict[str, str], int, int]:
    """Ids that stand for the same step on both sides, how many are shared, and how many speak against trust."""
    # A copy has an id that was not there before: that the name stands there too says nothing against the original.
    before = {step.id for step in old.steps}
    spots = Counter((step.kind, step.operation, step.name) for step in new.steps if step.id in before)
    found: dict[str, str] = {}
    shared = against = 0
    for step in old.steps:
        other = fresh.get(step.id)
        if other is None:
            continue
        shared += 1
        same_sort = step.kind == other.kind and step.operation == other.operation
        if step.name == other.name and (same_sort or step.name):
            found[step.id] = step.id
        elif spots[step.kind, step.operation, step.name] and step.name:
            against += 1  # what it was stands under another id now
        elif same_sort or step.kind == other.kind:
            found[step.id] = step.id
        # else the id names a thing of another sort and name: content decides
    return found, shared, against


def _by_content(
    old: Flow, new: Flow, left: list[Step], right: list[Step], known: dict[str, str], trusted: bool, least: float
) -> list[Pair]:
    """Pairs among the steps that are left, by content and by the neighbours that are ``known``."""
    if not left or not right:
        return []
    from .similarity import assign_pairs, likeness_matrix

    score, rows, columns = likeness_matrix(old, new, known)
    part = _scored_pairs(left, right, trusted, least, rows, columns, score)
    return [Pair(left[index].id, right[inner].id, "content", cost) for index, inner, cost in assign_pairs(part, least)]


def _scored_pairs(
    left: list[Step], right: list[Step], trusted: bool, least: float, rows: list[str], columns: list[str], score: Matrix
) -> Matrix:
    mapping, table = {key: index for index, key in enumerate(rows)}, {key: index for index, key in enumerate(columns)}
    part = score[[mapping[step.id] for step in left]][:, [table[step.id] for step in right]]
    if least < SURE_STEP:
        part *= [[first.kind == second.kind for second in right] for first in left]
    if trusted:
        spots = {step.id: inner for inner, step in enumerate(right)}
        for index, first in enumerate(left):
            if first.id in spots:
                part[index, spots[first.id]] += 0.15
    return part


def match_steps(old: Flow, new: Flow) -> Matching:
    """Steps by trusted ids, then by content and neighbourhood, then by what is left of their ids."""
    settled, trusted = _trusted_ids(old, new)
    pairs = [Pair(key, key) for key in settled]
    triggers = _match_triggers(old, new)
    left = [step for step in old.steps if step.id not in settled]
    right = [step for step in new.steps if step.id not in settled]
    if left and right:
        left, right = _pair_by_content(old, new, settled, triggers, trusted, left, right, pairs)
    if trusted:
        left, right = _pair_by_id(left, right, pairs)
    order = {step.id: index for index, step in enumerate(new.steps)}
    pairs.sort(key=lambda p: order[p.new])
    return Matching(
        tuple(pairs), tuple(triggers), tuple(left), tuple(right), match_connections(old.connections, new.connections)
    )


def _pair_by_content(
    old: Flow,
    new: Flow,
    settled: dict[str, str],
    triggers: list[Pair],
    trusted: bool,
    left: list[Step],
    right: list[Step],
    pairs: list[Pair],
) -> tuple[list[Step], list[Step]]:
    """Pairs by content and neighbourhood: what is clear first, then what only its clear neighbours can tell."""
    known = {**settled, **{pair.old: pair.new for pair in triggers}}
    # What is clear first; then what only its clear neighbours can tell.
    # Where most ids held, an id that is new is a new step, unless all speaks against it.
    kept = trusted and 2 * len(settled) >= min(len(old.steps), len(new.steps))
    for least in (SURE_STEP,) if kept else (SURE_STEP, LEAST_STEP):
        chosen = _by_content(old, new, left, right, known, trusted, least)
        pairs += chosen
        known |= {pair.old: pair.new for pair in chosen}
        first, second = {pair.old for pair in chosen}, {pair.new for pair in chosen}
        left = [step for step in left if step.id not in first]
        right = [step for step in right if step.id not in second]
    return left, right


def _pair_by_id(left: list[Step], right: list[Step], pairs: list[Pair]) -> tuple[list[Step], list[Step]]:
    again = {step.id for step in left} & {step.id for step in right}
    pairs += [Pair(key, key, "id", 0.5) for key in (step.id for step in left) if key in again]
    left = [step for step in left if step.id not in again]
    right = [step for step in right if step.id not in again]
    return left, right
