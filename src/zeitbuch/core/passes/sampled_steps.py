# What one step does to the passes and items that come to it, run by run: attempts, items, rounds.
"""Drawing what happens within steps."""

from __future__ import annotations

import numpy as np

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, MOST_PASSES
from zeitbuch.core.assumptions.values import Value

from .plan import Node, gathers_items
from .random_draws import MOST_DRAWN, Draws, Ints, sum_of_draws
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

    def items_with(self, node: Node, came: Load | None, gone: Ints, with_others: bool = True) -> Ints:
        """The items that go on with what failed: those of the pass, the item itself, or none where they are gathered ``with_others``."""
        if node.step.per_item and self.itemised:
            return np.zeros_like(gone) if with_others and gathers_items(node.step) else gone
        return gone if came is None or node.step.yields == "one" else self.kept_items(came, gone)

    def going_on(self, node: Node, left: Leaving, keeps: bool) -> Load:
        """What goes on where failures go on as if nothing had happened (``keeps``)."""
        load, gone = left.load, add_counts(left.failed, left.late)
        if gone is None or not keeps:
            return load
        # Failures of a step that runs once for each item are items, of passes that went on anyhow.
        by_item = node.step.per_item and self.itemised
        items = load.items + self.items_with(node, left.came, gone)
        return Load(load.passes if by_item else load.passes + gone, items, load.single)

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

    def draw_attempts(self, node: Node, turns: Ints, single: bool) -> tuple[Ints, Ints | None, Ints | None]:
        if not node.failure.amount and not node.timeout.amount:
            return turns, None, None
        fails, late = self.draws.of_runs(node.failure.amount), self.draws.of_runs(node.timeout.amount)
        wrong = np.minimum(fails + late, 1.0) if not isinstance(fails + late, float) else min(1.0, fails + late)
        left, attempts = turns, turns
        for place in range(node.tries + 1):
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
