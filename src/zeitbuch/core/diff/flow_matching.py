# Which flow of the old version is which of the new one. An id with the same name is believed; one that now stands over another name is
# not, where the name stands elsewhere: builders number flows anew on every export, and people copy, rename and delete. What is left is
# paired at once, by what the flows say, their names and ids, and how sure that is is said.
"""Matching of the flows of two versions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Flow

from .matching import By, pair_by

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from .ones_matrix import Matrix

LEAST_FLOW = 0.55  # flows less alike than this, with neither id nor name in common, are two
LEAST_OF_NAMED, SURE_OF_NAMED = 0.75, 0.95  # so alike, and of a name that no other has: how sure that is
LEAST_NAMED = 0.3  # flows of one name or one id that are less alike than this may be two
FEW, LEAST_OF_FEW = 3, 0.7  # of fewer steps more of them must be alike: one or two may be so by chance
SAME_ID, SAME_NAME, SAME_PLACE = (
    0.2,
    0.1,
    0.02,
)  # what an id that is believed, a name, and its folder say beside the likeness
NEAR = 0.15  # by how much less likely another flow may be to be told beside the one that was taken
SURE = 0.9


class FlowPair(Struct, frozen=True):
    """One flow in both versions; ``rival`` names what else the old one could be, where that is nearly as likely."""

    old: Flow
    new: Flow
    by: By = "id"
    confidence: float = 1.0
    rival: str = ""


class FlowMatching(Struct, frozen=True):
    """Flows of two versions of an estate."""

    pairs: tuple[FlowPair, ...]
    removed: tuple[Flow, ...]
    added: tuple[Flow, ...]

    @property
    def ids(self) -> dict[str, str]:
        """Old id -> new id of flows whose id was renewed."""
        return {flow_pair.old.id: flow_pair.new.id for flow_pair in self.pairs if flow_pair.old.id != flow_pair.new.id}

    def renumbered(self) -> dict[str, int]:
        """How many flows have other ids, by their new file, where the file gave several of them anew."""
        found = Counter(
            pair.new.origin.source if pair.new.origin is not None else ""
            for pair in self.pairs
            if pair.old.id != pair.new.id
        )
        return {source: count for source, count in found.items() if count > 1}


def match_flows(old: Sequence[Flow], new: Sequence[Flow]) -> FlowMatching:
    """Flows by id and name, where ids come twice with their folder; all others by one assignment over what they say, name and id."""
    left, right = list(old), list(new)
    found: list[FlowPair] = []
    ways: tuple[tuple[By, float, Callable[[Flow], object]], ...] = (
        ("id", 1.0, lambda f: (f.id, f.name.casefold())),
        ("id", 1.0, lambda f: (f.id, f.name, f.folder, f.environment)),
    )
    for by, confidence, key in ways:
        pairs: list[tuple[Flow, Flow]] = []
        pair_by(key, left, right, pairs)
        found += [FlowPair(first, second, by, confidence) for first, second in pairs]
    if left and right:
        trusted = _ids_are_trusted(left, right, len(found))
        if trusted:
            _pair_alike("id", lambda flow: flow.id, left, right, found)
        _pair_by_name(left, right, found, trusted)
        left, right = _pair_rest(left, right, found, trusted)
    order = {id(flow): index for index, flow in enumerate(new)}
    found.sort(key=lambda p: order[id(p.new)])
    return FlowMatching(tuple(found), tuple(left), tuple(right))


def _pair_by_name(left: list[Flow], right: list[Flow], found: list[FlowPair], trusted: bool) -> None:
    """Pairs what has a name of its own on both sides and is alike, unless an id that is believed may say otherwise; takes it out of both
    lists. Of a large estate that was numbered anew that is nearly all, and each pair is looked at by itself."""
    ids = {flow.id for flow in left} & {flow.id for flow in right} if trusted else set()

    def key(flow: Flow) -> object:
        return (flow.name.casefold(), flow.folder, flow.environment) if flow.name and flow.id not in ids else None

    _pair_alike("name", key, left, right, found)


def _pair_alike(
    by: By, key: Callable[[Flow], object], left: list[Flow], right: list[Flow], found: list[FlowPair]
) -> None:
    """Pairs what has a key of its own on both sides (None: no key) and is alike; takes it out of both lists."""
    from .flow_similarity import likeness_of

    some = [[flow for flow in side if key(flow) is not None] for side in (left, right)]
    pairs: list[tuple[Flow, Flow]] = []
    pair_by(key, some[0], some[1], pairs)
    sure = [(first, second) for first, second in pairs if likeness_of(first, second) >= LEAST_OF_NAMED]
    found += [FlowPair(first, second, by, SURE_OF_NAMED) for first, second in sure]
    gone = {id(flow) for pair in sure for flow in pair}
    for side in (left, right):
        side[:] = [flow for flow in side if id(flow) not in gone]


def _pair_rest(
    left: list[Flow], right: list[Flow], found: list[FlowPair], trusted: bool
) -> tuple[list[Flow], list[Flow]]:
    """Adds pairs of what neither id nor name tells; ``trusted``: whether ids are believed. What is left on both sides."""
    if not left or not right:
        return left, right
    from .similarity import assign_pairs

    score, allowed = _scores(left, right, trusted)
    chosen = assign_pairs(score * allowed, LEAST_NAMED)
    for row, column, sure in chosen:
        first, second = left[row], right[column]
        by: By = "id" if first.id == second.id else "name" if _named_alike(first, second) else "content"
        found.append(FlowPair(first, second, by, sure, _rival(score, row, column, right)))
    rows, columns = {row for row, _, _ in chosen}, {column for _, column, _ in chosen}
    return (
        [flow for index, flow in enumerate(left) if index not in rows],
        [flow for index, flow in enumerate(right) if index not in columns],
    )


def _ids_are_trusted(left: list[Flow], right: list[Flow], held: int) -> bool:
    """Whether an id says more than its likeness: not where as many ids stand over names that were elsewhere before."""
    names = {flow.id: flow.name.casefold() for flow in left}
    before = Counter(names.values())
    moved = sum(
        flow.id in names and flow.name.casefold() != names[flow.id] and before[flow.name.casefold()] > 0
        for flow in right
    )
    return moved <= held


def _named_alike(first: Flow, second: Flow) -> bool:
    return bool(first.name) and first.name.casefold() == second.name.casefold()


def _scores(left: list[Flow], right: list[Flow], trusted: bool) -> tuple[Matrix, Matrix]:
    """How likely each pair is one flow, and (1 or 0) which pairs may be taken for one."""
    import numpy as np

    from .flow_similarity import flow_likeness, words_said

    def alike(key: Callable[[Flow], object]) -> NDArray[np.bool_]:
        places: dict[object, int] = {}
        rows, columns = ([places.setdefault(key(flow), len(places)) for flow in side] for side in (left, right))
        same: NDArray[np.bool_] = np.array(rows)[:, None] == np.array(columns)[None, :]
        return same

    score = flow_likeness(left, right)
    same_id = alike(lambda f: f.id) if trusted else np.zeros(score.shape, bool)
    named = alike(lambda f: f.name.casefold() or id(f))
    placed = named & alike(lambda f: (f.folder, f.environment))
    steps = [np.array([len(flow.steps) for flow in side]) for side in (left, right)]
    few = np.minimum(steps[0][:, None], steps[1][None, :]) < FEW
    said = [np.array([bool(words_said(flow)) for flow in side]) for side in (left, right)]
    mute = few & ~(said[0][:, None] & said[1][None, :])  # one or two steps without any text may be anybody's
    allowed = (score >= np.where(few, LEAST_OF_FEW, LEAST_FLOW)) & ~mute | (named & (score >= LEAST_NAMED)) | same_id
    score = np.minimum(score + SAME_NAME * named + SAME_PLACE * placed + SAME_ID * same_id, 1.0)
    # An id that is believed pairs what has become another flow under another name too, though not surely.
    return np.where(same_id, np.maximum(score, LEAST_NAMED), score), allowed.astype(float)


def _rival(score: Matrix, row: int, column: int, right: list[Flow]) -> str:
    """What else an old flow could be: the next likely new one, where it is nearly as likely."""
    others = score[row].copy()
    others[column] = 0.0
    place = int(others.argmax())
    return right[place].title if others[place] >= max(LEAST_FLOW, score[row, column] - NEAR) else ""


def told_once(pair: FlowPair, renumbered: dict[str, int]) -> bool:
    """Whether that a flow has another id is told with its file."""
    source = pair.new.origin.source if pair.new.origin is not None else ""
    return pair.old.id != pair.new.id and source in renumbered and pair.confidence >= SURE


def rival_words(name: str) -> str:
    """'it could also be ‘X’'; nothing without a rival."""
    return f"it could also be {quote_name(name)}" if name else ""
