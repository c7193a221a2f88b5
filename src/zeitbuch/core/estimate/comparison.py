# Scenarios beside the base: what each flow costs under each, the difference, and where two of them cross, in volume or in
# time.
"""Comparison of scenarios."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from itertools import pairwise

from msgspec import Struct, structs

from zeitbuch.core.assumptions.days import dated_rules
from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.months import months_from
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Origin
from zeitbuch.core.pricing.call_prices import Counter
from zeitbuch.core.pricing.rate_card import RateCard

from .estate import EstateFigures, bill_of, result_of, runs_of
from .records import EstateEstimate, FlowEstimate
from .scenario import apply_scenario
from .scenario_records import Applied, Scenario

SCALES = (0.01, 100.0)


class Option(Struct, frozen=True):
    """One column: the base or a scenario. Money per month with meters; ``fees`` of hosts come on top."""

    name: str
    note: str
    total: Money
    fees: Money
    calls: float
    runs: float
    difference: Decimal


class FlowLine(Struct, frozen=True):
    """One flow: its month under the base and each scenario, None where no volume is known; its run likewise."""

    id: str
    name: str
    touched: bool
    month: tuple[Money | None, ...]
    run: tuple[Money, ...]


class Crossing(Struct, frozen=True):
    """Where a scenario and the base cost the same. ``volume`` is a factor on today's runs of the flows it touches, ``runs``
    what that is in a month; ``month`` the first in which the cheaper one changes. ``cheaper`` names the one beyond."""

    scenario: str
    cheaper: str
    volume: float | None = None
    runs: float | None = None
    month: str = ""


class Comparison(Struct, frozen=True):
    """Base first, then the scenarios in the order given."""

    month: str
    currency: str
    options: tuple[Option, ...]
    flows: tuple[FlowLine, ...]
    crossings: tuple[Crossing, ...]
    unknown_volume: tuple[str, ...]
    problems: tuple[Problem, ...] = ()


def _whole_cost(result: EstateEstimate) -> Money:
    total = result.total
    return total.bill_month


def _flow_month(flow: FlowEstimate | None) -> tuple[Money | None, Money]:
    if flow is None:
        return None, Money()
    return flow.bill_month, flow.cost


def at_volume(runs: EstateFigures, factor: float, touched: set[str]) -> Decimal:
    """Cost of the month when the flows of a scenario run so many times as often. What they call follows."""
    volumes = dict(runs.volumes)
    for key, run in runs.by.items():
        volume = volumes[key]
        if run.flow.id in touched and volume.runs is not None:
            volumes[key] = structs.replace(volume, runs=volume.runs * factor)
    return bill_of(structs.replace(runs, volumes=volumes))


_CLOSE = 1e-4  # of a logarithm: a fiftieth of a per cent of the volume


def _halve(function: Callable[[float], float], low: float, high: float, at_low: float) -> float:
    """Where a function changes its sign between two places."""
    while high - low > _CLOSE:
        middle = (low + high) / 2
        at_middle = function(middle)
        if (at_middle > 0) == (at_low > 0):
            low = middle
        else:
            high = middle
    return (low + high) / 2


def volume_crossings(base: EstateFigures, other: EstateFigures, touched: set[str]) -> list[tuple[float, bool]]:
    """Factors on the volume at which a scenario and the base cost the same, and whether the scenario is cheaper beyond.

    The range is searched in steps of a twelfth of a power of ten, each change of sign narrowed by halving.
    """

    def off(log: float) -> float:
        factor = 10**log
        return float(at_volume(other, factor, touched) - at_volume(base, factor, touched))

    points = [-2 + index / 12 for index in range(4 * 12 + 1)]
    values = [off(probability) for probability in points]
    size = max(abs(value) for value in values) or 1.0
    found: list[tuple[float, bool]] = []
    for (first, fa), (second, fb) in pairwise(zip(points, values, strict=True)):
        if fa * fb < 0 and max(abs(fa), abs(fb)) > 1e-9 * size:
            found.append((10 ** _halve(off, first, second, fa), fb < 0))
    return found


def compare_options(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    scenarios: list[Scenario],
    month: str = "",
    counters: dict[str, Counter] | None = None,
    crossings: bool = True,
    progress: Callable[[int], None] | None = None,
) -> Comparison:
    """The base and each scenario, estimated alike."""
    base = runs_of(estate, card, assumptions, month, counters)
    first = result_of(base)
    problems = list(first.problems)
    made: list[tuple[Scenario, Applied, EstateFigures, EstateEstimate]] = []
    _run_scenarios(estate, card, assumptions, scenarios, month, counters, progress, problems, made)
    whole = _whole_cost(first)
    options = [
        Option("base", "as it is", whole, first.total.fees_month, first.total.calls_month, first.total.runs, Decimal(0))
    ]
    _options_of(made, options, whole)
    touched = set().union(*(first.touched for _, first, _, _ in made)) if made else set()
    lines: list[FlowLine] = []
    _lines_of_flows(first, made, lines, touched)
    crossed: list[Crossing] = []
    if crossings:
        _all_crossings(estate, card, assumptions, counters, made, crossed, base)
    return Comparison(
        first.month,
        first.currency,
        tuple(options),
        tuple(lines),
        tuple(crossed),
        first.total.unknown_volume,
        tuple(dict.fromkeys(problems)),
    )


def _run_scenarios(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    scenarios: list[Scenario],
    month: str,
    counters: dict[str, Counter] | None,
    progress: Callable[[int], None] | None,
    problems: list[Problem],
    made: list[tuple[Scenario, Applied, EstateFigures, EstateEstimate]],
) -> None:
    for place, scenario in enumerate(scenarios):
        applied, missed = apply_scenario(scenario, estate, card, assumptions)
        for problem in missed:
            at = problem.origin.pointer if problem.origin is not None else ""
            said = f"scenario '{scenario.name}': {problem.message}"
            problems.append(structs.replace(problem, message=said, origin=Origin("", f"/scenarios/{place}{at}")))
        runs = runs_of(applied.estate, applied.card, applied.assumptions, month, counters)
        made.append((scenario, applied, runs, result_of(runs)))
        if progress is not None:
            progress(place)


def _options_of(
    made: list[tuple[Scenario, Applied, EstateFigures, EstateEstimate]], options: list[Option], whole: Money
) -> None:
    for scenario, _, _, result in made:
        total = _whole_cost(result)
        options.append(
            Option(
                scenario.name,
                scenario.note,
                total,
                result.total.fees_month,
                result.total.calls_month,
                result.total.runs,
                total.amount - whole.amount,
            )
        )


def _lines_of_flows(
    first: EstateEstimate,
    made: list[tuple[Scenario, Applied, EstateFigures, EstateEstimate]],
    lines: list[FlowLine],
    touched: set[str],
) -> None:
    by_id = [
        {flow_estimate.id: flow_estimate for flow_estimate in reversed(r.flows)}
        for r in (first, *(estate_estimate for _, _, _, estate_estimate in made))
    ]
    for flow in first.flows:
        cells = [_flow_month(found.get(flow.id)) for found in by_id]
        lines.append(
            FlowLine(
                flow.id,
                flow.name,
                flow.id in touched,
                tuple(entry[0] for entry in cells),
                tuple(entry[1] for entry in cells),
            )
        )


def _all_crossings(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    counters: dict[str, Counter] | None,
    made: list[tuple[Scenario, Applied, EstateFigures, EstateEstimate]],
    crossed: list[Crossing],
    base: EstateFigures,
) -> None:
    months = _Months(estate, card, assumptions, counters, base)
    for scenario, applied, runs, _ in made:
        crossed += _find_crossings(scenario, applied, base, runs, months)


class _Months(Struct):
    """What one option costs month by month; each month is estimated once, for all scenarios that stand beside it. ``runs``: its
    figures in one of the months."""

    estate: Estate
    card: RateCard | None
    assumptions: Assumptions
    counters: dict[str, Counter] | None
    runs: EstateFigures
    known: dict[str, Decimal] = {}

    def amount(self, month: str) -> Decimal:
        if month not in self.known:
            self.known[month] = bill_of(
                runs_of(self.estate, self.card, self.assumptions, month, self.counters, like=self.runs, detail=False)
            )
        return self.known[month]


def _find_crossings(
    scenario: Scenario,
    applied: Applied,
    base: EstateFigures,
    runs: EstateFigures,
    months: _Months,
) -> list[Crossing]:
    card = months.card
    found: list[Crossing] = []
    _crossings_of_volume(scenario, applied, base, runs, card, found)
    cards = [rate_card for rate_card in (card, applied.card) if rate_card is not None]
    later = [
        day for rate_card in cards for day in rate_card.change_dates() if day > base.prices.calendar.spans[0].first
    ]
    dated = dated_rules(months.assumptions) or dated_rules(applied.assumptions)
    if not base.month[1] or not (later or months.assumptions.season or dated):
        return found
    return _crossings_of_months(scenario, applied, base, runs, months, found)


def _crossings_of_volume(
    scenario: Scenario,
    applied: Applied,
    base: EstateFigures,
    runs: EstateFigures,
    card: RateCard | None,
    found: list[Crossing],
) -> None:
    today = sum(base.volumes[key].runs or 0.0 for key, run in base.by.items() if run.flow.id in applied.touched)
    if today and (card is None or _whole_cost(result_of(base)).unknown == _whole_cost(result_of(runs)).unknown):
        for factor, cheaper in volume_crossings(base, runs, applied.touched):
            found.append(Crossing(scenario.name, scenario.name if cheaper else "base", factor, today * factor))


def _crossings_of_months(
    scenario: Scenario,
    applied: Applied,
    base: EstateFigures,
    runs: EstateFigures,
    months: _Months,
    found: list[Crossing],
) -> list[Crossing]:
    before: Decimal | None = None
    other = _Months(applied.estate, applied.card, applied.assumptions, months.counters, runs)
    for name in months_from(base.month, 13):
        first = months.amount(name)
        second = other.amount(name)
        off = second - first
        if before is not None and before * off < 0:
            found.append(Crossing(scenario.name, scenario.name if off < 0 else "base", month=name))
        if off:
            before = off
    return found
