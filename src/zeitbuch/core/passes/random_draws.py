# Seeded draws for many runs at once. Ranges are drawn by strata (Latin hypercube): one value from each of R equal slices
# of the distribution, in random order, so that means settle with far fewer runs. The same seed gives the same draws.
"""Random draws over arrays of runs (NumPy)."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zeitbuch.core.assumptions.quantities import MOST_PASSES
from zeitbuch.core.assumptions.rules import Value

Ints = NDArray[Any]
Floats = NDArray[Any]


@lru_cache(maxsize=256)
def beta_slices(alpha: float, runs: int) -> Floats:
    """Quantiles of Beta(alpha, 6 - alpha) at the middles of ``runs`` equal slices."""
    from scipy.special import betaincinv

    return np.asarray(betaincinv(alpha, 6 - alpha, (np.arange(runs) + 0.5) / runs))


class Draws:
    """Draws for ``runs`` runs."""

    def __init__(self, runs: int, seed: int) -> None:
        self.runs = runs
        self.rng = np.random.Generator(np.random.SFC64(seed))
        self.doubts: list[tuple[Value, Floats]] = []

    def draw_pert(self, value: Value) -> Floats:
        """A ranged value for each run; mean and range are kept."""
        span = value.high - value.low
        alpha = round(6 * (value.amount - value.low) / span, 9)
        return value.low + span * self.rng.permutation(beta_slices(alpha, self.runs))

    def draw_number(self, value: Value) -> float | Floats:
        """A point as it is, a range drawn."""
        return self.draw_pert(value) if value.high > value.low else value.amount

    def draw_probability(self, value: Value) -> float | Floats:
        """A probability: what it is exactly is in doubt, and the same for all runs of a month."""
        if not value.high > value.low:
            return value.amount
        drawn = self.draw_pert(value)
        self.doubts.append((value, drawn))
        return drawn

    def draw_some(self, counts: Ints, share: float | Floats, single: bool) -> Ints:
        """Binomial: how many of the counts go one way; ``single`` says that no count is over 1."""
        if isinstance(share, float | int):
            if share <= 0:
                return np.zeros_like(counts)
            if share >= 1:
                return counts
        if single:
            return counts * (self.rng.random(self.runs) < share)
        return self.rng.binomial(counts, np.clip(share, 0.0, 1.0))

    def round_randomly(self, amounts: Floats | Ints) -> Ints:
        """Whole numbers with the same expectation: rounded up with the probability of the fraction."""
        if amounts.dtype.kind == "i":
            return amounts.astype(np.int64, copy=False)
        amounts = np.minimum(amounts, MOST_PASSES)
        low = np.floor(amounts)
        rest = amounts - low
        if not rest.any():
            return low.astype(np.int64)
        return (low + (self.rng.random(self.runs) < rest)).astype(np.int64)


def sum_of_draws(counts: Ints, mean: float, drawn: Floats) -> Floats:
    """Sum of ``counts`` independent draws of which one is known for each run: n mean + sqrt(n) (x - mean). Mean and
    variance are those of the sum; for one draw it is the draw itself."""
    return counts * mean + np.sqrt(counts) * (drawn - mean)
