"""Sums over many runs of several numbers that each run has."""

from __future__ import annotations

import numpy as np

from zeitbuch.core.passes.random_draws import Floats

from .distribution import variance_and_skewness
from .month_draws import sum_of_many

_FEW = 60  # runs that are drawn one by one
_TOGETHER = 40  # numbers of a run whose sums over more runs than these are drawn together
_NO_VARIANCE = 1e-300


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
        few = runs <= _FEW
        if few.any():
            counts = np.floor(runs[few] + rng.random(int(few.sum()))).astype(np.int64)
            picks = rng.integers(0, self.parts.shape[1], int(counts.sum()))
            at = np.repeat(np.arange(len(counts)), counts)
            for place, part in enumerate(self.parts):
                found[place, few] = np.bincount(at, weights=part[picks], minlength=len(counts))
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
            wide = np.sqrt([max(variance, _NO_VARIANCE) for variance, _ in self.shapes])
            values, vectors = np.linalg.eigh(np.cov(self.parts, bias=True) / np.outer(wide, wide))
            self._mixes = vectors * np.sqrt(np.maximum(values, 0.0))
        return self._mixes @ noise
