# A fit that nobody held against days it has not seen is a promise. The last third of the log is predicted from the first two.
"""Holding a calibration against what it was not fitted on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date

from zeitbuch.core.actuals.expected import ExpectedFlow, expected_flows
from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log, gather_sides
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.records import FlowEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model.problems import fail

from .calibrate import ask_of, measure_sides, with_measured
from .records import Calibrated, CalibrationCheck, FlowCheck

FEWEST = 9  # days with lines: three to predict, six to fit
_RUNS = Sampling(runs=2000)


def check_calibration(
    logs: Sequence[Log],
    basis: Basis,
    asked: Asked,
    over_declared: bool = False,
    progress: Callable[[int], None] | None = None,
) -> CalibrationCheck:
    """Fits the first two thirds of the days that have lines and predicts the last; ``progress`` counts the flows twice. Raises ZeitbuchError
    where there are too few days."""
    sides = gather_sides(logs, basis, asked)
    covered = sorted(sides.covered & set(sides.days))
    if len(covered) < FEWEST:
        message = f"expected {FEWEST} days with lines to hold a third of them back, found {len(covered)}"
        raise fail("usage-empty", message, "calibrate without --check, or on a longer log")
    kept, held = covered[: -(len(covered) // 3)], covered[-(len(covered) // 3) :]
    ask, many = ask_of(logs, over_declared, float(len(held))), len(sides.cases)
    fitted = measure_sides(sides, kept, basis, ask, progress)
    whole = measure_sides(sides, covered, basis, ask, (lambda done: progress(many + done)) if progress else None)
    assumed = with_measured(basis.assumptions, fitted)
    predicted = expected_flows(basis.estate, basis.card, assumed, held, basis.counters)
    ranges = _ranges(basis, assumed, held[len(held) // 2])
    changed = _changes(whole, sides.cases, kept, held)
    flows = [
        _check_flow(case, one, held, ranges.get(case.id), changed)
        for case, one in zip(sides.cases, predicted, strict=True)
        if any(case.lines.get(day) for day in covered)
    ]
    currency = basis.card.currency if basis.card is not None else ""
    return CalibrationCheck(str(kept[0]), str(kept[-1]), str(held[-1]), len(held), currency, tuple(flows))


def _ranges(basis: Basis, assumptions: Assumptions, day: date) -> dict[str, tuple[float, float]]:
    """P10 and P90 of the month's cost of each flow, as parts of its mean."""
    month = f"{day.year}-{day.month:02d}"
    found = estimate_flows(basis.estate.flows, basis.card, assumptions, month, _RUNS, counters=basis.counters)
    return {flow.id: ends for flow in found.flows if (ends := _ends_of(flow)) is not None}


def _ends_of(flow: FlowEstimate) -> tuple[float, float] | None:
    spread = flow.month_spread
    return None if spread is None or not spread.mean else (spread.p10 / spread.mean, spread.p90 / spread.mean)


def _changes(
    found: Calibrated, cases: Sequence[FlowCase], kept: Sequence[date], held: Sequence[date]
) -> dict[str, str]:
    """Flows that are otherwise since a day of those held back -> that day: other numbers, other models, no line any more."""
    changed: dict[str, str] = {}
    for one in found.measured:
        if one.since >= str(held[0]) and one.quantity != "seconds":  # which makes neither calls nor their cost
            changed[one.flow] = min(one.since, changed.get(one.flow, one.since))
    for case in cases:
        known = {one.model for day in kept for one in case.lines.get(day, ())}
        lines = [one for day in held for one in case.lines.get(day, ())]
        other = [one.day for one in lines if one.day is not None and one.model not in known]
        if known and (other or not lines):
            changed[case.id] = min(str(min(other, default=held[0])), changed.get(case.id, "9"))
    return changed


def _check_flow(
    case: FlowCase,
    predicted: ExpectedFlow,
    held: Sequence[date],
    ends: tuple[float, float] | None,
    changed: dict[str, str],
) -> FlowCheck:
    calls: float | None = 0.0
    cost: float | None = 0.0
    for day in held:
        runs, steps = predicted.runs.get(day), predicted.steps_on(day)
        known = [step.cost for step in steps if step.cost is not None]
        calls = None if runs is None or calls is None else calls + runs * sum(step.calls for step in steps)
        cost = None if runs is None or cost is None or len(known) < len(steps) else cost + runs * float(sum(known))
    low, high = (None, None) if cost is None or ends is None else (cost * ends[0], cost * ends[1])
    logged = sum(case.calls_on(day) for day in held) if case.tells_calls(held) else None
    return FlowCheck(
        case.id, case.name, calls, logged, cost, float(case.logged_on(held)), low, high, changed.get(case.id, "")
    )
