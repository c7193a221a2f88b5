# Estates of many thousands of flows: every flow is estimated and drawn by itself, in as many processes as the caller has,
# and only its sums are kept; volumes, called flows, meters and months are put together at the end.
"""Estimates with distributions, for estates of any size."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from msgspec import Struct, structs

from zeitbuch.core.assumptions.days import Month
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.worlds import Worlds, worlds_for
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.resting_flows import RestingFlows
from zeitbuch.core.passes.random_draws import Floats
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.pricing.spans import Weights

from .day_parts import Job, change_days, jobs_of
from .distribution import FlowSample, draw_flow, seed_of
from .estate import EstateFigures, gather_runs, keys_of, month_for, result_of
from .estate_month import Drawn, EstateMonth
from .flow_figures import FlowFigures, Sums, lightened, one_run, price_run
from .month_draws import draw_month
from .records import EstateEstimate, Sampling

_NOBODY = Flow(id="")


class Batch(Struct):
    """Flows estimated one after the other; ``sums`` of those of them that are wanted and stand alone (see ``Drawn.sum_up``)."""

    flows: list[tuple[FlowFigures, Drawn | None]]
    sums: Floats | None

    def add_flow(self, run: FlowFigures, drawn: Drawn | None, wanted: bool, head: Flow) -> None:
        """Adds a flow. Flows stay where they are: only figures travel between processes, with the ``head`` of a flow."""
        self.flows.append((structs.replace(run, flow=head), drawn))
        if drawn is None or drawn.related:
            return
        more = drawn.sum_up(run.metered is not None)
        if wanted and more is not None:
            self.sums = more if self.sums is None else self.sums + more


def _head_of(flow: Flow) -> Flow:
    """What is asked of a flow once it is estimated: who it is, where it runs, and what starts it."""
    return Flow(
        id=flow.id, name=flow.name, state=flow.state, owners=flow.owners, folder=flow.folder,
        environment=flow.environment, triggers=flow.triggers, concurrency=flow.concurrency, format=flow.format,
        origin=flow.origin,
    )  # fmt: skip


Work = Callable[[range], Batch]
Share = Callable[[Work, int], "Iterable[Batch]"]


class Setting(Struct):
    """What every flow is estimated with."""

    assumptions: Assumptions
    prices: Prices
    month: Month
    how: Sampling | None
    detail: bool
    called: frozenset[str]
    worlds: Worlds | None = None


def in_turn(work: Work, count: int) -> Iterable[Batch]:
    """Shares work out to this process alone, in pieces."""
    for first in range(0, count, 64):
        yield work(range(first, min(count, first + 64)))


def estimate_one(
    job: Job, setting: Setting, calls: tuple[Weights | None] | None = None
) -> tuple[FlowFigures, Drawn | None]:
    """One flow by itself, or a part of it. Without ``detail`` only the sums stay. ``calls``: how its runs lie over the month, where that is known
    better than from its own triggers."""
    flow, part = job.flow, job.part
    run = one_run(flow, setting.assumptions, setting.prices, setting.month, setting.detail, setting.worlds, part)
    if calls is not None and calls[0] != run.weights:
        run = structs.replace(run, weights=calls[0])
        price_run(run, setting.prices, run.passes.of, setting.detail)
    related = part is not None or flow.id in setting.called or flow.name in setting.called
    prices = setting.prices.weighted(run.weights)
    sample = draw_flow(run, prices, setting.how, related) if setting.how is not None else None
    if sample is not None and sample.means is not None:
        price_run(run, setting.prices, sample.means, setting.detail)
    if sample is not None and run.metered is not None:
        run.metered.rounded = sample.rounded
    if sample is None:
        return lightened(run, setting.prices, setting.detail), None
    if related or sample.counts:
        return lightened(run, setting.prices, setting.detail), Drawn(sample, True)
    drawn = _drawn_alone(run, sample, setting)
    return _plain(lightened(run, setting.prices, setting.detail)), drawn


def _plain(run: FlowFigures) -> FlowFigures:
    """Figures without their worlds, which are drawn already."""
    sums, volume = run.sums, run.volume
    plain = Sums(float(sums.calls), float(sums.input_tokens), float(sums.output_tokens), float(sums.spent), sums.by)
    runs = None if volume.runs is None else float(volume.runs)
    return structs.replace(run, sums=plain, volume=structs.replace(volume, runs=runs, items=float(volume.items)))


def _drawn_alone(run: FlowFigures, sample: FlowSample, setting: Setting) -> Drawn:
    """Month and year of a flow that neither calls others nor is called."""
    count = setting.worlds.count if setting.worlds is not None else 0
    month = draw_month(run.sums, sample, run.volume, seed_of(run.flow), count)
    year = draw_month(run.sums, sample, run.volume, seed_of(run.flow), count, 12) if not setting.month[1] else None
    return Drawn(sample.without_draws(), False, month, None if year is None else year.cost)


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
    wanted: frozenset[str] = frozenset(),
) -> EstateEstimate:
    """The estimate of many flows; ``how`` draws distributions, ``detail`` keeps the steps, ``share`` shares the work out
    (it is given what works on a range of places, and the number of flows). ``wanted``: the ids of the flows that the distributions of
    the total are of; all without any."""
    when = month_for(assumptions, month)
    prices = Prices(card, when, counters, change_days(assumptions, when))
    called = frozenset(step.calls for flow in flows for step in flow.steps if step.calls)
    setting = Setting(
        assumptions, prices, when, how, detail, called, worlds_for(how.among or len(flows)) if how is not None else None
    )
    light: dict[str, FlowFigures] = {}
    whole = EstateMonth(setting.worlds.count if setting.worlds is not None else 0, wanted)
    jobs = jobs_of(keys_of(flows), flows, assumptions, when)
    resting = isinstance(flows, RestingFlows)

    def work(places: range) -> Batch:
        batch = Batch([], None)
        with np.errstate(all="ignore"):  # amounts beyond all measure have no distribution
            for place in places:
                run, drawn = estimate_one(jobs[place], setting)
                batch.add_flow(run, drawn, whole.wants(run.flow.id), _head_of(run.flow) if resting else _NOBODY)
        return batch

    place = 0
    for batch in share(work, len(jobs)):
        for run, drawn in batch.flows:
            job = jobs[place]
            light[job.key] = run if resting else structs.replace(run, flow=job.flow)
            if drawn is not None:
                whole.drawn[job.key] = drawn
            place += 1
        whole.add_sums(batch.sums)
        if progress is not None:
            progress(min(place, len(flows)))
    with np.errstate(all="ignore"):
        runs = gather_runs(light, prices, when, assumptions, setting.worlds)
        _estimate_called_anew(jobs, setting, runs, whole.drawn)
        return whole.estimate_months(runs) if how is not None else result_of(runs)


def _estimate_called_anew(jobs: Sequence[Job], setting: Setting, runs: EstateFigures, drawn: dict[str, Drawn]) -> None:
    """What others call on certain days is estimated anew, at the prices of these days."""
    for job in jobs:
        if runs.weights.get(job.key) != runs.by[job.key].weights:
            runs.by[job.key], found = estimate_one(job, setting, (runs.weights.get(job.key),))
            if found is not None:
                drawn[job.key] = found
