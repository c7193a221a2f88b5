# Both sides by one side of usage: flow, day, step, model, environment, host, feature or meter. What only one side knows is unknown on the other.
"""Groups of estimate and log."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import date
from decimal import Decimal

from zeitbuch.core.pricing.rate_card import RateCard

from .expected import ExpectedStep
from .flow_cases import ZERO, FlowCase
from .placing import Placed
from .records import By, GroupGap

# Subjects of lines that belong to no flow of the estate.
ASIDES = {
    "doubled": "(lines twice)",
    "no-flow": "(no flow)",
    "not-production": "(not production)",
    "no-day": "(no day)",
}


_WHOLE: tuple[By, ...] = ("flow", "day", "step", "model")  # sides of which the estimate has all


class _Sides:
    def __init__(self, name: str) -> None:
        self.name = name
        self.estimated_calls: float | None = 0.0
        self.estimated: Decimal | None = ZERO
        self.is_estimated = False
        self.calls: float | None = 0.0  # None: some line does not tell
        self.logged = ZERO
        self.is_logged = False
        self.is_priced = False  # whether some line has a cost


def group_gaps(
    by: By,
    cases: Sequence[FlowCase],
    placed: Sequence[Placed],
    days: Sequence[date],
    card: RateCard | None,
    cost_known: bool,
) -> tuple[GroupGap, ...]:
    """Estimate and log by one side, the largest difference first."""
    sides: dict[str, _Sides] = {}
    for case in cases:
        for day in days:
            for key, name, step in _estimated_keys(by, case, day, card):
                _add_estimate(sides.setdefault(key, _Sides(name)), case, day, step)
    names = {case.id: case.name for case in cases}
    key_of = _LOG_KEYS[by]
    for one in placed:
        if one.aside not in ("passed", "outside"):
            key = ASIDES["doubled"] if one.aside == "doubled" else key_of(one)
            side = sides.setdefault(key, _Sides(names.get(key, key)))
            side.is_logged = True
            told = one.sum.calls is not None and side.calls is not None
            side.calls = side.calls + one.sum.calls if told else None  # type: ignore[operator]
            side.is_priced = side.is_priced or one.cost is not None
            side.logged += one.cost or ZERO
    for side in sides.values() if by in _WHOLE else ():
        side.is_estimated = True  # what the estimate does not have, it counts as nothing
    gaps = [_gap(key, side, cost_known) for key, side in sides.items() if side.is_logged or side.estimated_calls != 0.0]
    return tuple(
        sorted(gaps, key=lambda gap: -abs(gap.difference if gap.difference is not None else gap.logged_cost or ZERO))
    )


def _estimated_keys(
    by: By, case: FlowCase, day: date, card: RateCard | None
) -> Iterator[tuple[str, str, ExpectedStep | None]]:
    """The subjects for which something was estimated on a day, with the step of which it is (None: the whole flow)."""
    if case.expected is None or by in ("feature", "meter"):
        return
    steps = case.expected.steps_on(day)
    if by == "flow":
        yield case.id, case.name, None
    elif by == "day":
        yield str(day), str(day), None
    elif by == "environment":
        yield case.expected.environment, case.expected.environment or "(none)", None
    elif by == "host":
        host = card.host_of(case.flow, day) if card is not None and case.flow is not None else None
        yield (host.name if host is not None else ""), (host.name if host is not None else "(none)"), None
    elif by == "step":
        for step in steps:
            yield f"{case.id}/{step.id}", f"{case.name}/{step.name or step.id}", step
    else:
        for step in steps:
            yield step.model, step.model or "(no model)", step


def _add_estimate(side: _Sides, case: FlowCase, day: date, step: ExpectedStep | None) -> None:
    assert case.expected is not None
    side.is_estimated = True
    runs = case.expected.runs.get(day)
    calls = step.calls if step is not None else case.calls_of_run(day)
    cost = step.cost if step is not None else case.cost_of_run(day)
    if runs is None or side.estimated_calls is None:
        side.estimated_calls = None
    else:
        side.estimated_calls += runs * calls
    if runs is None or cost is None or side.estimated is None:
        side.estimated = None
    else:
        side.estimated += cost * Decimal(repr(runs))


def _flow_key(one: Placed) -> str:
    return ASIDES.get(one.aside) or one.flow


def _step_key(one: Placed) -> str:
    return f"{_flow_key(one)}/{one.step or '(no step)'}"


_LOG_KEYS: dict[By, Callable[[Placed], str]] = {
    "flow": _flow_key,
    "day": lambda one: str(one.day) if one.day is not None else "(no day)",
    "step": _step_key,
    "model": lambda one: one.model or "(no model)",
    "environment": lambda one: one.sum.environment,
    "host": lambda one: one.sum.host,
    "feature": lambda one: one.sum.feature or "(none)",
    "meter": lambda one: one.sum.meter or "(none)",
}


def _gap(key: str, side: _Sides, cost_known: bool) -> GroupGap:
    estimated = side.estimated if side.is_estimated else None
    # Lines of which none has a cost do not say that it was nothing.
    logged = side.logged if cost_known and (side.is_priced or not side.is_logged) else None
    difference = logged - estimated if logged is not None and estimated is not None else None
    ratio = float(logged / estimated) if logged is not None and estimated else None
    calls = side.estimated_calls if side.is_estimated else None
    return GroupGap(key, side.name, calls, side.calls, estimated, logged, difference, ratio)
