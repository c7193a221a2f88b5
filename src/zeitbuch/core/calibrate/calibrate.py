# From logs to assumptions: each flow of the estate that the log has lines of. Nothing is said that the log does not tell.
"""Calibrating assumptions by usage."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date, timedelta

from msgspec import structs

from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log, Sides, gather_sides
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.model.words import join_words
from zeitbuch.core.pricing.call_prices import Prices

from .flow_model import FlowModel
from .flow_passes import PassesMeasuring
from .flow_sizes import SizesMeasuring
from .flow_subject import Ask, FlowSubject, rule_of, season_of
from .flow_times import TimesMeasuring
from .flow_volume import VolumeMeasuring
from .observed import FlowSeen, flow_seen
from .records import Calibrated, Measured, Remark, SeasonMeasured, Source
from .volumes_fit import DAYS_OF_MONTH

_NEARLY_WHOLE = 0.98  # of a day: what is missing is less than chance makes of most days


def calibrate(
    logs: Sequence[Log], basis: Basis, asked: Asked, over_declared: bool = False, sources: tuple[Source, ...] = (),
    progress: Callable[[int], None] | None = None,
) -> Calibrated:  # fmt: skip
    """What logs tell of the assumptions of an estate, on their days or those that are asked for. Raises ZeitbuchError where no line has such
    a day."""
    sides = gather_sides(logs, basis, asked)
    found = measure_sides(sides, sorted(sides.covered & set(sides.days)), basis, ask_of(logs, over_declared), progress)
    return structs.replace(found, sources=sources)


class PricesByDay:
    """Prices on single days: flows are measured up to the last day that their log has."""

    def __init__(self, basis: Basis) -> None:
        self._basis = basis
        self._by_day: dict[date, Prices] = {}

    def on(self, day: date) -> Prices:
        """The prices of a day, and of its month before and behind it."""
        if day not in self._by_day:
            changes = [day, day + timedelta(1)]
            self._by_day[day] = Prices(self._basis.card, (day.year, day.month), self._basis.counters, changes)
        return self._by_day[day]


def ask_of(logs: Sequence[Log], over_declared: bool, horizon: float = DAYS_OF_MONTH) -> Ask:
    """What is wanted of logs. Only where each line is one call its fault is that of one try; of steps that are not tried again a line is
    one try, too."""
    by_try = all(log.mapping.stands_for != "step" for log in logs)
    if not all(log.mapping.stands_for == "call" or log.mapping.lines_are_passes for log in logs):
        return Ask(over_declared, horizon, by_try=by_try)
    told = [frozenset(log.mapping.tells_faults) for log in logs]
    return Ask(over_declared, horizon, frozenset.intersection(*told) if told else frozenset(), by_try)


def measure_sides(
    sides: Sides, covered: Sequence[date], basis: Basis, ask: Ask, progress: Callable[[int], None] | None = None
) -> Calibrated:
    """What both sides tell on some days that have lines."""
    measured: list[Measured] = []
    remarks: list[Remark] = []
    seasons: list[SeasonMeasured] = []
    prices = PricesByDay(basis)
    by_log = _days_by_log(sides)
    parts = sorted({day for case in sides.cases for day in case.shares} & set(covered))
    if parts:
        words = f"{join_words([str(day) for day in parts])}: days of which the log has a part only are left out for the flows that miss something"
        remarks.append(Remark("all flows", words))
    for number, case in enumerate(sides.cases, 1):
        subject = _subject_of(
            case, _own_days(case, covered, by_log), basis, prices, ask, remarks, _are_passes(case, sides)
        )
        if subject is not None:
            _measure_flow(subject)
            measured += subject.found
            remarks += subject.remarks
            seasons += subject.seasons
        if progress is not None:
            progress(number)
    return Calibrated(
        str(covered[0]), str(covered[-1]), len(covered), tuple(measured), tuple(remarks), seasons=tuple(seasons)
    )


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
        share = case.shares.get(day)
        if share is not None and share.whole < _NEARLY_WHOLE:
            continue
        if any(day in by_log[log] for log in current):
            found.append(day)
    return found


def _measure_flow(subject: FlowSubject) -> None:
    """First what makes calls, then under that how long they take and their sizes, then how often it runs."""
    passes = PassesMeasuring(subject)
    fit = passes.measure()
    subject.settle()
    TimesMeasuring(subject).measure()
    if not subject.seen.by_pass:
        SizesMeasuring(subject).measure()
    VolumeMeasuring(subject, passes).measure(fit)


def _are_passes(case: FlowCase, sides: Sides) -> bool:
    """Whether each line of a flow is a pass of a step."""
    logs = {one.log for lines in case.lines.values() for one in lines}
    return all(sides.placings[log].mapping.lines_are_passes for log in logs)


def _counted_steps(case: FlowCase, seen: FlowSeen) -> frozenset[str]:
    """Steps of which the log would have each pass: those that it has lines of, and others of their kinds."""
    kinds = {step.kind for step in case.flow.steps if step.id in seen.groups}
    return frozenset(step.id for step in case.flow.steps if step.kind in kinds)


def _subject_of(
    case: FlowCase,
    covered: Sequence[date],
    basis: Basis,
    prices: PricesByDay,
    ask: Ask,
    remarks: list[Remark],
    are_passes: bool,
) -> FlowSubject | None:
    if not any(case.lines.get(day) for day in covered):
        return None
    seen = flow_seen(case, covered, are_passes)
    if seen is None:
        remarks.append(
            Remark(
                case.name,
                "the log does not say of all its lines how many calls they are, so that nothing can be measured",
            )
        )
        return None
    model = FlowModel(
        case.flow,
        basis.assumptions,
        prices.on(covered[-1]),
        covered[-1],
        seen.by_step,
        _counted_steps(case, seen) if seen.by_pass else frozenset(),
    )
    if not model.calls_of():
        remarks.append(Remark(case.name, "the log has calls of it, and its definition makes none"))
        return None
    return FlowSubject(case, seen, model, ask)


def with_measured(assumptions: Assumptions, found: Calibrated) -> Assumptions:
    """Assumptions with what was measured behind them: of rules that say as much the later one holds."""
    seasons = tuple([season_of(one) for one in found.seasons if one.written])
    return structs.replace(
        assumptions,
        season=(*assumptions.season, *seasons),
        assume=(*assumptions.assume, *[rule_of(one) for one in found.measured if one.written]),
    )
