# Seeded draws for many runs at once. Ranges are drawn by strata (Latin hypercube): one value from each of R equal slices
# of the distribution, in random order, so that means settle with far fewer runs. The same seed gives the same draws.
"""Random draws over arrays of runs (NumPy)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zeitbuch.core.assumptions.quantities import MOST_PASSES
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.assumptions.worlds import beta_slices, pert_shape

Ints = NDArray[Any]
Floats = NDArray[Any]
MOST_DRAWN = 1_000_000_000  # passes that a draw without replacement can be made of


class Draws:
    """Draws for ``runs`` runs. Run r is one of the world r modulo the number of worlds: what is in doubt has the value of that world."""

    def __init__(self, runs: int, seed: int) -> None:
        self.runs = runs
        self.rng = np.random.Generator(np.random.SFC64(seed))

    def of_runs(self, value: float) -> float | Floats:
        """What a number is in every run: an array of shape (R,) where it is in doubt, else the number."""
        return np.resize(value.draws, self.runs) if type(value) is Uncertain else float(value)

    def draw_varied(self, value: Value) -> Floats:
        """A value that varies from run to run: drawn for each, with the mean and range that it has in the world of the run."""
        low, mean, high = float(value.low), float(value.amount), float(value.high)
        shape = pert_shape(low, mean, high)
        drawn = self.rng.permutation(beta_slices(shape, self.runs))
        if type(value.amount) is not Uncertain:
            return low + (high - low) * drawn
        least, top = self.of_runs(value.low), self.of_runs(value.high)
        # Where a cap cuts the range in some worlds, the shape is that of the mean world, moved to the mean of its own.
        moved = self.of_runs(value.amount) - (least + (top - least) * (shape / 6))
        return np.clip(least + (top - least) * drawn + moved, least, top)

    def draw_number(self, value: Value) -> float | Floats:
        """What varies drawn, all else as it is."""
        return self.draw_varied(value) if value.ranged else self.of_runs(value.amount)

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


def sum_of_draws(counts: Ints, mean: float | Floats, drawn: Floats) -> Floats:
    """Sum of ``counts`` independent draws of which one is known for each run: n mean + sqrt(n) (x - mean). Mean and
    variance are those of the sum; for one draw it is the draw itself."""
    return counts * mean + np.sqrt(counts) * (drawn - mean)
