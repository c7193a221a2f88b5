# What one step does to the passes and items that come to it, run by run: attempts, items, rounds.
"""Drawing what happens within steps."""

from __future__ import annotations

import numpy as np

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, MOST_PASSES
from zeitbuch.core.assumptions.values import Value

from .plan import Node
from .random_draws import MOST_DRAWN, Draws, Floats, Ints, sum_of_draws
from .sample_records import Leaving, Load, add_counts


class StepDraws:
    """Draws for the steps of one sample."""

    def __init__(self, draws: Draws, itemised: bool) -> None:
        self.draws, self.itemised = draws, itemised

    def kept_items(self, arriving: Load, passes: Ints) -> Ints:
        """The items of the passes that are left."""
        if arriving.items is arriving.passes or not self.itemised:
            return passes
        return self.draws.round_randomly(arriving.items * (passes / np.maximum(arriving.passes, 1)))

    def items_with(self, node: Node, came: Load | None, gone: Ints) -> Ints:
        """The items that go on with passes that failed."""
        return gone if came is None or node.step.yields == "one" else self.kept_items(came, gone)

    def kept_load(self, arriving: Load, passes: Ints) -> Load:
        """The passes that are left, with their items."""
        if arriving.parts is None or passes is arriving.passes:
            items = arriving.items if passes is arriving.passes else self.kept_items(arriving, passes)
            return Load(passes, items, arriving.single, arriving.parts)
        here = tuple([(part > 0).astype(np.int64) for part in arriving.parts])
        parts = tuple([n * is_left for n, is_left in zip(arriving.parts, self._spread_over(here, passes), strict=True)])
        return Load(passes, sum(parts[1:], parts[0]), arriving.single, parts)

    def _spread_over(self, parts: tuple[Ints, ...], left: Ints) -> tuple[Ints, ...]:
        """How many are left of each part, of all together so many: any of them may be."""
        found: list[Ints] = []
        rest = sum(parts[1:], parts[0])
        for part in parts:
            rest = rest - part
            found.append(self.draws.rng.hypergeometric(part, rest, left))
            left = left - found[-1]
        return tuple(found)

    def left_with_items(self, came: Load, passes: Ints, items: Ints) -> Load:
        """Of ``passes`` of those that ``came``, the ones that have any of so many ``items`` left; which of many got lost says nothing of the
        others."""
        if came.items is came.passes:
            return Load(items, items, came.single)
        if came.single:
            return Load(np.minimum(passes, items), items, True)
        if came.parts is not None and passes is came.passes and int(came.items.max()) < MOST_DRAWN:
            parts = self._spread_over(came.parts, items)
            return Load(np.sum([part > 0 for part in parts], axis=0), items, False, parts)
        share = passes / np.maximum(came.passes, 1)
        whole = came.items * share
        left = passes * (1 - _none_left(np.maximum(whole - items, 0.0), whole, came.items / np.maximum(came.passes, 1)))
        return Load(np.minimum(self.draws.round_randomly(left), np.minimum(passes, items)), items, False)

    def going_on(self, node: Node, left: Leaving, keeps: bool) -> Load:
        """What goes on where failures go on as if nothing had happened (``keeps``)."""
        load, gone = left.load, add_counts(left.failed, left.late)
        if gone is None or not keeps:
            return load
        if node.step.per_item and self.itemised:
            return self.with_items(node, left, load.items, gone)
        items = load.items + self.items_with(node, left.came, gone)
        return Load(load.passes + gone, items, load.single)

    def with_items(self, node: Node, left: Leaving, made: Ints, more: Ints, going: Ints | None = None) -> Load:
        """What goes on from a step that runs once for each item: what it has ``made`` of the items ``going`` (all that succeed), and ``more`` that
        have failed, in the passes of both."""
        came, there = left.came, left.there
        assert came is not None and there is not None
        load = self.left_with_items(came, there.passes, (there.items if going is None else going) + more)
        if node.step.yields == "one":
            return Load(load.passes, load.passes, load.single)
        items = made + more
        parts = load.parts if node.step.yields == "same" and node.inner is None else None
        return Load(np.minimum(load.passes, items), items, load.single, parts)

    def yielded_passes(self, node: Node, passes: Ints, items: Ints) -> Ints:
        if node.step.yields == "one":
            return passes
        if node.step.yields == "many" and node.items is not None:
            return self.sum_draws(items, node.items)
        return items

    def sum_draws(self, counts: Ints, items: Value) -> Ints:
        """The sum of as many draws of a number as there are counts, in whole numbers."""
        mean = self.draws.of_runs(items.amount)
        if items.ranged:
            return self.draws.round_randomly(sum_of_draws(counts, mean, self.draws.draw_varied(items)))
        if isinstance(mean, float) and mean == int(mean) and float(counts.max()) * mean < MOST_PASSES:
            return counts * int(mean)
        return self.draws.round_randomly(counts * mean)

    def draw_attempts(self, node: Node, turns: Ints, single: bool, tries: int) -> tuple[Ints, Ints | None, Ints | None]:
        """How often a step is executed that is tried again so often, and what of its passes fails and runs out of time for good."""
        if not node.failure.amount and not node.timeout.amount:
            return turns, None, None
        fails, late = self.draws.of_runs(node.failure.amount), self.draws.of_runs(node.timeout.amount)
        wrong = np.minimum(fails + late, 1.0) if not isinstance(fails + late, float) else min(1.0, fails + late)
        left, attempts = turns, turns
        for place in range(tries + 1):
            if place:
                attempts = attempts + left
            left = self.draws.draw_some(left, wrong, single)
        if not node.timeout.amount:
            return attempts, left, None
        out_of_time = self.draws.draw_some(left, late / np.maximum(wrong, 1e-300), single)
        return attempts, left - out_of_time, out_of_time

    def draw_rounds(self, node: Node, arrivals: Ints) -> Ints:
        """Rounds until the end comes: each round goes on with probability 1 - 1/rounds, up to the cap."""
        assert node.items is not None
        mean = self.draws.draw_number(node.items)
        on = 1 - 1 / mean
        alive, total = arrivals, arrivals
        for _ in range((CYCLE_ROUNDS if node.cap is None else node.cap) - 1):
            alive = self.draws.draw_some(alive, on, False)
            if not alive.any():
                break
            total = total + alive
        return total if node.cap != 0 else np.zeros_like(arrivals)

    def draw_of_attempts(self, parts: list[Ints | None], attempts: Ints, last: Ints) -> list[Ints | None]:
        """What came of attempts of which so many were the last of a pass: any of them may have been."""
        drawn: list[Ints | None] = []
        rest = attempts
        for part in parts:
            if part is None:
                drawn.append(None)
                continue
            part = np.minimum(part, rest)
            if rest.max() < MOST_DRAWN:
                some = self.draws.rng.hypergeometric(part, rest - part, np.minimum(last, rest))
            else:
                some = np.minimum(self.draws.round_randomly(part * (last / np.maximum(rest, 1))), last)
            drawn.append(some)
            rest, last = rest - part, last - some
        return drawn


_TAKEN_SINGLY = 64  # items of a pass of which it is worked out one by one whether all of them got lost


def _none_left(gone: Floats, whole: Floats, each: Floats) -> Floats:
    """The chance that of ``whole`` items of which so many are ``gone`` all of one pass are, that had ``each`` of them."""
    none = np.ones_like(whole)
    low = np.floor(each)
    for place in range(int(min(low.max(), _TAKEN_SINGLY)) + 1):
        taken = np.clip(each - place, 0.0, 1.0)  # the last of 2.5 is there as often as not
        chance = np.clip((gone - place) / np.maximum(whole - place, 1e-9), 0.0, 1.0)
        none = none * (1 - taken + taken * chance)
    rest = np.maximum(each - _TAKEN_SINGLY - 1, 0.0)
    found: Floats = none * (gone / np.maximum(whole, 1e-9)) ** rest
    return found
