# A run that calls other flows costs what they cost: for each call one of their sampled runs is taken, at what they cost in the world of the
# caller.
"""Sampled costs of runs with the flows they call."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.passes.random_draws import Floats, sum_of_draws

from .day_parts import called_name
from .distribution import FlowSample, relative_to, seed_of
from .estate import EstateFigures

_PICKS = 2_000_000
_ROUNDS, _CLOSE = 100, 0.005  # calls within a circle: so deep at most, so near to the exact mean


class CalledSamples:
    """Costs of the sampled runs of all flows with what they call. ``spent``: what a run costs on average, in every world."""

    def __init__(self, runs: EstateFigures, draws: Mapping[str, FlowSample], spent: Mapping[str, float]) -> None:
        self.runs, self.draws, self.spent = runs, draws, spent
        self.costs: dict[str, Floats] = {}

    def each_caller(self) -> Iterator[tuple[str, Floats]]:
        """The costs of every flow that calls others, arrays of shape (R,), in the rate card's currency. Of flows whose calls do not
        die out, costs without the calls within their circle."""
        graph = self.runs.graph
        for component in graph.components:
            circle = graph.is_circle(component)
            rngs = {
                key: np.random.Generator(np.random.SFC64(seed_of(self.runs.by[key].flow, self.runs.by[key].part) + 2))
                for key in component
            }
            outside = {key: self._with_calls(key, frozenset(component), rngs[key]) for key in component}
            self.costs.update(outside)
            if circle:
                self._sample_circle(component, outside, rngs)
            for key in component:
                if self.draws[key].counts:
                    yield key, self.costs[key]
                if not graph.callers[key]:
                    del self.costs[key]

    def _key_called(self, key: str, name: str) -> str | None:
        names = self.runs.names
        return names.get(called_name(name, self.runs.by[key].part, names))

    def _with_calls(self, key: str, without: frozenset[str], rng: np.random.Generator) -> Floats:
        """A flow's own costs with those of the flows it calls, but for some."""
        total: Floats = self.draws[key].own
        for name, counts in self.draws[key].counts.items():
            other = self._key_called(key, name)
            if other is not None and other not in without and counts.any():
                total = total + self._sum_called(counts, other, self.costs, rng)
        return total

    def _sample_circle(
        self, component: Sequence[str], outside: dict[str, Floats], rngs: dict[str, np.random.Generator]
    ) -> None:
        """Costs of flows that call each other: round after round one more call deep, until the means are the exact ones."""
        inside = frozenset(component)
        for _ in range(_ROUNDS):
            wanted = {key: float(np.mean(draws_of(self.spent[key]))) for key in component}
            if all(float(self.costs[key].mean()) >= wanted[key] * (1 - _CLOSE) for key in component):
                break
            deeper: dict[str, Floats] = {}
            for key in component:
                total = outside[key]
                for name, counts in self.draws[key].counts.items():
                    other = self._key_called(key, name)
                    if other in inside and other is not None:
                        total = total + self._sum_called(counts, other, self.costs, rngs[key])
                deeper[key] = total
            self.costs.update(deeper)

    def _sum_called(self, counts: Floats, other: str, costs: dict[str, Floats], rng: np.random.Generator) -> Floats:
        """For each run the sum of as many draws of the called flow's cost as there were calls."""
        theirs, total = costs[other], int(counts.sum())
        if not total or not theirs.any():
            return np.zeros(len(counts))
        mean = draws_of(self.spent[other])
        at_call = np.resize(mean, len(counts))
        parts = relative_to(theirs, np.resize(mean, len(theirs)))
        # Of a circle not yet as deep as it goes, what is there so far.
        so_far = float(theirs.mean()) / max(float(np.mean(mean)), 1e-300)
        if total > _PICKS:
            drawn = parts[rng.integers(0, len(parts), len(counts))]
            return np.maximum(sum_of_draws(counts, 1.0, drawn), 0.0) * at_call * so_far
        picks = parts[rng.integers(0, len(parts), total)]
        summed = np.bincount(np.repeat(np.arange(len(counts)), counts), weights=picks, minlength=len(counts))
        return summed * at_call * so_far
