# Estates of many thousands of flows: every flow is estimated and drawn by itself, in as many processes as the caller has,
# and only its sums are kept; volumes, called flows, meters and months are put together at the end.
"""Estimates with distributions, for estates of any size."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np
from msgspec import Struct, structs

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.volume import Month, Volume
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.random_draws import Floats, sum_of_draws
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.pricing.spans import Weights

from .called_flows import ENDLESS, costs_with_called
from .distribution import FlowSample, draw_flow, seed_of, spread_of
from .estate import EstateFigures, gather_runs, keys_of, month_for, result_of
from .flow_figures import FlowFigures, one_run, price_run
from .records import EstateEstimate, FlowEstimate, Sampling, Spread

_PICKS = 2_000_000
_MONTHS = 2000
_ROUNDS, _CLOSE = 100, 0.005  # calls within a circle: so deep at most, so near to the exact mean
Work = Callable[[range], "list[tuple[FlowFigures, FlowSample | None]]"]
Share = Callable[[Work, int], "Iterable[list[tuple[FlowFigures, FlowSample | None]]]"]


class Setting(Struct):
    """What every flow is estimated with."""

    assumptions: Assumptions
    prices: Prices
    month: Month
    how: Sampling | None
    detail: bool
    called: frozenset[str]


def in_turn(work: Work, count: int) -> Iterable[list[tuple[FlowFigures, FlowSample | None]]]:
    """Shares work out to this process alone, in pieces."""
    for first in range(0, count, 64):
        yield work(range(first, min(count, first + 64)))


def estimate_one(
    flow: Flow, setting: Setting, calls: tuple[Weights | None] | None = None
) -> tuple[FlowFigures, FlowSample | None]:
    """One flow by itself. Without ``detail`` only the sums stay. ``calls``: how its runs lie over the month, where that is known
    better than from its own triggers."""
    run = one_run(flow, setting.assumptions, setting.prices, setting.month, setting.detail)
    if calls is not None and calls[0] != run.weights:
        run = structs.replace(run, weights=calls[0])
        price_run(run, setting.prices, run.passes.of, setting.detail)
    whole = flow.id in setting.called or flow.name in setting.called
    prices = setting.prices.weighted(run.weights)
    found = draw_flow(run, prices, setting.how, whole) if setting.how is not None else None
    if found is not None and found.means is not None:
        price_run(run, setting.prices, found.means, setting.detail)
    if found is not None and run.metered is not None:
        run.metered.rounded = found.rounded
    steps = run.steps if setting.detail else []
    # What the passes were made from is worked with no more, and would fill the memory.
    light = structs.replace(run, graph=None, passes=None, uses={}, lookup=None, steps=steps)
    return light, found


def estimate_flows(
    flows: Sequence[Flow],
    card: RateCard | None,
    assumptions: Assumptions,
    month: str = "",
    how: Sampling | None = None,
    detail: bool = False,
    counters: dict[str, Counter] | None = None,
    share: Share = in_turn,
    progress: Callable[[int], None] | None = None,
) -> EstateEstimate:
    """The estimate of many flows; ``how`` draws distributions, ``detail`` keeps the steps, ``share`` shares the work out
    (it is given what works on a range of places, and the number of flows)."""
    when = month_for(assumptions, month)
    prices = Prices(card, when, counters)
    called = frozenset(step.calls for flow in flows for step in flow.steps if step.calls)
    setting = Setting(assumptions, prices, when, how, detail, called)
    light: dict[str, FlowFigures] = {}
    draws: dict[str, FlowSample] = {}
    keys = keys_of(flows)

    def work(places: range) -> list[tuple[FlowFigures, FlowSample | None]]:
        # Flows stay where they are: only figures travel between processes.
        return [
            (structs.replace(run, flow=_NOBODY), draw)
            for run, draw in (estimate_one(flows[place], setting) for place in places)
        ]

    place = 0
    for part in share(work, len(flows)):
        for run, found in part:
            light[keys[place]] = structs.replace(run, flow=flows[place])
            if found is not None:
                draws[keys[place]] = found
            place += 1
        if progress is not None:
            progress(place)
    runs = gather_runs(light, prices, when, assumptions)
    _estimate_called_anew(flows, keys, setting, runs, draws)
    result = result_of(runs)
    return _with_spreads(result, runs, draws) if how is not None else result


def _estimate_called_anew(
    flows: Sequence[Flow], keys: Sequence[str], setting: Setting, runs: EstateFigures, draws: dict[str, FlowSample]
) -> None:
    """What others call on certain days is estimated anew, at the prices of these days."""
    for place, key in enumerate(keys):
        if runs.weights.get(key) != runs.by[key].weights:
            runs.by[key], found = estimate_one(flows[place], setting, (runs.weights.get(key),))
            if found is not None:
                draws[key] = found


_NOBODY = Flow(id="")


def _with_spreads(result: EstateEstimate, runs: EstateFigures, draws: dict[str, FlowSample]) -> EstateEstimate:
    with_called = {key: spread_of(costs) for key, costs in sampled_with_called(runs, draws)}
    total, years = np.zeros(_MONTHS), np.zeros(_MONTHS)
    known = False
    flows: list[FlowEstimate] = []
    for key, flow in zip(runs.by, result.flows, strict=True):
        found = draws[key]
        volume, mean, seed = runs.volumes[key], float(runs.by[key].cost.amount), seed_of(runs.by[key].flow)
        month = month_costs(found, volume, seed, mean)
        year: Floats | None = None
        if month is not None:
            known = True
            total += month
            if not runs.month[1]:
                year = month_costs(found, months_volume(volume, 12), seed, mean)
                years += year if year is not None else 0.0
        flows.append(
            structs.replace(
                flow,
                spread=with_called.get(key, found.cost),
                calls_spread=found.calls,
                month_spread=_spread_or_none(month),
                year_spread=_spread_or_none(year),
            )
        )
    whole = result.total
    if known:
        whole = structs.replace(
            whole, spread=spread_of(total), year_spread=spread_of(years) if not runs.month[1] else None
        )
    return structs.replace(result, flows=tuple(flows), total=whole)


def _spread_or_none(costs: Floats | None) -> Spread | None:
    return None if costs is None else spread_of(costs)


def months_volume(volume: Volume, count: int) -> Volume:
    """The volume of so many months."""
    runs = None if volume.runs is None else volume.runs * count
    return structs.replace(volume, runs=runs, low=volume.low * count, high=volume.high * count)


def sampled_with_called(runs: EstateFigures, draws: dict[str, FlowSample]) -> Iterator[tuple[str, Floats]]:
    """Costs of the sampled runs of every flow that calls others, with all runs that they lead to: arrays of shape (R,), in
    the rate card's currency. Of flows whose calls do not die out, costs without the calls within their circle."""
    graph = runs.graph
    exact = costs_with_called(graph, runs.by)
    costs: dict[str, Floats] = {}
    for component in graph.components:
        rngs = {key: np.random.Generator(np.random.SFC64(seed_of(runs.by[key].flow) + 2)) for key in component}
        inside = frozenset(component)
        outside = {key: _with_calls(key, runs, draws, costs, inside, rngs[key]) for key in component}
        costs.update(outside)
        if graph.is_circle(component):
            wanted = {key: float(exact[key].amount) for key in component}
            if not any(name.startswith(ENDLESS) for name in exact[component[0]].unknown):
                costs.update(_sample_circle(component, runs, draws, outside, wanted, rngs))
        for key in component:
            if draws[key].counts:
                yield key, costs[key]
            if not graph.callers[key]:
                del costs[key]


def _with_calls(
    key: str,
    runs: EstateFigures,
    draws: dict[str, FlowSample],
    costs: dict[str, Floats],
    without: frozenset[str],
    rng: np.random.Generator,
) -> Floats:
    """A flow's own costs with those of the flows it calls, but for some."""
    total: Floats = draws[key].own
    for name, counts in draws[key].counts.items():
        other = runs.names.get(name)
        if other is not None and other not in without and counts.any():
            total = total + _sum_called(counts, costs[other], rng)
    return total


def _sample_circle(
    component: Sequence[str],
    runs: EstateFigures,
    draws: dict[str, FlowSample],
    outside: dict[str, Floats],
    wanted: dict[str, float],
    rngs: dict[str, np.random.Generator],
) -> dict[str, Floats]:
    """Costs of flows that call each other: round after round one more call deep, until the means are the exact ones."""
    inside = frozenset(component)
    costs = dict(outside)
    for _ in range(_ROUNDS):
        if all(float(costs[key].mean()) >= wanted[key] * (1 - _CLOSE) for key in component):
            break
        deeper: dict[str, Floats] = {}
        for key in component:
            total = outside[key]
            for name, counts in draws[key].counts.items():
                other = runs.names.get(name)
                if other in inside:
                    total = total + _sum_called(counts, costs[other], rngs[key])
            deeper[key] = total
        costs = deeper
    return costs


def _sum_called(counts: Floats, costs: Floats, rng: np.random.Generator) -> Floats:
    """For each run the sum of as many draws of the called flow's cost as there were calls."""
    total = int(counts.sum())
    if not total or not costs.any():
        return np.zeros(len(counts))
    if total > _PICKS:
        drawn = costs[rng.integers(0, len(costs), len(counts))]
        return np.maximum(sum_of_draws(counts, float(costs.mean()), drawn), 0.0)
    picks = costs[rng.integers(0, len(costs), total)]
    return np.bincount(np.repeat(np.arange(len(counts)), counts), weights=picks, minlength=len(counts))


def month_costs(found: FlowSample, volume: Volume, seed: int, mean: float) -> Floats | None:
    """Sampled cost of a month: so many runs, each drawn; what is in doubt is in doubt for all of them alike. ``mean`` is the
    exact mean of a run."""
    if volume.runs is None:
        return None
    rng = np.random.Generator(np.random.SFC64(seed + 1))
    runs: Floats = np.full(_MONTHS, float(volume.runs))
    if volume.high > volume.low:
        runs = _draw_pert(rng, volume.low, volume.runs, volume.high)
    if volume.evidence != "export":
        runs = rng.poisson(np.maximum(runs, 0.0)).astype(float)
    own = found.own
    tilt = np.full(_MONTHS, mean)
    variance = found.variance
    for t in found.tilts:
        tilt += t.slope * (_draw_pert(rng, t.value.low, t.value.amount, t.value.high) - t.value.amount)
        variance -= t.variance
    costs: Floats
    if 0 < float(runs.max()) <= 60:
        counts = np.floor(runs + rng.random(_MONTHS)).astype(np.int64)
        picks = own[rng.integers(0, len(own), int(counts.sum()))]
        noise = np.bincount(np.repeat(np.arange(_MONTHS), counts), weights=picks, minlength=_MONTHS)
        costs = np.maximum(noise + counts * (tilt - float(own.mean())), 0.0)
        return costs
    spread = np.sqrt(np.maximum(runs, 0.0) * max(0.0, variance))
    costs = np.maximum(runs * tilt + spread * rng.standard_normal(_MONTHS), 0.0)
    return costs


def _draw_pert(rng: np.random.Generator, low: float, mean: float, high: float) -> Floats:
    alpha = 6 * (mean - low) / (high - low)
    drawn: Floats = low + (high - low) * rng.beta(alpha, 6 - alpha, _MONTHS)
    return drawn
