# Of flows that call each other a run calls, what it calls calls again, and so on: the runs that each sampled run leads to are drawn, one call
# deeper each time, until none calls any more. All that one of them costs and calls is drawn together.
"""Sampled runs of flows that call each other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct

from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.passes.random_draws import Floats, Ints

from .called_months import calls_as_parts, calls_by_key
from .distribution import FlowSample, relative_to, seed_of
from .estate import EstateFigures
from .varied_parts import VariedParts

_ROUNDS = 3000  # calls within a circle: so deep at most
_MOST = 1e9  # runs that one leads to; beyond that, what is drawn no longer tells


class _Caller(Struct):
    """What a run of a flow within the circle leads to: the mean cost (W,) without the circle's flows, those of them it calls with
    the mean calls (W,), and all of this as it varies (cost first)."""

    spent: Floats
    calls: dict[str, Floats]
    varied: VariedParts


class _Wave(Struct):
    """Runs of one flow that as many sampled runs lead to at some depth: ``rows`` are those that lead to any."""

    rows: Ints
    runs: Floats


class CircleSamples:
    """Costs of sampled runs of the flows of a circle. ``spent``: what a run costs on average with all it calls, in every world."""

    def __init__(
        self,
        runs: EstateFigures,
        draws: Mapping[str, FlowSample],
        spent: Mapping[str, float],
        component: Sequence[str],
    ) -> None:
        self.runs, self.draws, self.spent, self.component = runs, draws, spent, component

    def costs_from(self, outside: Mapping[str, Floats]) -> dict[str, Floats]:
        """Costs of each sampled run with all that it leads to, from the costs ``outside`` of the circle, by key; without end where the
        calls do not die out in every world."""
        if not all(bool(np.isfinite(_by_world(self.spent[key])).all()) for key in self.component):
            return {key: np.full(len(costs), np.inf) for key, costs in outside.items()}
        sizes = [len(outside[key]) for key in self.component]
        begins = np.concatenate([[0], np.cumsum(sizes)])
        worlds = np.concatenate([np.arange(size) for size in sizes])
        total = np.concatenate([outside[key] for key in self.component]).astype(float)
        callers = {key: self._caller(key, outside[key]) for key in self.component}
        first = self.runs.by[self.component[0]]
        rng = np.random.Generator(np.random.SFC64(seed_of(first.flow, first.part) + 4))
        waves = self._first_waves(begins)
        for _ in range(_ROUNDS):
            waves = _go_deeper(waves, callers, total, worlds, rng)
        return {key: total[begins[at] : begins[at + 1]] for at, key in enumerate(self.component)}

    def _first_waves(self, begins: Ints) -> dict[str, _Wave]:
        """What the sampled runs themselves call."""
        found: dict[str, list[_Wave]] = {}
        for at, key in enumerate(self.component):
            for other, counts in self._inside(key).items():
                rows = np.flatnonzero(counts)
                found.setdefault(other, []).append(_Wave(rows + begins[at], counts[rows]))
        return {key: joined for key, waves in found.items() if len((joined := _joined(waves)).rows)}

    def _inside(self, key: str) -> dict[str, Floats]:
        """Calls of flows of the circle by each sampled run of one."""
        counts = calls_by_key(self.runs, self.draws[key], key)
        return {other: counts[other] for other in self.component if other in counts}

    def _caller(self, key: str, costs: Floats) -> _Caller:
        calls = self._inside(key)
        means = {other: _by_world(self.runs.graph.callees[key][other]) for other in calls}
        within = [times * _by_world(self.spent[other]) for other, times in means.items()]
        spent = np.maximum(_by_world(self.spent[key]) - sum(within, np.zeros(1)), 0.0)
        size = len(costs)
        parts = [calls_as_parts(self.runs, key, other, calls, size) for other in calls]
        return _Caller(spent, means, VariedParts(np.array([relative_to(costs, np.resize(spent, size)), *parts])))


def _by_world(value: float) -> Floats:
    """A number in every world; one for all where it is not in doubt."""
    return np.atleast_1d(draws_of(value))


def _go_deeper(
    waves: Mapping[str, _Wave], callers: Mapping[str, _Caller], total: Floats, worlds: Ints, rng: np.random.Generator
) -> dict[str, _Wave]:
    """What one more call deep is called; what it costs is added to ``total``. A row is of the world of its sampled run."""
    found: dict[str, list[_Wave]] = {}
    for key, wave in waves.items():
        caller, at = callers[key], worlds[wave.rows]
        sums = caller.varied.sum_over(wave.runs, rng)
        total[wave.rows] += caller.spent[at % len(caller.spent)] * sums[0]
        for (other, times), drawn in zip(caller.calls.items(), sums[1:], strict=True):
            runs = times[at % len(times)] * drawn
            kept = (runs > 0) & (runs < _MOST)
            if kept.any():
                found.setdefault(other, []).append(_Wave(wave.rows[kept], runs[kept]))
    return {key: _joined(parts) for key, parts in found.items()}


def _joined(waves: Sequence[_Wave]) -> _Wave:
    """Runs of one flow that different ones call, added up by row."""
    if len(waves) == 1:
        return waves[0]
    rows, places = np.unique(np.concatenate([wave.rows for wave in waves]), return_inverse=True)
    runs = np.bincount(places, weights=np.concatenate([wave.runs for wave in waves]), minlength=len(rows))
    return _Wave(rows, runs)
