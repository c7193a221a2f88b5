# How often a flow runs in a month that others call varies as their runs do: ten runs that come by chance and call it a hundred times each are
# no thousand runs that come by chance. So callers are drawn before what they call, and in every world their runs lead to its.
"""Runs of a month of flows that call each other."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.graph.call_graph import solve_circle
from zeitbuch.core.passes.random_draws import Floats

from .day_parts import called_name
from .distribution import FlowSample, relative_to, seed_of
from .estate import EstateFigures
from .month_draws import draw_runs, in_all_worlds
from .varied_parts import VariedParts

_ROUNDS = 200  # calls within a circle: so deep at most
_OVER = 1e-4  # runs of a round, of which the circle is taken to be at its end
_TOLD = 0.05  # error that is told, as a part of the whole
_SAME = 1e-6  # relative difference of volumes that are one but for rounding

Led = dict[str, Floats]


class CalledMonths:
    """Draws the runs of all related flows of an estate in ``count`` worlds, in so many months."""

    def __init__(self, runs: EstateFigures, samples: Mapping[str, FlowSample], count: int, months: int = 1) -> None:
        self.runs, self.samples, self.count, self.months = runs, samples, count, months
        self.found: Led = {}  # by key, arrays of shape (W,)
        self._led: dict[str, Floats] = {}  # what callers drawn so far lead to
        self._parts: dict[tuple[str, ...], VariedParts] = {}
        self._unsettled: set[str] = set()  # called by flows of which it is not known how often they run

    def draw_all(self) -> Led:
        """The runs of every flow whose volume is the sum of those that it begins by itself and those that others lead to."""
        graph = self.runs.graph
        for component in reversed(graph.components):
            keys = [key for key in component if key in self.samples]
            begun = {key: self._begun_at(key) for key in keys}
            known = {key: drawn for key, drawn in begun.items() if drawn is not None}
            if graph.is_circle(component) and len(known) == len(component):
                known = self._go_round(known)
            for key in component:
                drawn = known.get(key)
                if drawn is not None and self._is_sum(key):
                    self.found[key] = drawn
                elif key in self.samples:
                    drawn = self._drawn_alone(key)
                self._lead_on(key, drawn, set(component))
        return self.found

    def _expected(self, key: str) -> Floats | None:
        runs = self.runs.volumes[key].runs
        return None if runs is None else in_all_worlds(runs, self.count) * self.months

    def _rng(self, key: str, more: int) -> np.random.Generator:
        run = self.runs.by[key]
        return np.random.Generator(np.random.SFC64(seed_of(run.flow, run.part) + more))

    def _begun_at(self, key: str) -> Floats | None:
        """The runs that a flow begins by itself, with those that the callers outside its circle lead to; None where they are not known."""
        own = self.runs.by[key].volume
        if key in self._unsettled or self._expected(key) is None:
            return None
        begun = in_all_worlds(own.runs or 0.0, self.count) * self.months
        return draw_runs(begun, own, self._rng(key, 5)) + self._led.get(key, 0.0)

    def _is_sum(self, key: str) -> bool:
        """Whether the volume of a flow is what it begins and what others lead to: a declared number of runs holds whatever they do."""
        whole = float(self.runs.volumes[key].runs or 0.0)
        total = float(self.runs.by[key].volume.runs or 0.0)
        for caller, times in self.runs.graph.callers[key].items():
            total += float(self.runs.volumes[caller].runs or 0.0) * float(times)
        return abs(total - whole) <= _SAME * max(whole, 1e-9)

    def _drawn_alone(self, key: str) -> Floats | None:
        expected = self._expected(key)
        return None if expected is None else draw_runs(expected, self.runs.volumes[key], self._rng(key, 5))

    def _lead_on(self, key: str, drawn: Floats | None, inside: set[str]) -> None:
        """Adds what so many runs of a flow lead to, outside its circle."""
        callees = [other for other in self.runs.graph.callees[key] if other not in inside]
        if drawn is None or key not in self.samples:
            self._unsettled.update(callees)
            return
        for other, more in self._called_by(key, drawn, callees, self._rng(key, 6)).items():
            self._led[other] = self._led.get(other, 0.0) + more

    def _go_round(self, begun: Led) -> Led:
        """The runs of flows that call each other, round after round one call deeper, with the means that their volumes have."""
        rngs = {key: self._rng(key, 7) for key in begun}
        wave, total = dict(begun), dict(begun)
        for _ in range(_ROUNDS):
            deeper: Led = {}
            for key, runs in wave.items():
                callees = [other for other in self.runs.graph.callees[key] if other in begun]
                for other, more in self._called_by(key, runs, callees, rngs[key]).items():
                    deeper[other] = deeper.get(other, 0.0) + more
            total = {key: runs + deeper.get(key, 0.0) for key, runs in total.items()}
            wave = deeper
            if sum([float(runs.mean()) for runs in wave.values()]) < _OVER:
                break
        return {key: runs * self._scale(key, runs) for key, runs in total.items()}

    def _scale(self, key: str, runs: Floats) -> float:
        expected = self._expected(key)
        mean = float(runs.mean())
        return float(expected.mean()) / mean if expected is not None and mean else 1.0

    def _called_by(self, key: str, runs: Floats, callees: list[str], rng: np.random.Generator) -> Led:
        """How often each of some flows is called by so many runs of one, an array for each; what one run calls is drawn together."""
        if not callees or not runs.any():
            return {}
        times = [self.runs.graph.callees[key][other] for other in callees]
        sums = self._parts_of(key, callees).sum_over(runs, rng)
        return {other: in_all_worlds(t, self.count) * row for other, t, row in zip(callees, times, sums, strict=True)}

    def _parts_of(self, key: str, callees: list[str]) -> VariedParts:
        """Calls of some flows by the sampled runs of one, as parts of what is expected."""
        found = self._parts.get((key, *callees))
        if found is None:
            counts, size = calls_by_key(self.runs, self.samples[key], key), len(self.samples[key].own)
            found = self._parts[key, *callees] = VariedParts(
                np.array([calls_as_parts(self.runs, key, other, counts, size) for other in callees])
            )
        return found


def calls_as_parts(runs: EstateFigures, key: str, other: str, counts: Led, size: int) -> Floats:
    """How often each of ``size`` sampled runs calls a flow, as parts of what is expected in its world."""
    times = np.resize(draws_of(runs.graph.callees[key][other]), size)
    return relative_to(counts.get(other, np.ones(size)), times)


def calls_by_key(runs: EstateFigures, sample: FlowSample, key: str) -> Led:
    """Calls of each sampled run of a flow, by the key of what is called: by its id and by its name it is one."""
    names, part = runs.names, runs.by[key].part
    found: Led = {}
    for name, counts in sample.counts.items():
        other = names.get(called_name(name, part, names))
        if other is not None:
            found[other] = found.get(other, 0.0) + counts.astype(float)
    return found


def notes_on_circles(runs: EstateFigures, samples: Mapping[str, FlowSample]) -> dict[str, tuple[float, str]]:
    """How well runs and cost are known, as a part of them, and what is to be said, of flows in circles whose passes are drawn: the error of
    the samples counts as often as they call."""
    found: dict[str, tuple[float, str]] = {}
    for component in runs.graph.components:
        inside = [key for key in component if key in samples and not runs.by[key].exact]
        repeats = (
            solve_circle(runs.graph, component, [1.0] * len(component))
            if inside and runs.graph.is_circle(component)
            else None
        )
        for key in inside if repeats is not None else ():
            again = max(map(float, repeats or ()))
            calls = calls_by_key(runs, samples[key], key)
            counts = sum([calls[other] for other in component if other in calls], np.zeros(1))
            error = again * float(counts.std()) / max(1, len(samples[key].own)) ** 0.5
            if error > _TOLD:
                note = (
                    f"how often it is called is drawn, no sum gives it, and counts {again:,.3g} times in the circle: runs and cost are known"
                    f" to ±{error * 100:,.0f} % only; --runs draws more"
                )
                found[key] = error, note
    return found
