# The cost of a run as a distribution: passes are sampled, each step's usage is drawn with them. More runs are drawn until
# mean and 90th percentile stand to one percent, or the cap is hit. Every flow is drawn by itself, so that flows can be
# shared out to processes; what it calls and how often it runs in a month is put together afterwards.
"""Sampled cost of one flow's runs."""

from __future__ import annotations

import zlib

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from zeitbuch.core.assumptions.rules import Value
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.moving import Pass
from zeitbuch.core.passes.random_draws import Floats, Ints, sum_of_draws
from zeitbuch.core.passes.sample_records import Tally
from zeitbuch.core.passes.sampling import Sample
from zeitbuch.core.pricing.call_content import Amount, Usage
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.meters import per_run

from .flow_figures import FlowFigures
from .records import Sampling, Spread

FIRST = 1000
_KEPT = 256
_COURSE = tuple(index / 20 for index in range(21))


class Tilt(Struct):
    """A number that is in doubt for the whole month: by how much the cost of a run moves with it, and the share of the
    variance between runs that came from it."""

    value: Value
    slope: float
    variance: float


class FlowSample(Struct):
    """Sampled runs of one flow: own cost of each (or, where no other flow needs them, as many as tell the distribution),
    their variance, calls, and how often each called flow was called in each run. ``means`` has the passes where the exact
    ones do not hold, ``rounded`` what meters that round up in every run count."""

    own: Floats
    cost: Spread
    variance: float
    calls: Spread
    counts: dict[str, Ints]
    tilts: list[Tilt]
    means: dict[str, Pass] | None
    rounded: dict[str, float]


def seed_of(flow: Flow) -> int:
    """The same flow draws the same numbers, whatever else is read."""
    return zlib.crc32(flow.id.encode("utf-8", "replace"))


def costs_of(run: FlowFigures, prices: Prices, count: int) -> tuple[Sample, Floats, Floats]:
    """A sample of a flow's passes, and the own cost and the model calls of each of its runs."""
    sample = Sample(run.passes.plan, count, seed_of(run.flow), run.entry)
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
    use = run.uses[step_id]
    fee = float(prices.per_call(use.model))
    terms = [
        (first, float(each)) for first in use.amounts if (each := prices.unit_price(use.model, first, use.batched))
    ]
    counts = tally.runs
    mean = sum([first.quantity * each for first, each in terms]) + fee * use.calls
    turns = tally.turns
    calls = counts * use.calls if turns is None else sum_of_draws(counts, use.calls, turns * use.each)
    loose = [(first, each) for first, each in terms if first.size.ranged or (turns is not None and first.by != "one")]
    if not loose and (turns is None or not fee):
        return counts * mean, calls
    return _draw_step(sample, mean, loose, turns, fee, use, counts, calls)


def _draw_step(
    sample: Sample,
    mean: float,
    loose: list[tuple[Amount, float]],
    turns: Floats | None,
    fee: float,
    use: Usage,
    counts: Ints,
    calls: NDArray[np.float64] | Floats,
) -> tuple[Floats, Floats]:
    drawn: Floats = np.full(sample.runs, mean)
    for first, cost in loose:
        drawn += cost * (_sample_amount(first, turns, sample) - first.quantity)
    if turns is not None and fee:
        drawn += fee * use.each * (turns - use.calls)
    return np.maximum(sum_of_draws(counts, mean, drawn), 0.0), calls


def _sample_amount(a: Amount, turns: Floats | None, sample: Sample) -> float | Floats:
    size: float | Floats = a.size.amount
    if a.size.ranged:
        # The same text is the same length wherever it goes.
        kept = sample.texts.get(a.key) if a.key else None
        size = sample.draws.draw_pert(a.size) if kept is None else kept
        if a.key and kept is None and isinstance(size, np.ndarray):
            sample.texts[a.key] = size
    times = _draw_times(a, turns)
    return a.times * size * times


def _draw_times(a: Amount, turns: Floats | None) -> float | Floats:
    times: float | Floats = 1.0
    if turns is None:
        times = 1.0 if a.by == "one" or not a.size.amount else a.quantity / (a.times * a.size.amount)
    elif a.by == "turns":
        times = turns
    elif a.by == "later":
        times = turns - 1
    elif a.by == "pairs":
        times = turns * (turns - 1) / 2
    return times


def spread_of(costs: Floats) -> Spread:
    """Mean, its standard error and percentiles of draws."""
    order = np.sort(costs)
    number = len(order)

    def at(share: float) -> float:
        place = share * (number - 1)
        low = int(place)
        high = min(number - 1, low + 1)
        return float(order[low] + (order[high] - order[low]) * (place - low))

    course = tuple([at(share) for share in _COURSE])
    return Spread(
        float(order.mean()), float(order.std()) / number**0.5, course[10], course[18], at(0.99), number, course
    )


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
    cost, variance, tilts = spread_of(own), float(own.var()), _find_tilts(sample, own)
    if not whole and not counts and len(own) > _KEPT:
        own = np.sort(own)[((np.arange(_KEPT) + 0.5) * (len(own) / _KEPT)).astype(int)]
    return FlowSample(own.astype(np.float32), cost, variance, spread_of(calls), counts, tilts, means, rounded)


def _calls_of_flow(run: FlowFigures, sample: Sample) -> dict[str, Ints]:
    counts: dict[str, Ints] = {}
    for step in run.flow.steps:
        if step.calls and step.id in sample.of:
            more = sample.of[step.id].runs
            counts[step.calls] = counts[step.calls] + more if step.calls in counts else more
    return counts


def _find_tilts(sample: Sample, own: Floats) -> list[Tilt]:
    found = []
    for value, seen in sample.draws.doubts:
        centred = seen - seen.mean()
        power = float((centred**2).mean())
        if power > 0:
            slope = float((centred * own).mean()) / power
            found.append(Tilt(value, slope, slope**2 * power))
    return found


def means_of(sample: Sample, run: FlowFigures) -> dict[str, Pass]:
    """The passes of a sample, as means."""
    found: dict[str, Pass] = {}
    for key, exact in run.passes.of.items():
        tally = sample.of.get(key)
        if tally is not None:
            arrivals, times = float(tally.arrivals.mean()), float(tally.runs.mean())
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
                size = sample.draws.draw_number(value)
                each += (
                    tally.runs * value.amount
                    if isinstance(size, float)
                    else sum_of_draws(tally.runs, value.amount, size)
                ) / scale
        elif meter.counts == "call":
            each = calls
        else:
            each = np.full(sample.runs, per_run(meter, run.metered, card))
        found[meter.name] = float(np.ceil(each / float(meter.unit) - 1e-9).mean())
    return found
