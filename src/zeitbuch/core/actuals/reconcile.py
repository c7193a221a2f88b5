# The estimate held against the log: both by days, the difference in money, and what explains it. What no explanation takes up is said to
# be unexplained.
"""Reconciling an estimate with a usage log."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date, timedelta
from decimal import Decimal
from typing import NamedTuple

from msgspec import Struct

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.model.words import count_words
from zeitbuch.core.pricing.call_prices import Counter as TokenCounter
from zeitbuch.core.pricing.rate_card import RateCard

from .card_costs import CardCosts
from .expected import expected_flows
from .explain_aside import explain_asides, explain_unknown_flows
from .explain_clocks import explain_hosts, explain_hours
from .explain_part_days import tell_together
from .explain_parts import explain_flow, spells_of
from .explain_prices import explain_prices
from .flow_cases import ZERO, FlowCase, flow_cases
from .group_gaps import group_gaps
from .grouping import UsageSum
from .part_days import PartDay, shares_of_flow
from .placing import Placed, Placing, place_all
from .records import By, CostFrom, Explanation, Reconciled, UsageRow
from .usage_mapping import UsageMapping
from .zero_reasons import with_zero_reasons

RunCounts = Mapping[tuple[str, str, str], int]  # day of the first line, environment, flow -> runs
_NOISE = Decimal("0.000001")


class Asked(Struct, frozen=True):
    """What is asked: by which side, and from which day to which (both included; None: as far as the log goes)."""

    by: By = "flow"
    first: date | None = None
    last: date | None = None


class Basis(Struct, frozen=True):
    """What the estimate is made with, and names that flows once had (by id)."""

    estate: Estate
    card: RateCard | None
    assumptions: Assumptions
    counters: dict[str, TokenCounter] | None = None
    former: Mapping[str, Sequence[str]] = {}


class Log(Struct, frozen=True):
    """One log: its sums, its runs by day, environment and flow, its mapping, its lines by flow and hour of the day, and the days that it has
    a part of."""

    sums: Sequence[UsageSum]
    runs: RunCounts
    mapping: UsageMapping
    hours: Mapping[tuple[str, int], int] = {}
    part_days: Sequence[PartDay] = ()

    @property
    def tells_runs(self) -> bool:
        """Whether it says how often flows ran."""
        return "run" in self.mapping.column or self.mapping.stands_for == "run"


class Sides(NamedTuple):
    """Estimate and logs brought together: lines with their places, days, and flows with both sides."""

    placed: list[Placed]
    placings: list[Placing]
    costs: CardCosts
    days: list[date]
    cases: list[FlowCase]

    @property
    def covered(self) -> frozenset[date]:
        """Days on which the log has any line at all."""
        return frozenset(
            one.day for one in self.placed if one.day is not None and one.aside not in ("passed", "outside")
        )


def gather_sides(logs: Sequence[Log], basis: Basis, asked: Asked) -> Sides:
    """Both sides over the days of the logs, or those that are asked for. Raises ZeitbuchError where no line has such a day."""
    costs = CardCosts(basis.card)
    placed: list[Placed] = []
    currency = basis.card.currency if basis.card is not None else _main_currency(logs)
    placings = [Placing(basis.estate, log.mapping, costs, currency, basis.former) for log in logs]
    for number, (log, placing) in enumerate(zip(logs, placings, strict=True)):
        placing.number = number
        placed += place_all(log.sums, placing, asked.first, asked.last)
    days = _days_of(placed, asked)
    expected = expected_flows(basis.estate, basis.card, basis.assumptions, days, basis.counters)
    runs = runs_by_flow(logs, placings, placed) if all(log.tells_runs for log in logs) else None
    all_runs = all(log.mapping.stands_for in ("run", "step") for log in logs)
    cases = flow_cases(basis.estate, placed, expected, runs, all_runs)
    if any(log.part_days for log in logs):
        hours = [_hours_by_flow([log], [placing]) for log, placing in zip(logs, placings, strict=True)]
        for case in cases:
            used = {day: lines[0].log for day, lines in case.lines.items() if lines}
            case.shares = shares_of_flow(
                used, [log.part_days for log in logs], [one.get(case.id, Counter()) for one in hours]
            )
    return Sides(placed, placings, costs, days, cases)


def reconcile(logs: Sequence[Log], basis: Basis, asked: Asked) -> Reconciled:
    """Estimate against logs over their days, or those that are asked for. Raises ZeitbuchError where no line has such a day."""
    sides = gather_sides(logs, basis, asked)
    placed, placings, _, days, cases = sides
    has_cost = ["cost" in log.mapping.column for log in logs]
    priced = any(one.cost is not None for one in placed)
    known = priced and (all(has_cost) or basis.card is not None)
    # Where nothing is estimated in money, or nothing of the log has a cost, there is no difference to take apart.
    explained = (
        list(_explain(sides, [one for log in logs for one in log.part_days]))
        if priced and basis.card is not None
        else []
    )
    explained += [*explain_hosts(cases), *explain_hours(cases, _hours_by_flow(logs, placings))]
    cost_from: CostFrom = "nothing" if not known else "log" if all(has_cost) else "both" if any(has_cost) else "rates"
    return _result(placed, cases, days, explained, asked, placings[0], cost_from)


def _main_currency(logs: Sequence[Log]) -> str:
    """The currency of most lines; costs in others are left out, and that is said."""
    lines: Counter[str] = Counter()
    for log in logs:
        for one in log.sums:
            if one.cost is not None:
                lines[one.currency.upper()] += one.lines
    return lines.most_common(1)[0][0] if lines else ""


def _days_of(placed: Sequence[Placed], asked: Asked) -> list[date]:
    there = [one.day for one in placed if one.day is not None and one.aside not in ("passed", "outside")]
    if not there:
        raise fail(
            "usage-empty",
            "expected lines of usage with a day, found none",
            "look at the days asked for, and at the mapping: zeitbuch usage test",
        )
    first, last = asked.first or min(there), asked.last or max(there)
    return [first + timedelta(place) for place in range((last - first).days + 1)]


def runs_by_flow(
    logs: Sequence[Log], placings: Sequence[Placing], placed: Sequence[Placed]
) -> dict[tuple[str, date], float]:
    """Runs in production by flow and the day on which they began."""
    found: dict[tuple[str, date], float] = {}
    for log, placing in zip(logs, placings, strict=True):
        for (day, environment, flow), number in log.runs.items():
            key = placing.flows.match(flow).id if flow else ""
            if day and key and environment.casefold() not in placing.not_production:
                at = key, date.fromisoformat(day)
                found[at] = found.get(at, 0.0) + number
    for one in placed:
        if one.is_run and not one.aside and one.day is not None:
            found[(one.flow, one.day)] = found.get((one.flow, one.day), 0.0) + one.sum.lines
    return found


def _hours_by_flow(logs: Sequence[Log], placings: Sequence[Placing]) -> dict[str, Counter[int]]:
    found: dict[str, Counter[int]] = {}
    for log, placing in zip(logs, placings, strict=True):
        for (flow, hour), lines in log.hours.items():
            found.setdefault(placing.flows.match(flow).id, Counter())[hour] += lines
    return found


def _explain(sides: Sides, parts: Sequence[PartDay]) -> Iterator[Explanation]:
    placed, placings, costs, days, cases = sides
    covered = sides.covered
    yield from _missing_days(cases, [day for day in days if day not in covered], days)
    yield from explain_asides(placed)
    yield from explain_unknown_flows(placed, cases, placings[0])
    priced: list[Placed] = []
    of_flows = [one for case in cases for one in explain_flow(case, days, covered, costs, priced)]
    yield from tell_together(of_flows, parts)
    yield from explain_prices(priced, costs)


def _missing_days(cases: Sequence[FlowCase], missing: Sequence[date], days: Sequence[date]) -> Iterator[Explanation]:
    """Days on which the log has no line at all."""
    for spell in spells_of(missing, days):
        money = -sum((case.estimated_on(day) or ZERO for case in cases for day in spell), ZERO)
        words = f"the log has no line on {count_words(len(spell), 'day')}: not exported?"
        yield Explanation("days-missing", "all flows", words, str(spell[0]), str(spell[-1]), len(spell), money)


def _result(
    placed: Sequence[Placed], cases: Sequence[FlowCase], days: Sequence[date], explained: Sequence[Explanation],
    asked: Asked, placing: Placing, cost_from: CostFrom,
) -> Reconciled:  # fmt: skip
    def total(wanted: Callable[[Placed], bool]) -> Decimal:
        return sum((one.cost for one in placed if one.cost is not None and wanted(one)), ZERO)

    estimated = sum((case.estimated_on(day) or ZERO for case in cases for day in days), ZERO)
    logged = total(lambda one: one.aside != "passed")
    compared = total(lambda one: one.aside not in ("passed", "outside"))
    is_known = cost_from != "nothing" and placing.card is not None
    difference = compared - estimated
    told = sum((one.money for one in explained if one.money is not None), ZERO)
    order = sorted(explained, key=lambda one: -abs(one.money or ZERO))
    cost_known = cost_from != "nothing"
    return Reconciled(
        str(days[0]), str(days[-1]), len(days), placing.currency,
        cost_from,
        sum(one.sum.lines for one in placed),
        logged if cost_known else None,
        compared if cost_known else None,
        estimated if placing.card is not None else None,
        difference if is_known else None,
        _without_noise(difference - told) if is_known else None,
        with_zero_reasons(group_gaps(asked.by, cases, placed, days, placing.card, cost_known), asked.by, order),
        tuple(order),
        tuple([_row(one) for one in placed]),
        asked.by,
        tuple(_notes(placed, placing)),
        tuple([case.name for case in cases if _is_left_out(case, days)]),
    )  # fmt: skip


def _without_noise(money: Decimal) -> Decimal:
    """Money without what floating numbers leave of nothing."""
    return ZERO if abs(money) < _NOISE else money


def _row(one: Placed) -> UsageRow:
    used = one.sum
    return UsageRow(
        one.flow, one.step, one.model, used.day or "", used.environment, used.host, used.feature,
        used.calls, used.tokens_in, used.tokens_out, one.cost, one.aside, used.meter,
    )  # fmt: skip


def _notes(placed: Sequence[Placed], placing: Placing) -> Iterator[str]:
    once = {one.sum.flow: one.flow for one in placed if placing.flows.match(one.sum.flow).kind == "renamed"}
    if once:
        pairs = ", ".join(f"‘{name}’ is ‘{placing.by_id[key].title}’" for name, key in once.items())
        yield f"former names, as the book has them: {pairs}"
    passed = [one.sum for one in placed if one.aside == "passed"]
    if passed:
        money = sum((one.cost for one in passed if one.cost is not None), ZERO)
        yield f"passed over, as the mapping says: {_lines_words(passed)} with a cost of {money:,.2f}"
    outside = [one.sum for one in placed if one.aside == "outside"]
    if outside:
        yield f"{_lines_words(outside)} of other days"
    silent = sum(one.sum.silent for one in placed if not one.aside)
    if silent:
        yield f"{silent:,.0f} calls say no tokens"
    foreign = {one.sum.currency for one in placed if not one.exchanged}
    if foreign:
        yield f"no rate of exchange for {', '.join(sorted(foreign))}: these costs are left out"


def _lines_words(sums: Sequence[UsageSum]) -> str:
    return count_words(sum(one.lines for one in sums), "line")


def _is_left_out(case: FlowCase, days: Sequence[date]) -> bool:
    """Whether a flow that calls models has days whose estimate is not known."""
    return any(case.calls_of_run(day) and case.estimated_on(day) is None for day in days)
