# A loop that ends at the first round that is lost is gone through round by round: what its rounds lose says which of its passes begin the next.
"""Rounds of sampled loops that end at a loss."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, MOST_SINGLE_ROUNDS

from .plan import Node
from .random_draws import Draws, Floats, Ints
from .sample_records import Leaving, Load, add_counts, total_of_parts
from .sampled_steps import StepDraws

Losing = list[Ints | None]


def run_until_lost(
    node: Node, arriving: Load, draws: Draws, steps: StepDraws, run: Callable[[Load], Leaving]
) -> Leaving:
    """Goes through the rounds of a loop, those of all passes that come to it at once; ``run`` goes once through what is in it. What fails, runs
    out of time or ends the run are passes of which a round does; round k begins where none of the first k - ``Node.beside`` has."""
    assert node.items is not None
    rounds = _Rounds(node, draws)
    kept = going = arriving.passes  # those of which nothing is lost so far
    earlier = deque([kept], node.beside)  # and after the rounds that the next one waits for
    found: Losing = [None, None, None]
    whole = 0
    for number in range(rounds.most):
        before = going if rounds.until else earlier[0]
        begun = rounds.begin(number, before, arriving.single)
        if not begun.any():
            break
        inside = run(Load(begun, begun, arriving.single))
        lost: Losing = [inside.failed, inside.late, inside.over]
        if before is not kept and not rounds.until:  # of those that have begun some may be lost already
            lost = steps.draw_of_attempts(lost, begun, _still_there(draws, kept, before, begun))
        found = [add_counts(had, more) for had, more in zip(found, lost, strict=True)]
        gone = total_of_parts(lost, np.zeros_like(begun))
        kept = kept - gone
        earlier.append(kept)
        whole += int(begun.sum())
        going = begun - gone
    more = rounds.beyond()
    if np.any(more) and kept.any():
        each = [0 if part is None else int(part.sum()) for part in found]
        last, lost = _run_others(kept, more, [part / max(1, whole) for part in each], draws)
        run(Load(last, last, False))
        found = [add_counts(had, more) for had, more in zip(found, lost, strict=True)]
        kept = kept - total_of_parts(lost, np.zeros_like(last))
    return Leaving(Load(kept, kept, arriving.single), found[0], found[1], None, found[2])


def _run_others(kept: Ints, more: Floats, shares: list[float], draws: Draws) -> tuple[Ints, Losing]:
    """How many of ``more`` rounds each pass has that are gone through at once, and the passes of which one is lost, when each round is lost
    in such ``shares`` (by failure, time-out, end of the run)."""
    gone = sum(shares)
    if not gone:
        return draws.round_randomly(kept * more), [None, None, None]
    through = (1 - gone) ** more
    lost = draws.draw_some(kept, 1 - through, False)
    until_lost = ((1 - through) / gone - more * through) / np.maximum(1 - through, 1e-300)
    rounds = draws.round_randomly(lost * until_lost + (kept - lost) * more)
    parts: Losing = []
    left, room = lost, 1.0
    for share in shares:
        parts.append(draws.draw_some(left, share / gone / max(room, 1e-300), False))
        left, room = left - parts[-1], room - share / gone
    return rounds, parts


def _still_there(draws: Draws, kept: Ints, before: Ints, begun: Ints) -> Ints:
    """Of ``begun`` passes, drawn of those of which nothing was lost ``before``, the ones of which nothing is lost yet."""
    if np.array_equal(kept, before):
        return begun
    drawn: Ints = draws.rng.hypergeometric(kept, before - kept, begun)
    return drawn


class _Rounds:
    """How many rounds a pass has: as many as items, the same for all passes of a run, or until the condition of the loop holds."""

    def __init__(self, node: Node, draws: Draws) -> None:
        assert node.items is not None
        self.draws, self.until = draws, node.repeats == "until"
        self.number = draws.draw_number(node.items)
        self.on: float | Floats = 1 - 1 / self.number if self.until else 1.0
        cap = CYCLE_ROUNDS if node.cap is None else node.cap
        highest = float(np.max(self.number))
        self.most = cap if self.until else min(MOST_SINGLE_ROUNDS, int(np.ceil(highest)))

    def begin(self, number: int, there: Ints, single: bool) -> Ints:
        """Those of the passes that have one more round after so many."""
        if self.until:
            return self.draws.draw_some(there, self.on, single) if number else there
        return self.draws.draw_some(there, np.clip(self.number - number, 0.0, 1.0), single)

    def beyond(self) -> Floats:
        """How many more rounds a pass has than are gone through one by one."""
        none: Floats = np.zeros(self.draws.runs)
        return none if self.until else np.maximum(none + self.number - self.most, 0.0)
