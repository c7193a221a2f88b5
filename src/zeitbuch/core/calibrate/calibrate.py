# From logs to assumptions: each flow of the estate that the log has lines of. Nothing is said that the log does not tell.
"""Calibrating assumptions by usage."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date, timedelta

from msgspec import structs

from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log, Sides, gather_sides
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.pricing.call_prices import Prices

from .flow_model import FlowModel
from .flow_passes import PassesMeasuring
from .flow_sizes import SizesMeasuring
from .flow_subject import Ask, FlowSubject, rule_of
from .flow_volume import VolumeMeasuring
from .observed import flow_seen
from .records import Calibrated, Measured, Remark, Source
from .volumes_fit import DAYS_OF_MONTH


def calibrate(
    logs: Sequence[Log], basis: Basis, asked: Asked, over_declared: bool = False, sources: tuple[Source, ...] = (),
    progress: Callable[[int], None] | None = None,
) -> Calibrated:  # fmt: skip
    """What logs tell of the assumptions of an estate, on their days or those that are asked for. Raises ZeitbuchError where no line has such
    a day."""
    sides = gather_sides(logs, basis, asked)
    found = measure_sides(sides, sorted(sides.covered & set(sides.days)), basis, ask_of(logs, over_declared), progress)
    return structs.replace(found, sources=sources)


def ask_of(logs: Sequence[Log], over_declared: bool, horizon: float = DAYS_OF_MONTH) -> Ask:
    """What is wanted of logs. Only where each line is one call its failure is that of one try."""
    failures = all(
        log.mapping.stands_for == "call" and log.mapping.failed and "status" in log.mapping.column for log in logs
    )
    return Ask(over_declared, horizon, failures)


def measure_sides(
    sides: Sides, covered: Sequence[date], basis: Basis, ask: Ask, progress: Callable[[int], None] | None = None
) -> Calibrated:
    """What both sides tell on some days that have lines."""
    measured: list[Measured] = []
    remarks: list[Remark] = []
    last = covered[-1]
    prices = Prices(basis.card, (last.year, last.month), basis.counters, [last, last + timedelta(1)])
    by_log = _days_by_log(sides)
    for number, case in enumerate(sides.cases, 1):
        subject = _subject_of(case, _own_days(case, covered, by_log), basis, prices, ask, remarks)
        if subject is not None:
            _measure_flow(subject)
            measured += subject.found
            remarks += subject.remarks
        if progress is not None:
            progress(number)
    return Calibrated(str(covered[0]), str(covered[-1]), len(covered), tuple(measured), tuple(remarks))


def _days_by_log(sides: Sides) -> dict[int, frozenset[date]]:
    """The days on which each log has any line."""
    found: dict[int, set[date]] = {}
    for one in sides.placed:
        if one.day is not None and one.aside not in ("passed", "outside"):
            found.setdefault(one.log, set()).add(one.day)
    return {log: frozenset(days) for log, days in found.items()}


def _own_days(case: FlowCase, covered: Sequence[date], by_log: Mapping[int, frozenset[date]]) -> list[date]:
    """The days on which the log would have lines of a flow: its log is the one that had the line before, or at the beginning the first."""
    lines = {day: {one.log for one in case.lines[day]} for day in covered if case.lines.get(day)}
    current = next(iter(lines.values()), set())
    found = []
    for day in covered:
        current = lines.get(day, current)
        if any(day in by_log[log] for log in current):
            found.append(day)
    return found


def _measure_flow(subject: FlowSubject) -> None:
    """First what makes calls, then their sizes under that, then how often it runs."""
    passes = PassesMeasuring(subject)
    fit = passes.measure()
    subject.settle()
    SizesMeasuring(subject).measure()
    VolumeMeasuring(subject, passes).measure(fit)


def _subject_of(
    case: FlowCase, covered: Sequence[date], basis: Basis, prices: Prices, ask: Ask, remarks: list[Remark]
) -> FlowSubject | None:
    if not any(case.lines.get(day) for day in covered):
        return None
    seen = flow_seen(case, covered)
    if seen is None:
        remarks.append(
            Remark(
                case.name,
                "the log does not say of all its lines how many calls they are, so that nothing can be measured",
            )
        )
        return None
    model = FlowModel(case.flow, basis.assumptions, prices, covered[-1], seen.by_step)
    if not model.used():
        remarks.append(Remark(case.name, "the log has calls of it, and its definition makes none"))
        return None
    return FlowSubject(case, seen, model, ask)


def with_measured(assumptions: Assumptions, found: Calibrated) -> Assumptions:
    """Assumptions with what was measured behind them: of rules that say as much the later one holds."""
    return structs.replace(
        assumptions, assume=(*assumptions.assume, *[rule_of(one) for one in found.measured if one.written])
    )
