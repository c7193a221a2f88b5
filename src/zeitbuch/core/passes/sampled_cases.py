# Into which cases the passes of a decision go, run by run: each by itself, or one of them for every pass.
"""Drawing the cases of decisions."""

from __future__ import annotations

import numpy as np

from .plan import Way
from .random_draws import Draws, Floats, Ints


class CaseDraws:
    """Draws cases for all runs of a sample at once."""

    def __init__(self, draws: Draws, runs: int) -> None:
        self.draws = draws
        self.runs = runs

    def deal_cases(self, ways: list[Way], counts: Ints, single: bool, inclusive: bool) -> list[Ints]:
        """Passes into each of the ways, arrays of shape (R,); ``single`` says that no run has more than one pass."""
        return self._inclusive_cases(ways, counts, single) if inclusive else self._exclusive_cases(ways, counts, single)

    def _inclusive_cases(self, ways: list[Way], counts: Ints, single: bool) -> list[Ints]:
        return [
            self.draws.draw_some(counts, self.draws.of_runs(way.share.amount), single)
            for way in ways
            if way.share is not None
        ]

    def _exclusive_cases(self, ways: list[Way], counts: Ints, single: bool) -> list[Ints]:
        shares = [self.draws.of_runs(way.share.amount) for way in ways if way.share is not None]
        return self._deal_single(counts, shares) if single else self._deal_counts(counts, shares)

    def _deal_single(self, counts: Ints, shares: list[float | Floats]) -> list[Ints]:
        """At most one pass a run: each run draws where it goes."""
        dealt: list[Ints] = []
        u = self.draws.rng.random(self.runs)
        low: float | Floats = 0.0
        for share in shares:
            high = low + share
            dealt.append(counts * ((u >= low) & (u < high)))
            low = high
        return dealt

    def _deal_counts(self, counts: Ints, shares: list[float | Floats]) -> list[Ints]:
        """Multinomial, case after case from what is left."""
        dealt: list[Ints] = []
        left, room = counts, np.ones(self.runs) if not all(isinstance(item, float) for item in shares) else 1.0
        for share in shares:
            some = self.draws.draw_some(left, np.clip(share / np.maximum(room, 1e-300), 0.0, 1.0), False)
            dealt.append(some)
            left, room = left - some, room - share
        return dealt
