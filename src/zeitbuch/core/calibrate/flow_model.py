# One flow as the estimate sees it, asked again and again with other values of its assumptions.
"""A flow under changed assumptions."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Sequence
from datetime import date, timedelta

from msgspec import structs

from zeitbuch.core.assumptions.days import Days, Span
from zeitbuch.core.assumptions.rules import Assumptions, Overlaid, Rule
from zeitbuch.core.estimate.day_parts import DayPart
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run, price_run
from zeitbuch.core.estimate.knobs import Knob
from zeitbuch.core.model.name_patterns import literal_pattern, pattern_fits
from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.call_prices import Prices

Calls = dict[str, float]  # by group, in one run


class FlowModel:
    """A flow on a day. ``by_step``: groups are steps, else models; ``passes_of``: steps whose passes are counted in place of calls."""

    def __init__(
        self, flow: Flow, assumptions: Assumptions, prices: Prices, day: date, by_step: bool,
        passes_of: frozenset[str] = frozenset(),
    ) -> None:  # fmt: skip
        names = flow.id, flow.name
        # Only the rules that fit: they are made ready anew each time.
        fitting = tuple(rule for rule in assumptions.assume if pattern_fits(rule.flow, *names))
        self.flow, self.prices, self.day, self.by_step = flow, prices, day, by_step
        self.assumptions = Assumptions(month=assumptions.month, season=assumptions.season, assume=fitting)
        self.passes_of = passes_of
        self.pattern = literal_pattern(flow.id)
        self.fixed: tuple[Rule, ...] = ()
        self.last: FlowFigures | None = None

    def rule_for(self, quantity: str, value: float, **place: str) -> Rule:
        """A rule of this flow that gives one quantity."""
        return Rule(flow=self.pattern, **place, **{quantity: value})  # type: ignore[arg-type]

    def run(self, rules: Sequence[Rule] = ()) -> FlowFigures:
        """The figures of a run with some more rules, which come before all others."""
        run = self._unpriced(rules)
        return price_run(run, self.prices, run.passes.of)

    def _unpriced(self, rules: Sequence[Rule]) -> FlowFigures:
        made = Overlaid(season=self.assumptions.season, assume=self.assumptions.assume, overlay=(*self.fixed, *rules))
        month = self.day.year, self.day.month
        days = Days((Span(self.day, self.day + timedelta(1)),), 1 / monthrange(*month)[1])
        part = DayPart(self.flow.id, 0, days)
        self.last = one_run(self.flow, made, self.prices, month, part=part, like=self.last, priced=False)
        return structs.replace(self.last)

    def calls_of(self, rules: Sequence[Rule] = ()) -> Calls:
        """How many calls a run makes, by groups."""
        run = self._unpriced(rules)
        if self.passes_of:
            of = run.passes.of
            return {key: done.arrivals for key, done in of.items() if key in self.passes_of and done.arrivals}
        found: Calls = {}
        for key, use in run.uses.items():
            calls = float(use.calls * run.passes.of[key].runs)
            if calls:
                group = key if self.by_step else use.model
                found[group] = found.get(group, 0.0) + calls
        return found

    def with_values(self, knobs: Sequence[Knob], values: Sequence[float]) -> Calls:
        """How many calls a run makes with other values of some numbers."""
        return self.calls_of(
            [self.rule_for(knob.quantity, value, **knob.rule) for knob, value in zip(knobs, values, strict=True)]
        )
