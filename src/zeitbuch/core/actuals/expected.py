# What the estimate says of single days: how often each flow runs on a day, and what one run uses and costs at that day's prices. The same
# figures as a month's estimate, so that the days of a month add up to it.
"""The estimate by days."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date
from decimal import Decimal

from msgspec import Struct, structs

from zeitbuch.core.assumptions.days import days_of, whole_month
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.volume import parse_month
from zeitbuch.core.estimate.estate import EstateFigures, runs_of
from zeitbuch.core.estimate.flow_figures import FlowFigures, price_run
from zeitbuch.core.estimate.records import StepEstimate
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.pricing.spans import calendar_of


class ExpectedStep(Struct, frozen=True, gc=False):
    """What one step uses in one run on certain days: model calls, cost (None: a price is not known), and by unit of the rate card how
    much and what of the cost."""

    id: str
    name: str
    model: str
    calls: float
    cost: Decimal | None
    units: dict[str, tuple[float, Decimal]] = {}


class ExpectedFlow(Struct, frozen=True):
    """A flow by days: ``runs`` on each day (None: its volume is not known), and the steps of a run by the day from which they hold."""

    id: str
    name: str
    environment: str
    runs: dict[date, float | None]
    steps: dict[date, tuple[ExpectedStep, ...]]

    def steps_on(self, day: date) -> tuple[ExpectedStep, ...]:
        """What a run uses on a day."""
        return self.steps[max(since for since in self.steps if since <= day)]


def expected_flows(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    days: Iterable[date],
    counters: dict[str, Counter] | None = None,
) -> list[ExpectedFlow]:
    """What the estimate says of each flow on some days."""
    wanted = sorted(set(days))
    found: dict[str, ExpectedFlow] = {}
    runs: EstateFigures | None = None
    for month in sorted({(day.year, day.month) for day in wanted}):
        runs = runs_of(estate, card, assumptions, f"{month[0]}-{month[1]:02d}", counters, by_day=True, like=runs)
        inside = {day for day in wanted if (day.year, day.month) == month}
        changes = card.change_dates() if card is not None else []
        for whole, keys in runs.whole_flows().items():
            _add_month(found, whole, [(key, runs.by[key]) for key in keys], runs, inside, changes)
    return list(found.values())


def _add_month(
    found: dict[str, ExpectedFlow],
    whole: str,
    parts: Sequence[tuple[str, FlowFigures]],
    runs: EstateFigures,
    inside: set[date],
    changes: Sequence[date],
) -> None:
    """The days of one month of one flow, part by part."""
    flow = parts[0][1].flow
    made = found.setdefault(whole, ExpectedFlow(flow.id, flow.title, flow.environment, {}, {}))
    month = parse_month(f"{runs.month[0]}-{runs.month[1]:02d}")
    spans = calendar_of(month, changes).spans  # on the days of each all prices are the same
    for key, run in parts:
        days = days_of(run.part.days if run.part is not None else whole_month(month))
        made.runs.update(
            {day: number for day, number in _runs_by_day(key, run, runs).items() if day in inside and day in set(days)}
        )
        for span in spans:
            priced = None
            for day in days:
                # A run on other days than those before it has steps of its own.
                if span.first <= day < span.after and (run.part is not None or day == max(span.first, days[0])):
                    priced = priced or _steps_at(run, runs.prices, day)
                    made.steps[day] = priced


def _runs_by_day(key: str, run: FlowFigures, runs: EstateFigures) -> dict[date, float | None]:
    """How often a flow runs on each day of the month, or of its part of the month."""
    calendar = runs.prices.calendar
    weights = runs.weights.get(key) or run.weights
    if weights is None:
        weights = calendar.weights_of_days(run.part.days if run.part is not None else None)
    volume = runs.volumes[key].runs
    total = None if volume is None else float(volume)
    return {
        span.first: None if total is None else total * weight
        for span, weight in zip(calendar.spans, weights, strict=True)
    }


def _steps_at(run: FlowFigures, prices: Prices, day: date) -> tuple[ExpectedStep, ...]:
    """The steps of a run that call models, at the prices of a day."""
    alone = tuple(1.0 if span.first == day else 0.0 for span in prices.calendar.spans)
    priced = price_run(structs.replace(run, weights=alone), prices, run.passes.of) if run.passes is not None else run
    return tuple([_expected_step(step) for step in priced.steps if step.calls])


def _expected_step(step: StepEstimate) -> ExpectedStep:
    cost = None if step.cost.unknown else step.cost.amount
    units: dict[str, tuple[float, Decimal]] = {}
    for part in step.parts:
        before, spent = units.get(part.unit, (0.0, Decimal(0)))
        units[part.unit] = before + part.quantity, spent + (part.cost or Decimal(0))
    return ExpectedStep(step.id, step.name, step.model, step.calls, cost, units)
