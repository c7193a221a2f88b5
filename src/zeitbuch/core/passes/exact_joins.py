# How much arrives where branches meet, as an expectation: sums where each counts, products where they wait for each other.
# Where the expectation is none of both, it is noted that the figure is not exact.
"""Joins of expected passes."""

from __future__ import annotations

from functools import reduce

from zeitbuch.core.assumptions.uncertain import exceeds, least, most, where_above
from zeitbuch.core.model.records import JoinMode

from .brought_items import (
    Brought,
    Moving,
    Reasons,
    are_same,
    brought_by,
    is_alike,
    left_with_items,
    side_by_side,
    unevenly_brought,
)
from .moving import NEVER, NOTHING, STRONGEST
from .plan import JoinTree, Node, fold_tie

_SMALL = 1e-12


class ExactJoins:
    """The joins of one flow; ``itemised`` says that a pass may bring several items somewhere."""

    def __init__(self, itemised: bool, inexact: Reasons) -> None:
        self.itemised = itemised
        self.inexact = inexact
        self.started: dict[str, Moving] = {}  # what each trigger starts; "" for what begins with the level
        self.most = 1.0  # at once

    def join_arrivals(
        self,
        node: Node,
        start: Moving | None,
        edges: list[Moving | None],
        reached: list[tuple[Moving, Moving]],
        bounds: list[float],
    ) -> Moving:
        tie = node.incoming
        if tie is None:
            met = start if start is not None else NOTHING
        else:
            met = self._tie_arrivals(tie, edges, reached, bounds) if not isinstance(tie, int) else edges[tie] or NOTHING
            if start is not None:
                met = self._with_start(node, met, start)
        for index in node.backs:
            more = edges[index]
            if more is not None and more.passes:
                evidence = min(met.evidence, more.evidence)
                brought = side_by_side(met, more) if self.itemised else None
                met = Moving(met.passes + more.passes, met.items + more.items, NEVER, evidence, brought)
        if node.backs:
            met = Moving(met.passes, met.items, NEVER, met.evidence, met.brought)
        return met

    def _with_start(self, node: Node, met: Moving, start: Moving) -> Moving:
        evidence, mode = min(met.evidence, start.evidence), node.start_mode
        if mode == "each":
            # Where the step itself says that each counts, both may come in one run; else they are of different triggers.
            high = met.most + start.most if node.step.join == "each" else max(met.most, start.most)
            brought = side_by_side(met, start) if self.itemised else None
            return Moving(met.passes + start.passes, met.items + start.items, high, evidence, brought)
        # Another trigger starts another run: both never come in one.
        self.inexact.add_once("a trigger and a branch that meet")
        passes, items = (
            combine_arrivals([met.passes, start.passes], mode),
            combine_arrivals([met.items, start.items], mode),
        )
        brought = unevenly_brought(passes, items) if self.itemised else None
        return Moving(passes, items, max(met.most, start.most), evidence, brought)

    def _tie_arrivals(
        self, tie: JoinTree | int, edges: list[Moving | None], reached: list[tuple[Moving, Moving]], bounds: list[float]
    ) -> Moving:
        return fold_tie(
            tie,
            lambda edge: edges[edge] or NOTHING,
            lambda meeting, first, second: self._met_arrivals(meeting, first, second, edges, reached, bounds),
        )

    def _met_arrivals(
        self,
        tie: JoinTree,
        first: Moving,
        second: Moving,
        edges: list[Moving | None],
        reached: list[tuple[Moving, Moving]],
        bounds: list[float],
    ) -> Moving:
        evidence = min(first.evidence if first.passes else STRONGEST, second.evidence if second.passes else STRONGEST)
        bound = bounds[tie.split] if tie.split >= 0 else self.most if tie.begun else max(first.most, second.most)
        if tie.mode == "each":
            high = first.most + second.most
            if tie.how == "instead":  # a pass takes one of them, and may become several there
                high = min(high, max(first.most, second.most, bound))
            brought = side_by_side(first, second) if self.itemised else None
            return Moving(first.passes + second.passes, first.items + second.items, high, evidence, brought)
        return self._wait_arrivals(tie, edges, reached, first, second, bound, evidence)

    def _wait_arrivals(
        self,
        tie: JoinTree,
        edges: list[Moving | None],
        reached: list[tuple[Moving, Moving]],
        first: Moving,
        second: Moving,
        bound: float,
        evidence: int,
    ) -> Moving:
        high_bound = min(max(first.most, second.most), bound)
        within = edges[tie.within] if tie.within >= 0 else None
        base = within if within is not None else self._base_of(tie, reached)
        passes = (
            self._expected_waiting(tie, first.passes, second.passes, base.passes, bound, max(first.most, second.most))
            if tie.how != "shared"
            else self._shared(tie, first, second)
        )
        if not self.itemised:
            return Moving(passes, passes, high_bound, evidence)
        items = self._waiting_items(tie, first, second, base.items, passes)
        met = Moving(passes, items, high_bound, evidence)
        self._note_brought(tie, first, second, base, met)
        return met

    def _note_brought(self, tie: JoinTree, first: Moving, second: Moving, base: Moving, met: Moving) -> None:
        """Of passes that have waited for each other only those go on that have an item left that has."""
        if tie.how == "instead" and tie.mode != "all":
            met.brought = side_by_side(first, second)
            return
        one, other, whole = brought_by(first), brought_by(second), brought_by(base)
        lossless = first.brought is None and second.brought is None and base.brought is None
        if lossless and are_same(one.each, whole.each) and are_same(other.each, whole.each):
            return
        beside = tie.how == "side" and tie.items == "side"
        if not beside or not is_alike(one, other) or not is_alike(one, whole):
            met.brought = unevenly_brought(met.passes, met.items)
            return
        if tie.mode == "all":
            passes = one.passes * other.passes / whole.passes if whole.passes else 0.0
        elif are_same(one.passes, whole.passes) and are_same(other.passes, whole.passes):
            passes = whole.passes
        else:
            # Of some only one has come, of some both: they have lost more or fewer items.
            if base.brought is not None or one.varied is not None:
                self.inexact.add_once("a join of branches with several items")
            met.brought = unevenly_brought(met.passes, met.items)
            return
        met.brought = Brought(passes, whole.each, whole.fewest, whole.varied)
        met.passes = left_with_items(met.brought, met.items, met.most, True, self.inexact)

    def _waiting_items(self, tie: JoinTree, first: Moving, second: Moving, base: float, passes: float) -> float:
        """Expected items of passes that wait for each other: those that have come on both branches, or on either."""
        a, b = first.items, second.items
        if tie.items == "instead":
            return a + b if passes else 0.0
        if tie.items != "side" or not base:
            return self._guessed_items(tie, first, second, passes)
        both, fits = a * b / base, base * (1 + 1e-9)
        side = both if tie.mode == "all" else a + b - both
        if not exceeds(most(a, b) - fits, 0.0):
            return side
        return where_above(most(a, b), fits, self._guessed_items(tie, first, second, passes), side)

    def _guessed_items(self, tie: JoinTree, first: Moving, second: Moving, passes: float) -> float:
        """Items where no rule says how those of two branches go together: as many of each pass as of those that came."""
        a, b = first.items, second.items
        if abs(a - first.passes) > _SMALL or abs(b - second.passes) > _SMALL:
            self.inexact.add_once("a join of branches with several items")
        pick = least if tie.mode == "all" else most
        whole = pick(first.passes, second.passes)
        return pick(a, b) * (passes / whole if whole else 0.0)

    def _base_of(self, tie: JoinTree, reached: list[tuple[Moving, Moving]]) -> Moving:
        """What the branches parted from."""
        if tie.split >= 0:
            return reached[tie.split][0 if tie.plain else 1]
        if not tie.begun:
            return Moving(1.0, 1.0, 1.0, STRONGEST)
        parts = [self.started[name] for name in tie.begun if name in self.started]
        return Moving(sum([part.passes for part in parts]), sum([part.items for part in parts]), 1.0, STRONGEST)

    def _shared(self, tie: JoinTree, a: Moving, b: Moving) -> float:
        """Expected passes of branches that some triggers begin together and others alone, as if all that a branch keeps were spread
        evenly over the runs of its triggers: what is kept may hang on the trigger, and then only samples tell."""
        self.inexact.add_once("branches that only some triggers begin together")
        base = self._base_of(tie, []).passes
        parts = [
            base + sum([self.started[name].passes for name in names if name in self.started]) for names in tie.alone
        ]
        if not base or not all(parts):
            return a.passes + b.passes
        together = [one.passes * (base / part) for one, part in zip((a, b), parts, strict=True)]
        both = together[0] * together[1] / base
        alone = a.passes + b.passes - together[0] - together[1]
        return alone + (both if tie.mode == "all" else together[0] + together[1] - both)

    def _expected_waiting(self, tie: JoinTree, a: float, b: float, base: float, bound: float, high: float) -> float:
        """Expected passes that wait for each other, one by one: branches side by side lose passes without regard to each other, so
        that both bring one with the product of their shares; of alternatives only one comes."""
        if not a and not b:
            return 0.0
        both = a * b / base if tie.how == "side" and base else 0.0
        told = both if tie.mode == "all" else a + b - both
        open_counts = tie.how == "mixed" or (tie.how == "side" and (high > bound or bound >= NEVER or not base))
        beyond = tie.how == "side" and exceeds(most(a, b) - base * (1 + 1e-9), 0.0)
        if not open_counts and not beyond:
            return told
        self.inexact.add_once("a join of branches of which no rule says how they go together")
        guess = _guessed_waiting(tie, a, b, base)
        return guess if open_counts else where_above(most(a, b), base * (1 + 1e-9), guess, told)


def _guessed_waiting(tie: JoinTree, a: float, b: float, base: float) -> float:
    """Passes of which no rule says how two counts of them go together, or of which more may have come on a branch than parted."""
    if tie.mode != "all":
        return most(a, b)
    # As if they were side by side, but never more than either brings.
    fewer = least(a, b)
    return least(fewer, a * b / base) if tie.how != "instead" and base else fewer


def combine_arrivals(amounts: list[float], mode: JoinMode) -> float:
    """Arrivals of a join: ``each`` sum, ``all`` minimum, ``once`` maximum of the incoming passes."""
    if not amounts:
        return 0.0
    if mode == "each":
        return sum(amounts)
    return reduce(least if mode == "all" else most, amounts)
