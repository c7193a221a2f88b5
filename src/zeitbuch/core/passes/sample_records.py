# Arrays over the sampled runs, and what moves, leaves and gets lost in each of them.
"""Records of sampled passes."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from zeitbuch.core.assumptions.quantities import MOST_PASSES

from .plan import Stage
from .random_draws import Floats, Ints


class Tally(Struct):
    """Arrays over the runs: how often a step was reached and executed; an agent's turns, drawn once for each run."""

    arrivals: Ints
    runs: Ints
    turns: Floats | None = None


class Load(Struct):
    """What moves along an edge in each run: passes, and items with them where the flow counts items. ``single`` says
    that no run has more than one pass there; ``parts`` are the items of each of a few passes, where that is known."""

    passes: Ints
    items: Ints
    single: bool
    parts: tuple[Ints, ...] | None = None


class Leaving(Struct):
    """What leaves a step in each run. ``came``: what arrived, where a pass may bring other than one item, and ``there``: what of it comes to
    the end of the step, before that makes more or fewer items of it; passes that have lost all of theirs are among them."""

    load: Load
    failed: Ints | None
    late: Ints | None
    skipped: Ints | None = None
    over: Ints | None = None  # passes that end the run
    came: Load | None = None
    there: Load | None = None


_MOST_PARTS = 8


def parts_of_both(first: Load, second: Load) -> tuple[Ints, ...] | None:
    """The items of each pass of two loads that come one beside the other."""
    one, other = [(load.items,) if load.single else load.parts for load in (first, second)]
    if one is None or other is None or len(one) + len(other) > _MOST_PARTS:
        return None
    return one + other


def add_counts(a: Ints | None, b: Ints | None) -> Ints | None:
    if a is None or b is None:
        return b if a is None else a
    return a + b


class Losses(Struct):
    """Passes that do not come out of a level, by its parts: all, those out of time, those that end the run; and what leaves its last step
    (see ``Stage.last``)."""

    all: list[Ints | None]
    late: list[Ints | None]
    over: list[Ints | None]
    last: Load | None = None

    def add_losses(self, part: int, failed: Ints | None, late: Ints | None, over: Ints | None) -> None:
        for more in (failed, late, over):
            self.all[part] = add_counts(self.all[part], more)
        self.late[part] = add_counts(self.late[part], late)
        self.over[part] = add_counts(self.over[part], over)


def total_of_parts(parts: list[Ints | None], zero: Ints) -> Ints:
    return sum((p for p in parts if p is not None), zero)


def back_starts(stage: Stage, edges: list[Load | None], back: list[int], at_of: dict[str, int]) -> dict[int, Load]:
    """What the ways back of a round bring to the next. A cycle that grows with every round is held at the most that is counted."""
    starts: dict[int, Load] = {}
    for index in back:
        load = edges[index]
        if load is not None and load.passes.any():
            place = at_of[stage.edges[index].target]
            had = starts.get(place)
            passes, items = (
                (load.passes, load.items) if had is None else (had.passes + load.passes, had.items + load.items)
            )
            starts[place] = Load(
                np.minimum(passes, int(MOST_PASSES)), np.minimum(items, int(MOST_PASSES)), had is None and load.single
            )
    return starts
