# A scope fails when anything in it does: which of its passes got lost on one branch says nothing of those lost on another, and a pass that
# has become several may lose more than one of them. Counts cannot tell, so such levels are sampled pass by pass.
"""Levels of which the passes are sampled one by one."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zeitbuch.core.assumptions.uncertain import Uncertain

from .plan import Stage
from .random_draws import Draws, Floats, Ints
from .sample_records import Leaving, Load, Tally

MOST_TOLD_APART = 400_000  # passes of all runs together; of more an equal part of each run's stands for the others

Walk = Callable[[Draws, Stage, Load], tuple[dict[str, Tally], Leaving]]


class PassDraws(Draws):
    """Draws for single passes: each has the values of the run that it belongs to."""

    def __init__(self, of: Draws, at: Ints) -> None:
        self.of, self.at = of, at
        self.runs, self.rng = len(at), of.rng

    def of_runs(self, value: float) -> float | Floats:
        if type(value) is not Uncertain:
            return float(value)
        return np.asarray(self.of.of_runs(value))[self.at]


def sample_apart(draws: Draws, stage: Stage, arriving: Load, walk: Walk) -> tuple[dict[str, Tally], Leaving]:
    """Samples every pass of a level by itself; the tallies of its steps and what leaves it, summed by run."""
    drawn = np.minimum(arriving.passes, max(1, MOST_TOLD_APART // draws.runs)).astype(np.int64)
    at = np.repeat(np.arange(draws.runs), drawn)
    each = PassDraws(draws, at)
    one = np.ones(len(at), np.int64)
    items = one
    if arriving.items is not arriving.passes:
        items = each.round_randomly((arriving.items / np.maximum(arriving.passes, 1))[at])
    tallies, left = walk(each, stage, Load(one, items, True))
    weight = None if np.array_equal(drawn, arriving.passes) else arriving.passes / np.maximum(drawn, 1)

    def by_run(counts: Ints | None) -> Ints | None:
        if counts is None:
            return None
        total = np.bincount(at, counts, draws.runs)
        return total.astype(np.int64) if weight is None else draws.round_randomly(total * weight)

    first = np.minimum(np.cumsum(drawn) - drawn, max(0, len(at) - 1))
    found = {key: _sum_tally(tally, by_run, first) for key, tally in tallies.items()}
    failed, late, over = by_run(left.failed), by_run(left.late), by_run(left.over)
    through = arriving.passes - sum((gone for gone in (failed, late, over) if gone is not None), np.zeros_like(drawn))
    through = np.maximum(through, 0)
    out = through if stage.last is None else by_run(left.load.items)
    assert out is not None
    return found, Leaving(Load(through, out, False), failed, late, None, over)


def _sum_tally(tally: Tally, by_run: Callable[[Ints | None], Ints | None], first: Ints) -> Tally:
    arrivals, runs = by_run(tally.arrivals), by_run(tally.runs)
    assert arrivals is not None and runs is not None
    # Of each run the turns of one pass stand for those of all, as everywhere where counts are drawn.
    turns = tally.turns[first] if tally.turns is not None and len(tally.turns) else None
    return Tally(arrivals, runs, turns)
