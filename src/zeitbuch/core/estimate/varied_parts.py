"""Sums over many runs of several numbers that each run has."""

from __future__ import annotations

import numpy as np

from zeitbuch.core.passes.random_draws import Floats

from .distribution import NO_SPREAD, variance_and_skewness
from .month_draws import FEW, sum_of_many, sums_of_few

_TOGETHER = 40  # numbers of a run whose sums over more runs than these are drawn together


class VariedParts:
    """Numbers that R sampled runs have, as ``parts`` of what is expected of each: shape (K, R), mean 1."""

    def __init__(self, parts: Floats) -> None:
        self.parts = parts
        self.shapes = [variance_and_skewness(part) for part in parts]
        self._mixes: Floats | None = None

    def sum_over(self, runs: Floats, rng: np.random.Generator) -> Floats:
        """Sums over so many runs (N,), shape (K, N). Few runs are drawn one by one, of many the sums, with the variances, skewness and
        correlations of the parts."""
        found = np.empty((len(self.parts), len(runs)))
        few = runs <= FEW
        if few.any():
            found[:, few] = sums_of_few(runs[few], self.parts, rng)
        if not few.all():
            many = runs[~few]
            noise = self._mix(rng.standard_normal((len(self.parts), len(many))))
            rows = [sum_of_many(many, *shape, row) for shape, row in zip(self.shapes, noise, strict=True)]
            found[:, ~few] = np.array(rows)
        return found

    def _mix(self, noise: Floats) -> Floats:
        """Noise that is correlated as the parts are."""
        if not 1 < len(self.parts) <= _TOGETHER:
            return noise
        if self._mixes is None:
            wide = np.sqrt([variance if variance > NO_SPREAD else 1.0 for variance, _ in self.shapes])
            values, vectors = np.linalg.eigh(np.cov(self.parts, bias=True) / np.outer(wide, wide))
            self._mixes = vectors * np.sqrt(np.maximum(values, 0.0))
        return self._mixes @ noise
