# One flow as the estimate sees it, asked again and again with other values of its assumptions.
"""A flow under changed assumptions."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Sequence
from datetime import date, timedelta

from zeitbuch.core.assumptions.days import Days, Span
from zeitbuch.core.assumptions.rules import Assumptions, Overlaid, Rule
from zeitbuch.core.estimate.day_parts import DayPart
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run
from zeitbuch.core.estimate.knobs import Knob
from zeitbuch.core.model.name_patterns import literal_pattern, pattern_fits
from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.call_prices import Prices

Used = dict[str, dict[str, float]]  # by group: 'calls', and units of the rate card, in one run


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

    def rule_for(self, quantity: str, value: float, **place: str) -> Rule:
        """A rule of this flow that gives one quantity."""
        return Rule(flow=self.pattern, **place, **{quantity: value})  # type: ignore[arg-type]

    def run(self, rules: Sequence[Rule] = ()) -> FlowFigures:
        """The figures of a run with some more rules, which come before all others."""
        made = Overlaid(season=self.assumptions.season, assume=self.assumptions.assume, overlay=(*self.fixed, *rules))
        month = self.day.year, self.day.month
        days = Days((Span(self.day, self.day + timedelta(1)),), 1 / monthrange(*month)[1])
        return one_run(self.flow, made, self.prices, month, part=DayPart(self.flow.id, 0, days))

    def used(self, rules: Sequence[Rule] = ()) -> Used:
        """What a run uses, by groups."""
        if self.passes_of:
            run = self.run(rules)
            return {
                key: {"calls": done.arrivals}
                for key, done in run.passes.of.items()
                if key in self.passes_of and done.arrivals
            }
        found: Used = {}
        for step in self.run(rules).steps:
            if step.calls:
                group = found.setdefault(step.id if self.by_step else step.model, {"calls": 0.0})
                group["calls"] += step.calls
                for part in step.parts:
                    unit = "input" if part.unit == "cached" else part.unit
                    group[unit] = group.get(unit, 0.0) + part.quantity
        return found

    def with_values(self, knobs: Sequence[Knob], values: Sequence[float]) -> Used:
        """What a run uses with other values of some numbers."""
        return self.used(
            [self.rule_for(knob.quantity, value, **knob.rule) for knob, value in zip(knobs, values, strict=True)]
        )
