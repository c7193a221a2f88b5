# The month of a whole estate in every drawn world: flows that stand alone were drawn by themselves; those that call each other, what hosts
# bill for all together, and the sums are put together here.
"""Months of an estate in drawn worlds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct, field, structs

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.passes.random_draws import Floats

from .called_flows import spent_with_called
from .called_months import CalledMonths, notes_on_circles
from .called_samples import CalledSamples
from .distribution import (
    FlowSample,
    mixed_draws,
    relative_to,
    run_spread_of,
    seed_of,
    spread_of,
    thinned,
    variance_and_skewness,
)
from .estate import EstateFigures, bill_runs, result_of
from .month_draws import MonthDraws, draw_month, draw_runs, in_all_worlds, sum_of_runs
from .records import EstateEstimate, FlowEstimate, MonthUses, Quantiles, RunSpread, Spread, Total


class Drawn(Struct):
    """What was drawn of a flow: its runs; its month and year, whole, or where they are summed up already their distributions;
    ``related`` flows call others or are called."""

    sample: FlowSample
    related: bool
    month: MonthDraws | None = None
    year: Floats | None = None
    uses: MonthUses | None = None
    month_spread: Spread | None = None
    year_spread: Spread | None = None

    def sum_up(self, metered: bool) -> Floats | None:
        """Of a flow that stands alone what it adds to its estate, of shape (5, W): cost of its month and of its year, and its uses. Costs
        of one with meters (0 here) are kept, since the meters of all are billed together; else only distributions are."""
        month, year = self.month, self.year
        if month is None:
            return None
        self.uses = month_uses(month.uses)
        costs = np.zeros((2, len(month.cost)), month.cost.dtype)
        if not metered:
            costs = np.array([month.cost, year if year is not None else costs[0]])
            self.month_spread, self.year_spread = spread_or_none(month.cost), spread_or_none(year)
            self.month = self.year = None
        rows: Floats = np.concatenate([costs, month.uses])
        month.uses = month.uses[:, :0]
        if not self.related:
            month.expected = month.expected[:0]
        return rows


def month_uses(uses: Floats) -> MonthUses:
    """The distributions of model calls, tokens in and tokens out of a month."""
    rows = [(float(row.mean()), *np.quantile(row, (0.1, 0.5, 0.9)).tolist()) for row in uses]
    return MonthUses(*[Quantiles(*row) for row in rows])


def joined_days(parts: Sequence[Drawn], weights: Sequence[float]) -> Drawn:
    """What was drawn of the days of a flow as that of the whole: months add up, a run is one of a part drawn by its weight."""
    samples = [part.sample for part in parts]
    calls = [sample.called if sample.called is not None else np.zeros(1) for sample in samples]
    sample = structs.replace(
        samples[0],
        cost=run_spread_of(mixed_draws(weights, [sample.own for sample in samples])),
        calls=spread_of(mixed_draws(weights, calls)),
    )
    months = [part.month for part in parts if part.month is not None]
    years = [part.year for part in parts if part.year is not None]
    if len(months) < len(parts):
        return Drawn(sample, True)
    columns = [[getattr(one, name) for one in months] for name in MonthDraws.__struct_fields__]
    month = MonthDraws(*[np.sum(column, axis=0) for column in columns])
    return Drawn(sample, True, month, np.sum(years, axis=0) if years else None)


class _Caller(Struct):
    """Costs of the runs of a flow with those it calls: their distribution, as parts of their mean, variance and skewness of
    these; ``costs`` themselves where days are put together."""

    spread: RunSpread | None
    relative: Floats
    variance: float
    skewness: float
    costs: Floats


class EstateMonth(Struct):
    """All that was drawn of the flows of an estate in ``count`` worlds, by key; ``sums`` of those that are summed up already (see ``Drawn.sum_up``).
    ``wanted``: the ids of the flows that the sums are of, all without any."""

    count: int
    wanted: frozenset[str] = frozenset()
    drawn: dict[str, Drawn] = field(default_factory=dict)
    sums: Floats | None = None

    def wants(self, flow_id: str) -> bool:
        """Whether the sums are of a flow too."""
        return not self.wanted or flow_id in self.wanted

    def add_sums(self, more: Floats | None) -> None:
        """Adds what some flows add together."""
        if more is not None:
            self.sums = more if self.sums is None else self.sums + more

    def estimate_months(self, runs: EstateFigures) -> EstateEstimate:
        """The estimate of settled runs with its distributions."""
        spent = spent_with_called(runs.graph, runs.by)
        callers = self._callers(runs, spent)
        samples = {key: one.sample for key, one in self.drawn.items() if one.related}
        spans = (1,) if runs.month[1] else (1, 12)
        told, errors = notes_on_circles(runs, samples), [0.0]
        led = [CalledMonths(runs, samples, self.count, months).draw_all() if samples else {} for months in spans]
        for key in runs.by:
            self._draw_related(key, runs, led)
        counts = {key: one.month.runs for key, one in self.drawn.items() if one.month is not None}
        self._join_days(runs, callers)
        billed = bill_runs(runs, counts)
        total = _Sums() if self.sums is None else _Sums(self.sums[0], self.sums[1], known=True)

        def finish(key: str, keys: list[str], flow: FlowEstimate) -> FlowEstimate:
            meters = draws_of(billed[1].spent.get(key, float(flow.meters_month.amount) if flow.meters_month else 0.0))
            made = self._with_spreads(key, flow, callers.get(key), meters, total)
            if key in told:
                made = _less_known(made, *told[key])
                if made.month_spread is not None and self.wants(flow.id):
                    errors.append(made.month_spread.error)
            for part in keys if self.drawn[key].month is not None else ():
                self._add_chance(part, runs, spent, callers.get(part), total)
            if not self.drawn[key].related:
                del self.drawn[key], runs.by[key]  # nothing else asks for it, and of many flows it fills the memory
            return made

        result = result_of(runs, billed, finish)
        return structs.replace(result, total=self._total(result, total, not runs.month[1], max(errors)))

    def _callers(self, runs: EstateFigures, spent: Mapping[str, float]) -> dict[str, _Caller]:
        """The runs of all flows that call others, with what they call."""
        samples = {key: one.sample for key, one in self.drawn.items()}
        found: dict[str, _Caller] = {}
        for key, costs in CalledSamples(runs, samples, spent).each_caller():
            means = np.resize(draws_of(spent[key]), len(costs))
            relative = relative_to(costs, means)
            kept = costs if runs.by[key].part is not None else costs[:0]
            found[key] = _Caller(_run_spread_or_none(costs), thinned(relative), *variance_and_skewness(relative), kept)
        return found

    def _draw_related(self, key: str, runs: EstateFigures, led: Sequence[Mapping[str, Floats]]) -> None:
        """Month and year of a flow whose volume hangs on others; ``led``: the runs that come by what calls what, of both."""
        drawn, run = self.drawn[key], runs.by[key]
        if not drawn.related:
            return
        seed, volume = seed_of(run.flow, run.part), runs.volumes[key]
        drawn.month = draw_month(run.sums, drawn.sample, volume, seed, self.count, drawn=led[0].get(key))
        if drawn.month is None:
            return
        year = None
        if not runs.month[1]:
            year = draw_month(run.sums, drawn.sample, volume, seed, self.count, 12, led[1].get(key))
        drawn.year = None if year is None else year.cost
        if run.part is None:
            self._sum_up(drawn, run.flow.id)

    def _sum_up(self, drawn: Drawn, flow_id: str) -> None:
        sums = drawn.sum_up(metered=True)
        if self.wants(flow_id):
            self.add_sums(sums)

    def _join_days(self, runs: EstateFigures, callers: dict[str, _Caller]) -> None:
        """Puts together what was drawn of the days of a flow: its month is their sum, a run of it one of a day drawn by its runs."""
        for whole, keys in runs.whole_flows().items():
            if keys == [whole]:
                continue
            weights = runs.weights_in_run(keys)
            self.drawn[whole] = joined_days([self.drawn[key] for key in keys], weights)
            called = [callers[key] for key in keys if key in callers]
            if called:
                costs = [callers[key].costs if key in callers else self.drawn[key].sample.own for key in keys]
                callers[whole] = structs.replace(called[0], spread=_run_spread_or_none(mixed_draws(weights, costs)))
            self._sum_up(self.drawn[whole], runs.by[keys[0]].flow.id)

    def _with_spreads(
        self, key: str, flow: FlowEstimate, caller: _Caller | None, meters: Floats | float, total: _Sums
    ) -> FlowEstimate:
        """A flow with its distributions. The bill of a month is that of its models and its part of the meters."""
        one = self.drawn[key]
        month, year = one.month_spread, one.year_spread
        if one.month is not None:
            month = spread_or_none(one.month.cost + meters)
            year = spread_or_none(one.year + meters * 12) if one.year is not None else None
            if self.wants(flow.id):
                total.add_flow(one, meters, bool(self.wanted))
        run = caller.spread if caller is not None else one.sample.cost
        bill = (flow.cost_month or Money()) + (flow.meters_month or Money())
        return structs.replace(
            flow,
            spread=None if flow.with_called.unknown else run,
            calls_spread=one.sample.calls,
            month_spread=None if bill.unknown else month,
            year_spread=None if bill.unknown else year,
            uses_month=one.uses,
        )

    def _add_chance(
        self, key: str, runs: EstateFigures, spent: Mapping[str, float], caller: _Caller | None, total: _Sums
    ) -> None:
        """What chance adds to the month of an estate through flows that call others or are called: with every run that begins by
        itself vary all that it leads to."""
        one, run = self.drawn[key], runs.by[key]
        if self.wanted or not one.related or one.month is None or not run.volume.runs:
            return  # of some flows alone the sum is that of their own months
        rng = np.random.Generator(np.random.SFC64(seed_of(run.flow, run.part) + 3))
        shape = caller if caller is not None else one.sample
        for months in (1, 12):
            expected = in_all_worlds(run.volume.runs, self.count) * months
            drawn = draw_runs(expected, run.volume, rng)
            drawn = sum_of_runs(drawn, shape.relative, shape.variance, shape.skewness, rng)
            more = in_all_worlds(spent[key], self.count) * (drawn - expected)
            if months == 1:
                total.month = total.month + more
            else:
                total.year = total.year + more

    def _total(self, result: EstateEstimate, sums: _Sums, year: bool, error: float) -> Total:
        if not sums.known:
            return result.total
        fees = 0.0 if self.wanted else float(result.total.fees_month.amount)
        month = np.maximum(sums.month, 0.0) + sums.meters + fees
        whole = np.maximum(sums.year, 0.0) + (sums.meters + fees) * 12 if year else None
        total = result.total
        spread = spread_or_none(np.broadcast_to(month, self.count))
        if spread is not None and error > spread.error:  # no sum is better known than what it is of
            spread = structs.replace(spread, error=error)
        known = not self._leaves_out(result)
        return structs.replace(
            total,
            spread=spread if known else None,
            year_spread=spread_or_none(whole) if known else None,
            spread_of_known=None if known else spread,
            uses_month=None if self.sums is None else month_uses(self.sums[2:]),
        )

    def _leaves_out(self, result: EstateEstimate) -> bool:
        """Whether a volume, a price or a fee of what the sums are of is unknown."""
        flows = [flow for flow in result.flows if self.wants(flow.id)]
        parts = [part for flow in flows for part in (flow.cost_month, flow.meters_month) if part is not None]
        parts += [] if self.wanted else [result.total.fees_month]
        return any(flow.runs is None for flow in flows) or any(part.unknown for part in parts)


class _Sums(Struct):
    """Sums over all flows, in every world."""

    month: Floats | float = 0.0
    year: Floats | float = 0.0
    meters: Floats | float = 0.0
    known: bool = False

    def add_flow(self, one: Drawn, meters: Floats | float, alone: bool) -> None:
        """Adds the month of a flow: as it was drawn, or of one that calls others or is called (but where it is wanted ``alone``) what is
        expected, since chance is added with the runs that begin by themselves."""
        month = one.month
        if month is None:
            return
        self.known = True
        self.meters = self.meters + meters
        drawn = alone or not one.related
        self.month = self.month + (month.cost if drawn else month.expected)
        if one.year is not None:
            self.year = self.year + (one.year if drawn else month.expected * 12)


def _less_known(flow: FlowEstimate, part: float, note: str) -> FlowEstimate:
    """A flow of which the samples tell its runs to a ``part`` of them only."""
    spread = flow.month_spread
    if spread is not None:
        spread = structs.replace(spread, error=max(spread.error, part * spread.mean))
    return structs.replace(flow, month_spread=spread, notes=(*flow.notes, note))


def spread_or_none(costs: Floats | None) -> Spread | None:
    """The distribution of some costs; none where there are none, or they have no end in some world."""
    return spread_of(costs) if costs is not None and bool(np.isfinite(costs).all()) else None


def _run_spread_or_none(costs: Floats) -> RunSpread | None:
    return run_spread_of(costs) if bool(np.isfinite(costs).all()) else None
