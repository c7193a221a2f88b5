# The cost of a run as a distribution: passes are sampled, each step's usage is drawn with them, flows that are called
# add draws of their own. More runs are drawn until mean and 90th percentile stand to one percent, or the cap is hit.
"""Sampled cost of runs and months."""

from __future__ import annotations

import zlib
from collections.abc import Callable

import numpy as np
from msgspec import Struct, structs

from .draws import Floats, summed
from .estimate import EstateEstimate, FlowEstimate, Run, Runs, Spread, priced, result_of, settle
from .metering import per_run
from .model import Flow
from .passes import Pass
from .rates import Meter
from .sampled import Sample, Tally
from .usage import Amount
from .volume import Volume

FIRST, MOST = 1000, 32_000
_PICKS = 2_000_000
_MONTHS = 2000
_COURSE = tuple(i / 20 for i in range(21))


class Sampling(Struct, frozen=True):
    """How much to draw: ``runs`` exactly, or without it until the figures stand to ``close`` (relative standard error)."""

    runs: int | None = None
    close: float = 0.01
    most: int = MOST


class Drawn(Struct):
    """Costs and calls of each sampled run of one flow: its own, and with the flows it calls."""

    sample: Sample
    own: Floats
    calls: Floats
    whole: Floats


def seed_of(flow: Flow) -> int:
    """The same flow draws the same numbers, whatever else is read."""
    return zlib.crc32(flow.id.encode("utf-8", "replace"))


class Costs:
    """Draws the cost of a flow's runs."""

    def __init__(self, runs: Runs) -> None:
        self.runs = runs
        self.made: dict[tuple[str, int], Drawn] = {}

    def of(self, key: str, count: int, seen: tuple[str, ...] = ()) -> Drawn:
        """The draws of a flow with the flows it calls; a flow that calls itself is counted once."""
        had = self.made.get((key, count))
        if had is not None:
            return had
        run = self.runs.by[key]
        sample = Sample(run.passes.plan, count, seed_of(run.flow), run.entry)
        own, calls = np.zeros(count), np.zeros(count)
        for step_id in run.uses:
            tally = sample.of.get(step_id)
            if tally is not None:
                cost, called = self._step(run, step_id, tally, sample)
                own += cost
                calls += called
        whole = own
        for name, _ in run.calls_of.items():
            other = self.runs.names.get(name)
            if other is None or other == key or other in seen:
                continue
            inner = self.of(other, count, (*seen, key)).whole
            for step in run.flow.steps:
                if step.calls == name and step.id in sample.of:
                    whole = whole + _called(sample.of[step.id].runs, inner, sample)
        found = Drawn(sample, own, calls, whole)
        if not seen:
            self.made = {k: v for k, v in self.made.items() if k[0] != key or k[1] == count}
        self.made[(key, count)] = found
        return found

    def _step(self, run: Run, step_id: str, tally: Tally, sample: Sample) -> tuple[Floats, Floats]:
        """Cost and calls of one step in each run."""
        use = run.uses[step_id]
        prices = self.runs.prices
        fee = float(prices.per_call(use.model))
        terms = [(a, float(each)) for a in use.amounts if (each := prices.each(use.model, a, use.batched))]
        counts = tally.runs
        mean = sum(a.quantity * each for a, each in terms) + fee * use.calls
        turns = tally.turns
        calls = counts * use.calls if turns is None else summed(counts, use.calls, turns * use.each)
        loose = [(a, each) for a, each in terms if a.size.ranged or (turns is not None and a.by != "one")]
        if not loose and (turns is None or not fee):
            return counts * mean, calls
        drawn: Floats = np.full(sample.runs, mean)
        for a, cost in loose:
            drawn += cost * (self._amount(a, turns, sample) - a.quantity)
        if turns is not None and fee:
            drawn += fee * use.each * (turns - use.calls)
        return np.maximum(summed(counts, mean, drawn), 0.0), calls

    @staticmethod
    def _amount(a: Amount, turns: Floats | None, sample: Sample) -> float | Floats:
        size: float | Floats = a.size.amount
        if a.size.ranged:
            # The same text is the same length wherever it goes.
            kept = sample.texts.get(a.key) if a.key else None
            size = sample.draws.pert(a.size) if kept is None else kept
            if a.key and kept is None and isinstance(size, np.ndarray):
                sample.texts[a.key] = size
        if turns is None or a.by == "one":
            times: float | Floats = (
                1.0 if a.by == "one" or not a.size.amount else a.quantity / (a.times * a.size.amount)
            )
        elif a.by == "turns":
            times = turns
        elif a.by == "later":
            times = turns - 1
        else:
            times = turns * (turns - 1) / 2
        return a.times * size * times


def _called(counts: np.ndarray, costs: Floats, sample: Sample) -> Floats:
    """For each run the sum of as many draws of the called flow's cost as there were calls."""
    total = int(counts.sum())
    if not total or not costs.any():
        return np.zeros(len(counts))
    if total > _PICKS:
        return np.maximum(summed(counts, float(costs.mean()), sample.draws.rng.permutation(costs)), 0.0)
    picks = costs[sample.draws.rng.integers(0, len(costs), total)]
    return np.bincount(np.repeat(np.arange(len(counts)), counts), weights=picks, minlength=len(counts))


def spread_of(costs: Floats) -> Spread:
    """Mean, its standard error and percentiles of draws."""
    course = tuple(float(v) for v in np.quantile(costs, _COURSE))
    error = float(costs.std()) / len(costs) ** 0.5
    return Spread(
        float(costs.mean()), error, course[10], course[18], float(np.quantile(costs, 0.99)), len(costs), course
    )


def _close(costs: Floats, wanted: float) -> bool:
    """Whether mean and 90th percentile stand to a relative standard error."""
    mean = float(costs.mean())
    if mean <= 0:
        return True
    n = len(costs)
    if float(costs.std()) / n**0.5 > wanted * mean:
        return False
    # The error of a percentile from the order statistics one standard deviation to either side of it.
    off = (n * 0.9 * 0.1) ** 0.5
    order = np.partition(costs, [int(0.9 * n - off), int(0.9 * n), min(n - 1, int(0.9 * n + off))])
    low, at, high = order[int(0.9 * n - off)], order[int(0.9 * n)], order[min(n - 1, int(0.9 * n + off))]
    return bool((high - low) / 2 <= wanted * max(float(at), mean))


def drawn(costs: Costs, key: str, how: Sampling) -> Drawn:
    """The draws of a flow, as many as are wanted or needed."""
    if how.runs is not None:
        return costs.of(key, how.runs)
    count = min(FIRST, how.most)
    while True:
        found = costs.of(key, count)
        if count * 2 > how.most or _close(found.whole, how.close):
            return found
        count *= 4 if count * 4 <= how.most else 2


def month_costs(one: Drawn, volume: Volume, seed: int, exact: float | None = None) -> Floats | None:
    """Sampled cost of a month: so many runs, each drawn; what is in doubt is in doubt for all of them alike."""
    if volume.runs is None:
        return None
    costs: Floats
    rng = np.random.Generator(np.random.SFC64(seed + 1))
    deviation = float(one.own.std())
    mean = float(one.own.mean()) if exact is None else exact
    runs = np.full(_MONTHS, float(volume.runs))
    if volume.high > volume.low:
        span = volume.high - volume.low
        alpha = 6 * (volume.runs - volume.low) / span
        runs = volume.low + span * rng.beta(alpha, 6 - alpha, _MONTHS)
    if volume.evidence != "read":
        runs = rng.poisson(np.maximum(runs, 0.0)).astype(float)
    tilt = np.full(_MONTHS, 0.0)
    for value, seen in one.sample.draws.doubts:
        centred = seen - seen.mean()
        power = float((centred**2).mean())
        if power > 0:
            slope = float((centred * one.own).mean()) / power
            span = value.high - value.low
            alpha = 6 * (value.amount - value.low) / span
            tilt += slope * (value.low + span * rng.beta(alpha, 6 - alpha, _MONTHS) - value.amount)
            deviation = max(0.0, deviation**2 - slope**2 * power) ** 0.5
    most = int(runs.max()) if len(runs) else 0
    if 0 < most <= 60:
        counts = np.floor(runs + rng.random(_MONTHS)).astype(np.int64)
        picks = one.own[rng.integers(0, len(one.own), int(counts.sum()))]
        noise = np.bincount(np.repeat(np.arange(_MONTHS), counts), weights=picks, minlength=_MONTHS)
        costs = np.maximum(noise + counts * (tilt + mean - float(one.own.mean())), 0.0)
        return costs
    spread = np.sqrt(np.maximum(runs, 0.0)) * deviation
    costs = np.maximum(runs * (mean + tilt) + spread * rng.standard_normal(_MONTHS), 0.0)
    return costs


def sampled(runs: Runs, how: Sampling, progress: Callable[[int], None] | None = None) -> EstateEstimate:
    """The estimate with distributions. Means of flows whose passes are not exact are taken from the sample."""
    costs = Costs(runs)
    by: dict[str, tuple[Spread, Spread, Spread | None, Spread | None]] = {}
    total, years = np.zeros(_MONTHS), np.zeros(_MONTHS)
    known = False
    resettle = False
    meters = [m for m in (runs.prices.card.meter if runs.prices.card is not None else ()) if m.round_up == "run"]
    for at, (key, run) in enumerate(runs.by.items()):
        one = drawn(costs, key, how)
        if not run.passes.exact:
            priced(run, runs.prices, means_of(one.sample, run))
            resettle = resettle or bool(run.calls_of)
        if meters and run.metered is not None:
            _round(run, one, meters, runs)
        volume, seed, mean = runs.volumes[key], seed_of(run.flow), float(run.cost.amount)
        month = month_costs(one, volume, seed, mean)
        year = None
        if month is not None:
            total += month
            known = True
            if not runs.month[1]:
                year = month_costs(one, times(volume, 12), seed, mean)
                years += year if year is not None else 0.0
        spreads = [spread_of(c) if c is not None else None for c in (month, year)]
        by[key] = (spread_of(one.whole), spread_of(one.calls), spreads[0], spreads[1])
        if progress is not None:
            progress(at)
    if resettle:
        settle(runs)
    result = result_of(runs)
    flows = tuple(_with(f, *spreads) for f, spreads in zip(result.flows, by.values(), strict=True))
    whole = result.total
    if known:
        year_spread = spread_of(years) if not runs.month[1] else None
        whole = structs.replace(whole, spread=spread_of(total), year_spread=year_spread)
    return structs.replace(result, flows=flows, total=whole)


def times(volume: Volume, count: int) -> Volume:
    """The volume of so many months."""
    runs = None if volume.runs is None else volume.runs * count
    return structs.replace(volume, runs=runs, low=volume.low * count, high=volume.high * count)


def _with(flow: FlowEstimate, cost: Spread, calls: Spread, month: Spread | None, year: Spread | None) -> FlowEstimate:
    return structs.replace(flow, spread=cost, calls_spread=calls, month_spread=month, year_spread=year)


def means_of(sample: Sample, run: Run) -> dict[str, Pass]:
    """The passes of a sample, as means."""
    found: dict[str, Pass] = {}
    for key, exact in run.passes.of.items():
        tally = sample.of.get(key)
        if tally is None:
            continue
        arrivals, times = float(tally.arrivals.mean()), float(tally.runs.mean())
        found[key] = Pass(arrivals, times, exact.evidence, exact.turns, exact.turns2)
    return found


def _round(run: Run, one: Drawn, meters: list[Meter], runs: Runs) -> None:
    """Expected rounded quantities of meters that round up in every run."""
    assert run.metered is not None and runs.prices.card is not None
    for meter in meters:
        if meter.counts == "minute" or meter.counts == "megabyte":
            quantity = "seconds" if meter.counts == "minute" else "megabytes"
            each = np.zeros(one.sample.runs)
            for step in run.flow.steps:
                tally = one.sample.of.get(step.id)
                value = run.book.of_step(quantity, step)
                if tally is not None and value.amount:
                    drawn_size = one.sample.draws.number(value)
                    each += (
                        tally.runs * value.amount
                        if isinstance(drawn_size, float)
                        else summed(tally.runs, value.amount, drawn_size)
                    )
            each = each / 60 if meter.counts == "minute" else each
        elif meter.counts == "call":
            each = one.calls
        else:
            each = np.full(one.sample.runs, per_run(meter, run.metered, runs.prices.card))
        run.metered.rounded[meter.name] = float(np.ceil(each / float(meter.unit) - 1e-9).mean())
