# The cost of a run as a distribution: passes are sampled, each step's usage is drawn with them. More runs are drawn until
# mean and 90th percentile stand to one percent, or the cap is hit. Every flow is drawn by itself, so that flows can be
# shared out to processes; what it calls and how often it runs in a month is put together afterwards.
"""Sampled cost of one flow's runs."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct, structs

from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.moving import Pass
from zeitbuch.core.passes.random_draws import Floats, Ints, sum_of_draws
from zeitbuch.core.passes.sample_records import Tally
from zeitbuch.core.passes.sampling import Sample
from zeitbuch.core.pricing.call_content import Amount
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.meters import per_run

from .day_parts import DayPart
from .flow_figures import FlowFigures, price_in_worlds
from .records import RunSpread, Sampling, Spread

FIRST = 1000
_KEPT = 256
NO_SPREAD = 1e-18  # a variance of parts that is rounding alone
# One for all flows of which nothing is kept: between processes, too, a batch of flows holds each of these once.
_NO_DRAWS: Floats = np.zeros(0, np.float32)
_NO_FIGURES: dict[str, Any] = {}


class FlowSample(Struct):
    """Sampled runs of one flow.

    ``cost`` and ``calls``: their distributions, over all that varies and all that is in doubt. ``own``: the cost of each run, kept
    where other flows are called or call. ``relative``: the costs as parts of what a run costs on average in its own world, with mean
    1 (some that stand for all), ``variance`` and ``skewness`` those of all, ``calls_variance`` and ``calls_skewness`` the same of the
    calls. ``counts``: how often each called flow was called in each run. ``means`` has the passes where the exact ones do not hold, ``rounded`` what meters that round up in
    every run count, ``called`` the model calls of each run, kept where days of a month are put together."""

    own: Floats
    cost: RunSpread
    relative: Floats
    variance: float
    skewness: float
    calls: Spread
    calls_variance: float
    calls_skewness: float
    counts: dict[str, Ints]
    means: dict[str, Pass] | None
    rounded: dict[str, float]
    called: Floats | None = None

    def without_draws(self) -> FlowSample:
        """The distributions alone, which is all that is asked of a flow that stands alone once its month is drawn."""
        return structs.replace(self, own=_NO_DRAWS, relative=_NO_DRAWS, counts=_NO_FIGURES, rounded=_NO_FIGURES)


def seed_of(flow: Flow, part: DayPart | None = None) -> int:
    """The same flow draws the same numbers, whatever else is read; what chance brings on some days is nothing to others."""
    return zlib.crc32(flow.id.encode("utf-8", "replace"), part.number + 1 if part is not None else 0)


def costs_of(run: FlowFigures, prices: Prices, count: int) -> tuple[Sample, Floats, Floats]:
    """A sample of a flow's passes, and the own cost and the model calls of each of its runs."""
    sample = Sample(run.passes.plan, count, seed_of(run.flow, run.part), run.entry)
    own, calls = np.zeros(count), np.zeros(count)
    for step_id in run.uses:
        tally = sample.of.get(step_id)
        if tally is not None:
            cost, called = _sample_step(run, prices, step_id, tally, sample)
            own += cost
            calls += called
    return sample, own, calls


def _sample_step(run: FlowFigures, prices: Prices, step_id: str, tally: Tally, sample: Sample) -> tuple[Floats, Floats]:
    """Cost and calls of one step in each run."""
    use, of_runs = run.uses[step_id], sample.draws.of_runs
    fee, turns = float(prices.per_call(use.model)), tally.turns
    terms = [(amount, of_runs(price_in_worlds(prices, use, amount))) for amount in use.amounts]
    calls = of_runs(use.calls)
    called = tally.runs * calls if turns is None else sum_of_draws(tally.runs, calls, turns * of_runs(use.each))
    mean = sum([of_runs(amount.quantity) * price for amount, price in terms]) + fee * calls
    drawn = np.full(sample.runs, mean)
    for amount, price in terms:
        if amount.size.ranged or (turns is not None and amount.by != "one"):
            drawn += price * (_sample_amount(amount, turns, sample) - of_runs(amount.quantity))
    if turns is not None and fee:
        drawn += fee * (of_runs(use.each) * turns - calls)
    return np.maximum(sum_of_draws(tally.runs, mean, drawn), 0.0), called


def _sample_amount(amount: Amount, turns: Floats | None, sample: Sample) -> Any:
    size: float | Floats = sample.draws.of_runs(amount.size.amount)
    if amount.size.ranged:
        # The same text is the same length wherever it goes.
        kept = sample.texts.get(amount.key) if amount.key else None
        size = sample.draws.draw_varied(amount.size) if kept is None else kept
        if amount.key and kept is None:
            sample.texts[amount.key] = np.asarray(size)
    return sample.draws.of_runs(amount.times) * size * _draw_times(amount, turns, sample)


def _draw_times(amount: Amount, turns: Any, sample: Sample) -> Any:
    if turns is None:
        known = amount.by == "one" or not amount.size.amount
        return 1.0 if known else sample.draws.of_runs(amount.quantity / (amount.times * amount.size.amount))
    match amount.by:
        case "turns":
            return turns
        case "later":
            return turns - 1
        case "pairs":
            return turns * (turns - 1) / 2
        case _:
            return 1.0


def spread_of(costs: Floats) -> Spread:
    """Mean, its standard error and percentiles of draws."""
    return Spread(*_figures_of(np.sort(costs)))


def run_spread_of(costs: Floats) -> RunSpread:
    """The distribution of what runs cost."""
    order = np.sort(costs)
    return RunSpread(*_figures_of(order), *[_percentile(order, share) for share in (0.05, 0.25, 0.75, 0.95)])


def _figures_of(order: Floats) -> tuple[float, float, float, float, float, float, int]:
    p10, p50, p90, p99 = [_percentile(order, share) for share in (0.1, 0.5, 0.9, 0.99)]
    return float(order.mean()), float(order.std()) / len(order) ** 0.5, p10, p50, p90, p99, len(order)


def _percentile(order: Floats, share: float) -> float:
    """A percentile of sorted draws, between two of them by its distance from each."""
    place = share * (len(order) - 1)
    low = int(place)
    high = min(len(order) - 1, low + 1)
    return float(order[low] + (order[high] - order[low]) * (place - low))


def _is_close_enough(costs: Floats, wanted: float) -> bool:
    """Whether mean and 90th percentile stand to a relative standard error."""
    mean = float(costs.mean())
    if mean <= 0:
        return True
    number = len(costs)
    if float(costs.std()) / number**0.5 > wanted * mean:
        return False
    # The error of a percentile from the order statistics one standard deviation to either side of it.
    off = (number * 0.9 * 0.1) ** 0.5
    places = [int(0.9 * number - off), int(0.9 * number), min(number - 1, int(0.9 * number + off))]
    order = np.partition(costs, places)
    low, position, high = (float(order[place]) for place in places)
    return (high - low) / 2 <= wanted * max(position, mean)


def draw_flow(run: FlowFigures, prices: Prices, how: Sampling, whole: bool = True) -> FlowSample:
    """The draws of a flow by itself, as many as are wanted or needed; ``whole`` keeps the cost of every run."""
    count = how.runs if how.runs is not None else min(FIRST, how.most)
    while True:
        sample, own, calls = costs_of(run, prices, count)
        if how.runs is not None or count * 2 > how.most or _is_close_enough(own, how.close):
            break
        count *= 4 if count * 4 <= how.most else 2
    counts = _calls_of_flow(run, sample)
    means = None if run.exact else means_of(sample, run)
    rounded = _rounded_quantities(run, prices, sample, calls)
    cost = run_spread_of(own)
    relative = relative_to(own, sample.draws.of_runs(run.sums.spent))
    calls_variance, calls_skewness = variance_and_skewness(relative_to(calls, sample.draws.of_runs(run.sums.calls)))
    variance, skewness = variance_and_skewness(relative)
    relative = thinned(relative)
    kept = own if whole or counts else own[:0]
    called = calls.astype(np.float32) if run.part is not None else None
    return FlowSample(
        kept.astype(np.float32),
        cost,
        relative,
        variance,
        skewness,
        spread_of(calls),
        calls_variance,
        calls_skewness,
        counts,
        means,
        rounded,
        called,
    )


_MIXED = 4000


def mixed_draws(weights: Sequence[float], draws: Sequence[Floats]) -> Floats:
    """Draws of one of several distributions, each as often as its weight says, by even steps of its percentiles."""
    counts = [round(weight * _MIXED) for weight in weights]
    parts = [
        np.quantile(drawn, (np.arange(count) + 0.5) / count)
        for count, drawn in zip(counts, draws, strict=True)
        if count
    ]
    return np.concatenate(parts).astype(float)


def relative_to(amounts: Floats, means: float | Floats) -> Floats:
    """Amounts of runs as parts of what is expected in the world of each, with mean 1; all 1 where nothing is expected."""
    whole = np.broadcast_to(means, amounts.shape)
    parts = np.divide(amounts, whole, out=np.ones(amounts.shape), where=whole > 0)
    mean = float(parts.mean())
    return parts / mean if mean > 0 else np.ones(amounts.shape)


def variance_and_skewness(parts: Floats) -> tuple[float, float]:
    """Second and standardised third central moment of some numbers; no skewness where they do not vary."""
    off = parts - parts.mean()
    squares = off * off
    variance = float(squares.mean())
    return variance, float((squares * off).mean()) / variance**1.5 if variance > NO_SPREAD else 0.0


def thinned(parts: Floats) -> Floats:
    """Some values that stand for all, with the same mean: those of slices, so that what is rare and large keeps its weight."""
    if len(parts) > _KEPT:
        edges = (np.arange(_KEPT + 1) * (len(parts) / _KEPT)).astype(int)
        parts = relative_to(np.add.reduceat(np.sort(parts), edges[:-1]) / np.diff(edges), 1.0)
    kept: Floats = parts.astype(np.float32)
    return kept


def _calls_of_flow(run: FlowFigures, sample: Sample) -> dict[str, Ints]:
    counts: dict[str, Ints] = {}
    for step in run.flow.steps:
        if step.calls and step.id in sample.of:
            more = sample.of[step.id].runs
            counts[step.calls] = counts[step.calls] + more if step.calls in counts else more
    return counts


def means_of(sample: Sample, run: FlowFigures) -> dict[str, Pass]:
    """The passes of a sample, as means."""
    found: dict[str, Pass] = {}
    for key, exact in run.passes.of.items():
        tally = sample.of.get(key)
        if tally is not None:
            arrivals, times = float(tally.arrivals.mean()), float(tally.runs.mean())
            expected = float(np.mean(sample.draws.of_runs(exact.runs)))
            if expected > 0:
                # By as much as the runs differ from what is expected in their worlds, in every world and on average.
                times = exact.runs * (times / expected)
            found[key] = Pass(arrivals, times, exact.evidence, exact.turns, exact.turns2)
    return found


def _rounded_quantities(run: FlowFigures, prices: Prices, sample: Sample, calls: Floats) -> dict[str, float]:
    """Expected rounded quantities of meters that round up in every run."""
    card = prices.card
    meters = [meter for meter in (card.meter if card is not None else ()) if meter.round_up == "run"]
    found: dict[str, float] = {}
    if card is None or run.metered is None:
        return found
    for meter in meters:
        if meter.counts in ("minute", "megabyte"):
            each: Floats = np.zeros(sample.runs)
            quantity, scale = ("seconds", 60.0) if meter.counts == "minute" else ("megabytes", 1.0)
            for step in run.flow.steps:
                tally = sample.of.get(step.id)
                value = run.lookup.of_step(quantity, step)
                if tally is None or not value.amount:
                    continue
                size, mean = sample.draws.draw_number(value), sample.draws.of_runs(value.amount)
                each += (tally.runs * mean if isinstance(size, float) else sum_of_draws(tally.runs, mean, size)) / scale
        elif meter.counts == "call":
            each = calls
        else:
            each = np.full(sample.runs, sample.draws.of_runs(per_run(meter, run.metered, card)))
        found[meter.name] = float(np.ceil(each / float(meter.unit) - 1e-9).mean())
    return found
