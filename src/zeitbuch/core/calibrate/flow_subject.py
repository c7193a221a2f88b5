# A flow that is measured: the log's side, the estimate's side, and what has been found so far.
"""Flows that are measured."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import NamedTuple

from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.assumptions.quantities import QUANTITIES
from zeitbuch.core.assumptions.rules import Rule, Season
from zeitbuch.core.assumptions.values import Range, Value
from zeitbuch.core.estimate.knobs import find_knobs
from zeitbuch.core.model.name_patterns import literal_pattern

from .flow_model import FlowModel
from .observed import FlowSeen
from .records import Measured, Remark, SeasonMeasured
from .volumes_fit import DAYS_OF_MONTH


class Ask(NamedTuple):
    """What is wanted: over declared values too, means of so many days, which faults the lines of the log tell ('failure', 'timeout'), and
    whether these are calls or sums of them, each of one try, and not passes of steps."""

    over_declared: bool = False
    horizon: float = DAYS_OF_MONTH
    tells: frozenset[str] = frozenset()
    by_try: bool = True


class FlowSubject:
    """A flow with both sides. ``found`` are its numbers, ``seasons`` how they go over the year, ``remarks`` what else there is to say."""

    def __init__(self, case: FlowCase, seen: FlowSeen, model: FlowModel, ask: Ask) -> None:
        self.case, self.seen, self.model, self.ask = case, seen, model, ask
        self.base = model.run()
        self.knobs = find_knobs(self.base, False)
        self.steps = {step.id: step for step in model.flow.steps}
        self.found: list[Measured] = []
        self.remarks: list[Remark] = []
        self.seasons: list[SeasonMeasured] = []

    def say(self, words: str) -> None:
        """Adds a remark."""
        self.remarks.append(Remark(self.case.name, words))

    def settle(self) -> None:
        """What was measured so far holds for what is measured next."""
        self.model.fixed = tuple(rule_of(one) for one in self.found if one.written)

    def is_kept(self, value: Value) -> bool:
        """Whether somebody declared a value, and nothing is to be put over it."""
        return value.evidence == "declared" and not self.ask.over_declared

    def measured(
        self, subject: str, quantity: str, value: float, ends: tuple[float, float], cases: tuple[float, str], first: int,
        before: Value | None, written: bool, why: str, place: Mapping[str, str], weekdays: tuple[str, ...] = (),
        alone: bool = True,
    ) -> Measured:  # fmt: skip
        """A number of the flow since a day (its place), with its bounds kept."""
        days = self.seen.days
        least, most, _ = QUANTITIES[quantity]
        low, high = max(least, min(ends[0], value)), min(most, max(ends[1], value))
        if not low < value < high:
            low = high = value
        return Measured(
            self.model.flow.id, self.case.name, subject, quantity, value, low, high, *cases, str(days[first]), str(days[-1]), None if before is None else float(before.amount),
            None if before is None else before.evidence, written, place.get("step", ""), place.get("case", ""), place.get("trigger", ""), weekdays,
            str(days[first]) if first else "", why, alone,
        )  # fmt: skip


def rule_of(one: Measured, note: str = "") -> Rule:
    """The assumption that says what was measured."""
    figure = (
        Range(mean=one.value, mean_low=one.low, mean_high=one.high) if one.low < one.value < one.high else one.value
    )
    return Rule(
        flow=literal_pattern(one.flow), step=one.step, case=one.case, trigger=one.trigger, since=date.fromisoformat(one.since) if one.since else None,
        weekdays=one.weekdays, evidence="measured", note=note, **{one.quantity: figure},  # type: ignore[arg-type]
    )  # fmt: skip


def season_of(one: SeasonMeasured, note: str = "") -> Season:
    """The season that was measured."""
    return Season(one.factors, literal_pattern(one.flow), note)
