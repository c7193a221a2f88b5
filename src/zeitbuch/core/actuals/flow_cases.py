# One flow at a time: what was estimated for each day, and what the log has. The difference is taken apart in an order in which its parts
# add up to it: runs, calls per run, sizes, model, price.
"""Flows with both sides."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.model.records import Estate, Flow

from .card_costs import CardCosts
from .expected import ExpectedFlow, ExpectedStep
from .part_days import DayShare
from .placing import Placed

_MOST_OF_DAY = 0.5
ZERO = Decimal(0)


class FlowCase(Struct):
    """A flow of the estate: its estimate, its lines of the log by day, and its runs by day (None: the log does not tell)."""

    id: str
    name: str
    flow: Flow
    expected: ExpectedFlow | None
    lines: dict[date, list[Placed]]
    runs: dict[date, float] | None
    all_runs: bool = False  # whether runs without a model call are counted, too
    shares: Mapping[date, DayShare] = {}  # of days of which the log has a part only

    def logged_on(self, days: Iterable[date]) -> Decimal:
        """What the log has for it on some days; lines without a cost count nothing."""
        return sum((one.cost or ZERO for day in days for one in self.lines.get(day, ())), ZERO)

    def estimated_on(self, day: date) -> Decimal | None:
        """The cost that was estimated for a day; None where volume or price is not known."""
        run = self.cost_of_run(day)
        runs = self.expected.runs.get(day) if self.expected is not None else None
        return None if run is None or runs is None else run * Decimal(repr(runs))

    def cost_of_run(self, day: date) -> Decimal | None:
        """What one run was estimated to cost on a day."""
        if self.expected is None:
            return None
        costs = [step.cost for step in self.expected.steps_on(day)]
        known = [cost for cost in costs if cost is not None]
        return sum(known, ZERO) if len(known) == len(costs) else None

    def awaited_on(self, day: date) -> float:
        """Runs that were estimated for a day; nothing where their number is not known."""
        return (self.expected.runs.get(day) or 0.0) if self.expected is not None else 0.0

    def awaited_there_on(self, day: date) -> float:
        """Those of them that the log can have, where it has a part of the day."""
        share = self.shares.get(day)
        return self.awaited_on(day) * (share.whole if share is not None else 1.0)

    def cost_of(self, runs: float, day: date) -> Decimal:
        """What some runs were estimated to cost on a day; nothing where that is not known."""
        return Decimal(repr(runs)) * (self.cost_of_run(day) or ZERO)

    def missing_on(self, day: date) -> tuple[float, float]:
        """Runs of a day that the log does not have as they had not arrived, and as it begins or ends within the day."""
        share = self.shares.get(day)
        if share is None:
            return 0.0, 0.0
        counted = self.runs_on(day) or 0.0
        # Where most of the day is there, it tells how much it is a part of; else the estimate does.
        whole = counted / share.whole if share.whole >= _MOST_OF_DAY else self.awaited_on(day)
        return whole * share.within * (1 - share.arrived), whole * (1 - share.within)

    def calls_of_run(self, day: date) -> float:
        """Model calls of one run, as estimated."""
        return sum(step.calls for step in self.expected.steps_on(day)) if self.expected is not None else 0.0

    def calls_on(self, day: date) -> float:
        """Model calls that the log has on a day."""
        return sum(one.sum.calls or 0.0 for one in self.lines.get(day, ()))

    def tells_calls(self, days: Iterable[date]) -> bool:
        """Whether each of its lines says how many model calls it stands for."""
        return all(one.sum.calls is not None for day in days for one in self.lines.get(day, ()))

    def runs_on(self, day: date) -> float | None:
        """Runs of a day: as the log tells, else so many as its calls are worth at the estimated calls of a run."""
        if self.runs is not None:
            return self.runs.get(day, 0.0)
        each = self.calls_of_run(day)
        return self.calls_on(day) / each if each else None


def flow_cases(
    estate: Estate,
    placed: Sequence[Placed],
    expected: Sequence[ExpectedFlow],
    runs: Mapping[tuple[str, date], float] | None,
    all_runs: bool,
) -> list[FlowCase]:
    """All flows of the estate, in its order; ``runs`` by flow and day."""
    lines: dict[str, dict[date, list[Placed]]] = defaultdict(lambda: defaultdict(list))
    for row in placed:
        if not row.aside and row.day is not None:
            lines[row.flow][row.day].append(row)
    by_flow: dict[str, dict[date, float]] = defaultdict(dict)
    for (key, day), number in (runs or {}).items():
        by_flow[key][day] = number
    cases = []
    for flow, one in zip(estate.flows, expected, strict=True):
        own = {day: list(rows) for day, rows in lines.pop(flow.id, {}).items()}
        counted = by_flow.get(flow.id, {}) if runs is not None else None
        cases.append(FlowCase(flow.id, flow.title, flow, one, own, counted, all_runs))
    return cases


class PartSides(Struct):
    """One part of a flow over some days, a step or, where the log names no steps, all that one model does: calls, tokens and cost as
    estimated for the runs of the log, and the lines of the log."""

    key: str
    name: str
    model: str
    awaited_calls: float = 0.0
    awaited_cost: Decimal | None = ZERO
    awaited_units: dict[str, tuple[float, Decimal]] = {}
    lines: list[Placed] = []

    @property
    def calls(self) -> float:
        """Calls that the log has."""
        return sum(one.sum.calls or 0.0 for one in self.lines)

    def units(self, unit: str) -> float:
        """How much of a unit the log has."""
        return sum(one.sum.units(unit) for one in self.lines)

    @property
    def logged(self) -> Decimal:
        """Their cost in the log."""
        return sum((one.cost or ZERO for one in self.lines), ZERO)

    def await_step(self, step: ExpectedStep, runs: float) -> None:
        """Adds what a step was estimated to do in some runs."""
        self.awaited_calls += runs * step.calls
        for unit, (quantity, cost) in step.units.items():
            before, spent = self.awaited_units.get(unit, (0.0, ZERO))
            self.awaited_units[unit] = before + runs * quantity, spent + Decimal(repr(runs)) * cost
        known = self.awaited_cost is not None and step.cost is not None
        self.awaited_cost = self.awaited_cost + Decimal(repr(runs)) * step.cost if known else None  # type: ignore[operator]


def sides_of(case: FlowCase, days: Sequence[date]) -> tuple[list[PartSides], list[Placed]]:
    """The parts of a flow over some days with both sides, and the lines of steps or models that the estimate does not know."""
    sides: dict[str, PartSides] = {}
    unknown: list[Placed] = []
    by_step = any(one.step for day in days for one in case.lines.get(day, ()))
    for day in days if case.expected is not None else ():
        assert case.expected is not None
        runs = case.runs_on(day) or 0.0
        for step in case.expected.steps_on(day):
            key = step.id if by_step else step.model
            name = step.name or step.id if by_step else step.model
            sides.setdefault(key, PartSides(key, name, step.model, awaited_units={}, lines=[])).await_step(step, runs)
        for one in case.lines.get(day, ()):
            key = one.step if by_step else one.model
            if key not in sides and not by_step and len(sides) == 1:
                (key,) = sides  # the one model that the flow has was swapped for another
            if key in sides:
                sides[key].lines.append(one)
            else:
                unknown.append(one)
    return list(sides.values()), unknown


def card_cost(costs: CardCosts, lines: Sequence[Placed], model: str = "") -> Decimal | None:
    """What lines cost by the card, each with its own model or all with one; None where the card has no price for one of them."""
    parts = card_parts(costs, lines, model)
    return None if parts is None else sum(parts.values(), ZERO)


def card_parts(costs: CardCosts, lines: Sequence[Placed], model: str = "") -> dict[str, Decimal] | None:
    """The same by units of the card."""
    total: dict[str, Decimal] = {}
    for one in lines:
        assert one.day is not None
        parts = costs.parts_of(one.sum, model or one.model, one.day)
        if parts is None:
            return None
        for unit, cost in parts.items():
            total[unit] = total.get(unit, ZERO) + cost
    return total
