# A run that calls other flows costs what they cost: for each call one of their sampled runs is taken, at what they cost in the world of the
# caller.
"""Sampled costs of runs with the flows they call."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.passes.random_draws import Floats, sum_of_draws

from .circle_samples import CircleSamples
from .day_parts import called_name
from .distribution import FlowSample, relative_to, seed_of
from .estate import EstateFigures

_PICKS = 2_000_000


class CalledSamples:
    """Costs of the sampled runs of all flows with what they call. ``spent``: what a run costs on average, in every world."""

    def __init__(self, runs: EstateFigures, draws: Mapping[str, FlowSample], spent: Mapping[str, float]) -> None:
        self.runs, self.draws, self.spent = runs, draws, spent
        self.costs: dict[str, Floats] = {}

    def each_caller(self) -> Iterator[tuple[str, Floats]]:
        """The costs of every flow that calls others, arrays of shape (R,), in the rate card's currency; without end
        where the calls do not die out."""
        graph = self.runs.graph
        for component in graph.components:
            rngs = {
                key: np.random.Generator(np.random.SFC64(seed_of(self.runs.by[key].flow, self.runs.by[key].part) + 2))
                for key in component
            }
            outside = {key: self._with_calls(key, frozenset(component), rngs[key]) for key in component}
            self.costs.update(outside)
            if graph.is_circle(component):
                self.costs.update(CircleSamples(self.runs, self.draws, self.spent, component).costs_from(outside))
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

    def _sum_called(self, counts: Floats, other: str, costs: dict[str, Floats], rng: np.random.Generator) -> Floats:
        """For each run the sum of as many draws of the called flow's cost as there were calls."""
        theirs, total = costs[other], int(counts.sum())
        if not total or not theirs.any():
            return np.zeros(len(counts))
        mean = draws_of(self.spent[other])
        at_call = np.resize(mean, len(counts))
        parts = relative_to(theirs, np.resize(mean, len(theirs)))
        if total > _PICKS:
            drawn = parts[rng.integers(0, len(parts), len(counts))]
            return np.maximum(sum_of_draws(counts, 1.0, drawn), 0.0) * at_call
        picks = parts[rng.integers(0, len(parts), total)]
        summed = np.bincount(np.repeat(np.arange(len(counts)), counts), weights=picks, minlength=len(counts))
        return summed * at_call
