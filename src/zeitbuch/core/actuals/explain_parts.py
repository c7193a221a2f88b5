# The difference of one flow, taken apart so that the parts add up to it: days without lines, runs, calls a run, sizes, model, price.
"""What explains the difference of one flow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from decimal import Decimal

from zeitbuch.core.model.words import count_words, join_words
from zeitbuch.core.pricing.units import UNITS

from .card_costs import CardCosts
from .columns import TOKEN_UNITS
from .explain_part_days import explain_missing_runs
from .flow_cases import ZERO, FlowCase, PartSides, card_cost, card_parts, sides_of
from .placing import Placed
from .reasons import ReasonCode
from .records import Explanation

FEWEST_AWAITED = 12.0  # runs: where none of so many happened, that is no chance (one in 160,000)
FEWEST_WEEKS, MOST_QUIET = 3, 3  # weeks in which a weekday has to be without a line, and weekdays that may be
_SMALL = Decimal("0.000001")


def explain_flow(
    case: FlowCase, days: Sequence[date], covered: frozenset[date], costs: CardCosts, priced: list[Placed]
) -> Iterator[Explanation]:
    """The parts of a flow's difference over some days; ``covered`` are days on which the log has any line at all. Lines of which all is
    told but their prices are added to ``priced``."""
    here = [day for day in days if day in covered]
    if not here or case.expected is None:
        return
    for code, words, unknown_days in _not_estimated(case, here):
        if logged := case.logged_on(unknown_days):
            yield _of(case, code, f"{words}: the estimate counts nothing", unknown_days, logged)
        here = [day for day in here if day not in unknown_days]
    if not here:
        return
    quiet = _quiet_weekdays(case, here)
    if quiet:
        names = join_words([f"{quiet[place]:%A}s" for place in _firsts_by_weekday(quiet)])
        money = -sum((case.estimated_on(day) or ZERO for day in quiet), ZERO)
        words = f"no line of it on {names}: the estimate spreads its volume over all days"
        yield _of(case, "weekdays-quiet", words, quiet, money, False)
    here = [day for day in here if day not in quiet]
    silent = _silent_days(case, here)
    yield from _silences(case, here, silent)
    left = [day for day in here if day not in silent]
    if not case.tells_calls(left):
        yield from _without_calls(case, left)
        return
    yield from _runs(case, left)
    parts, unknown = sides_of(case, left)
    for part in parts:
        yield from _part(case, part, left, costs, priced)
    if unknown:
        names = ", ".join(dict.fromkeys(f"‘{one.step or one.model or 'no name'}’" for one in unknown))
        money = sum((one.cost or ZERO for one in unknown), ZERO)
        yield _of(
            case,
            "step-unknown",
            f"the log has steps or models that the definition does not: {names}",
            _days_of(unknown),
            money,
        )


def _without_calls(case: FlowCase, days: Sequence[date]) -> Iterator[Explanation]:
    """All that can be said of lines that tell no calls: runs, where these are known, and what is left."""
    at_runs = case.runs is not None
    if at_runs:
        yield from _runs(case, days)
    awaited = sum(
        (case.cost_of(case.runs.get(day, 0.0) if case.runs is not None else case.awaited_on(day), day) for day in days),
        ZERO,
    )
    money = case.logged_on(days) - awaited
    if abs(money) > _SMALL:
        each = "for so many runs" if at_runs else "in all"
        words = f"{money + awaited:,.2f} in the log, {awaited:,.2f} were estimated {each}; not all lines say how many calls they are, so that nobody sees by what"
        yield _of(case, "cost-differs", words, days, money, at_runs)


def _not_estimated(case: FlowCase, days: Sequence[date]) -> Iterator[tuple[ReasonCode, str, list[date]]]:
    """Days for which nothing is estimated, and why."""
    assert case.expected is not None
    without_volume = [day for day in days if case.expected.runs.get(day) is None]
    yield "volume-unknown", "nothing says how often it runs", without_volume
    without_price = [day for day in days if day not in without_volume and case.cost_of_run(day) is None]
    yield "price-unknown", "the rate card has no price for some of it", without_price


def _of(
    case: FlowCase, code: ReasonCode, words: str, days: Sequence[date], money: Decimal | None, certain: bool = True
) -> Explanation:
    return Explanation(code, case.name, words, str(min(days)), str(max(days)), len(days), money, certain)


def _days_of(lines: Sequence[Placed]) -> list[date]:
    return sorted({one.day for one in lines if one.day is not None})


def _quiet_weekdays(case: FlowCase, days: Sequence[date]) -> list[date]:
    """The days of weekdays on which a flow never has a line, though on others it has; such as weekends."""
    by_weekday: dict[int, list[date]] = {}
    for day in days:
        by_weekday.setdefault(day.weekday(), []).append(day)
    never = {key: held for key, held in by_weekday.items() if not any(case.lines.get(day) for day in held)}
    awaited = sum(case.awaited_on(day) for held in never.values() for day in held)
    often = all(len(held) >= FEWEST_WEEKS for held in never.values())
    if not never or len(never) > MOST_QUIET or not often or awaited < FEWEST_AWAITED:
        return []
    return sorted(day for held in never.values() for day in held)


def _firsts_by_weekday(days: Sequence[date]) -> list[int]:
    """The places of the first day of each weekday, Monday first."""
    first: dict[int, int] = {}
    for place, day in enumerate(days):
        first.setdefault(day.weekday(), place)
    return [first[key] for key in sorted(first)]


def _silent_days(case: FlowCase, days: Sequence[date]) -> frozenset[date]:
    """Days of spells without a line in which so many runs were estimated that chance does not explain them."""
    assert case.expected is not None
    found: list[date] = []
    spell: list[date] = []
    for day in [*days, None]:
        if day is not None and case.calls_of_run(day) and not case.lines.get(day) and not (case.runs or {}).get(day):
            spell.append(day)
            continue
        if sum(map(case.awaited_there_on, spell)) >= FEWEST_AWAITED:
            found += spell
        spell = []
    return frozenset(found)


def _silences(case: FlowCase, days: Sequence[date], silent: frozenset[date]) -> Iterator[Explanation]:
    for spell in spells_of(sorted(silent), days):
        money = -sum((case.estimated_on(day) or ZERO for day in spell), ZERO)
        if len(silent) == len(days):
            yield _of(case, "flow-silent", "the log has no line of it", spell, money)
        elif spell[-1] == days[-1]:
            yield _of(
                case,
                "flow-stopped",
                f"no line of it from {spell[0]} on: switched off, renamed, or no longer exported",
                spell,
                money,
                False,
            )
        elif spell[0] == days[0]:
            yield _of(
                case,
                "flow-began",
                f"no line of it until {spell[-1]}: it began later, or had another name",
                spell,
                money,
                False,
            )
        else:
            yield _of(
                case,
                "flow-paused",
                f"no line of it on {count_words(len(spell), 'day')}: switched off, or not exported",
                spell,
                money,
                False,
            )


def spells_of(some: Sequence[date], days: Sequence[date]) -> list[list[date]]:
    """Days that follow each other without another of ``days`` between them, together."""
    place = {day: number for number, day in enumerate(days)}
    spells: list[list[date]] = []
    for day in some:
        if spells and place[day] == place[spells[-1][-1]] + 1:
            spells[-1].append(day)
        else:
            spells.append([day])
    return spells


def _runs(case: FlowCase, days: Sequence[date]) -> Iterator[Explanation]:
    """Runs more or fewer than estimated, at what a run was estimated to cost; those that the log cannot have are told apart."""
    counted = [case.runs_on(day) for day in days]
    known = [number for number in counted if number is not None]
    if len(known) < len(counted):
        return
    missing = list(explain_missing_runs(case, days))
    yield from missing
    money = sum(
        (case.cost_of(number - case.awaited_on(day), day) for number, day in zip(known, days, strict=True)), ZERO
    ) - sum((one.money for one in missing if one.money is not None), ZERO)
    if abs(money) <= _SMALL:
        return
    awaited = sum(map(case.awaited_on, days))
    more = sum(known) + sum(sum(case.missing_on(day)) for day in days) > awaited
    if case.runs is not None:
        # Of calls only such runs leave a line as make one.
        seen = "runs" if case.all_runs else "runs with a model call"
        words = f"{sum(known):,.0f} {seen} in the log, {awaited:,.0f} runs were estimated"
        yield _of(case, "runs-more" if more else "runs-fewer", words, days, money)
        return
    if not any(case.lines.get(day) for day in days):
        words = f"the log has no line of it; {awaited:,.1f} runs were estimated, so few that there may have been none"
        yield _of(case, "runs-fewer", words, days, money, False)
        return
    calls, estimated = sum(map(case.calls_on, days)), sum(case.awaited_on(day) * case.calls_of_run(day) for day in days)
    words = f"{calls:,.0f} model calls, {estimated:,.0f} were estimated; the log does not say whether by runs or by calls a run"
    yield _of(case, "calls-more" if more else "calls-fewer", words, days, money, False)


def _part(
    case: FlowCase, part: PartSides, days: Sequence[date], costs: CardCosts, priced: list[Placed]
) -> Iterator[Explanation]:
    """Calls a run, sizes, model and price of one part."""
    awaited = part.awaited_cost
    if awaited is None:
        return
    if not part.awaited_calls:
        if part.logged:
            words = f"‘{part.name}’ was called {part.calls:,.0f} times, and no call was estimated"
            yield _of(case, "calls-per-run-more", words, days, part.logged)
        return
    at_estimate = awaited * Decimal(repr(part.calls / part.awaited_calls))
    yield from _calls_a_run(case, part, at_estimate - awaited, days)
    if not part.lines:
        return
    silent = sum(one.sum.silent for one in part.lines)
    if silent:
        words = f"‘{part.name}’: {silent:,.0f} of {part.calls:,.0f} calls say no tokens, so that sizes and prices cannot be told apart"
        yield _of(case, "size-or-price", words, days, part.logged - at_estimate, False)
        return
    as_defined = card_parts(costs, part.lines, part.model)
    if as_defined is not None:
        yield from _sizes(case, part, as_defined, days)
        yield from _other_models(case, part, costs, priced)
    elif abs(part.logged - at_estimate) > _SMALL:
        words = f"‘{part.name}’: the rate card has no price for what the log counts, so that sizes and prices cannot be told apart"
        yield _of(case, "size-or-price", words, days, part.logged - at_estimate, False)


def _calls_a_run(case: FlowCase, part: PartSides, money: Decimal, days: Sequence[date]) -> Iterator[Explanation]:
    """More or fewer calls than so many runs were estimated to make."""
    if abs(money) <= _SMALL:
        return
    told = case.runs is not None
    by = "the runs of the log make" if told else "so many calls of the flow in total make"
    more = part.calls > part.awaited_calls
    words = f"‘{part.name}’ was called {part.calls:,.0f} times; {by} {part.awaited_calls:,.0f} as estimated (retries, loops, turns, cases)"
    yield _of(case, "calls-per-run-more" if more else "calls-per-run-fewer", words, days, money, told)


def _other_models(case: FlowCase, part: PartSides, costs: CardCosts, priced: list[Placed]) -> Iterator[Explanation]:
    """Lines of other models than the definition's: those that the card has prices for, and those of which all is told at once."""
    with_price: list[Placed] = []
    without: list[Placed] = []
    for one in part.lines:
        other = bool(one.model) and one.model != part.model
        if other and card_cost(costs, [one]) is None:
            without.append(one)
            continue
        priced.append(one)
        if other:
            with_price.append(one)
    if with_price:
        yield from _models(case, part, with_price, costs, True)
    if without:
        yield from _models(case, part, without, costs, False)


def _sizes(
    case: FlowCase, part: PartSides, as_defined: dict[str, Decimal], days: Sequence[date]
) -> Iterator[Explanation]:
    """Longer or shorter prompts and answers, and other units: more, fewer, or not counted by the log."""
    calls = part.calls
    scale = Decimal(repr(calls / part.awaited_calls))
    moved = {
        unit: as_defined.get(unit, ZERO) - part.awaited_units.get(unit, (0.0, ZERO))[1] * scale
        for unit in dict.fromkeys([*part.awaited_units, *as_defined])
    }
    money = sum((moved.get(unit, ZERO) for unit in TOKEN_UNITS), ZERO)
    if abs(money) > _SMALL:
        sides = []
        for word, units in (("prompts", ("input", "cached")), ("answers", ("output",))):
            awaited = sum(part.awaited_units.get(unit, (0.0, ZERO))[0] for unit in units) / part.awaited_calls
            sides.append(f"{word} of {sum(map(part.units, units)) / calls:,.0f} tokens ({awaited:,.0f} estimated)")
        yield _of(
            case, "sizes-more" if money > 0 else "sizes-less", f"‘{part.name}’: {' and '.join(sides)}", days, money
        )
    for unit, cost in moved.items():
        if unit in TOKEN_UNITS or abs(cost) <= _SMALL:
            continue
        words = UNITS[unit].phrase.rstrip(",")
        awaited, counted = part.awaited_units.get(unit, (0.0, ZERO))[0] * float(scale), part.units(unit)
        if not counted:
            yield _of(
                case,
                "unit-not-counted",
                f"‘{part.name}’: {awaited:,.0f} {words} were estimated, and the log counts none",
                days,
                cost,
                False,
            )
        else:
            code: ReasonCode = "sizes-more" if cost > 0 else "sizes-less"
            yield _of(case, code, f"‘{part.name}’: {counted:,.0f} {words} ({awaited:,.0f} estimated)", days, cost)


def _models(
    case: FlowCase, part: PartSides, others: Sequence[Placed], costs: CardCosts, has_price: bool
) -> Iterator[Explanation]:
    """Another model than the definition's; where the card has its price, at that price."""
    names = ", ".join(dict.fromkeys(f"‘{one.model}’" for one in others))
    days = _days_of(others)
    words = f"‘{part.name}’ used {names} from {days[0]} to {days[-1]}; the definition names ‘{part.model}’"
    same = card_cost(costs, others, part.model) or ZERO
    if has_price:
        money = (card_cost(costs, others) or ZERO) - same
    else:
        words += ", and the rate card has no price for it"
        money = sum((one.cost or ZERO for one in others), ZERO) - same
    if money:
        yield _of(case, "model-other", words, days, money)
