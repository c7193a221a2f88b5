# How many passes arrive where branches meet, in every sampled run: each counts, or they wait for each other pass by pass. Which of many
# passes got lost on one branch says nothing of which got lost on another: what both have kept is drawn (hypergeometric).
"""Joins of sampled passes."""

from __future__ import annotations

import numpy as np

from .plan import JoinTree, fold_tie
from .random_draws import MOST_DRAWN, Draws, Ints
from .sample_records import Load, parts_of_both

Reached = list[tuple[Load, Load]]  # of each step so far: what goes on, and what of it succeeded


class SampledJoins:
    """The joins of one sample."""

    def __init__(self, draws: Draws, itemised: bool) -> None:
        self.draws, self.itemised = draws, itemised

    def tie_arrivals(
        self, tie: JoinTree | int, edges: list[Load | None], reached: Reached, begun: dict[str, Load]
    ) -> Load | None:
        """What arrives where edges meet; ``begun`` is what each trigger starts, "" what begins with the level."""
        return fold_tie(
            tie,
            lambda edge: edges[edge],
            lambda meeting, first, second: self._met_arrivals(meeting, first, second, edges, reached, begun),
        )

    def _met_arrivals(
        self,
        tie: JoinTree,
        first: Load | None,
        second: Load | None,
        edges: list[Load | None],
        reached: Reached,
        begun: dict[str, Load],
    ) -> Load | None:
        if first is None or second is None:
            if tie.mode == "all":
                return None
            return first if second is None else second
        within = edges[tie.within] if tie.within >= 0 else None
        base = within if within is not None else _base_of(tie, reached, begun)
        if tie.mode == "each":
            return combine_counts(tie.mode, first, second, tie.how == "instead")
        met = self._met_singly(tie, first, second, base.passes if base is not None else None)
        load = combine_counts("once" if tie.how == "shared" else tie.mode, first, second, False)
        passes = load.passes if met is None else met
        if not self.itemised or all([one is None or one.items is one.passes for one in (first, second, base)]):
            return Load(passes, passes, load.single)
        items = self._met_items(tie, first.items, second.items, base, passes)
        if items is None:
            share = passes / np.maximum(load.passes, 1)
            items = load.items if met is None else self.draws.round_randomly(load.items * share)
        return Load(np.minimum(passes, items), items, load.single)  # those go on that have any left

    def _met_items(self, tie: JoinTree, a: Ints, b: Ints, base: Load | None, passes: Ints) -> Ints | None:
        """Items that have come on both branches, or on either; None where no rule says how they go together."""
        if tie.items == "instead":
            return (a + b) * (passes > 0)
        both = self.overlap(a, b, base.items) if tie.items == "side" and base is not None else None
        return both if both is None or tie.mode == "all" else a + b - both

    def _met_singly(self, tie: JoinTree, a: Load, b: Load, base: Ints | None) -> Ints | None:
        """Passes that wait for each other one by one; None where no rule says how they go together."""
        if tie.how == "instead":
            return np.zeros_like(a.passes) if tie.mode == "all" else a.passes + b.passes
        if tie.how == "mixed" or base is None:
            return None
        if tie.how == "side":
            both = self.overlap(a.passes, b.passes, base)
            return None if both is None else both if tie.mode == "all" else a.passes + b.passes - both
        # A run is of one trigger: of one that begins both, or of one whose passes come alone.
        together = base > 0
        both = self.overlap(a.passes * together, b.passes * together, base)
        if both is None:
            both = np.minimum(a.passes, b.passes)
        return np.where(together, both if tie.mode == "all" else a.passes + b.passes - both, a.passes + b.passes)

    def overlap(self, a: Ints, b: Ints, whole: Ints) -> Ints | None:
        """How many of ``whole`` are among a and among b, each drawn from them without regard to the other; None where more have come
        than there were."""
        if (a > whole).any() or (b > whole).any():
            return None
        if np.array_equal(a, whole):
            return b
        if np.array_equal(b, whole):
            return a
        most = whole.max()
        if most <= 1:
            return a * b
        return self.draws.rng.hypergeometric(a, whole - a, b) if most < MOST_DRAWN else np.minimum(a, b)


def _base_of(tie: JoinTree, reached: Reached, begun: dict[str, Load]) -> Load | None:
    """What two branches parted from."""
    if tie.split >= 0:
        return reached[tie.split][0 if tie.plain else 1]
    started = [begun[name] for name in tie.begun if name in begun]
    if len(started) < 2:
        return started[0] if started else None
    return Load(np.sum([one.passes for one in started], axis=0), np.sum([one.items for one in started], axis=0), True)


def combine_counts(mode: str, a: Load, b: Load, instead: bool) -> Load:
    """Two counts that meet where nothing is known of single passes: the sum, the least or the most of them."""
    if mode == "each":
        parts = None if a.items is a.passes and b.items is b.passes else parts_of_both(a, b)
        return Load(a.passes + b.passes, a.items + b.items, a.single and b.single and instead, parts)
    pick = np.minimum if mode == "all" else np.maximum
    return Load(pick(a.passes, b.passes), pick(a.items, b.items), a.single and b.single)
