# What is billed otherwise than the rate card says is a matter of a model, not of a flow: told once for all its lines.
"""Prices of the log against the rate card."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from datetime import date
from decimal import Decimal

from .card_costs import CardCosts
from .flow_cases import ZERO
from .placing import Placed
from .reasons import ReasonCode
from .records import Explanation

CLOSE = Decimal("0.005")  # by which the bill of a day may differ from the card for rounding
# A price stays the same for days: what goes up and down is none, and is left unexplained.
STEADY, FEWEST_DAYS = Decimal("0.03"), 3


def explain_prices(lines: Sequence[Placed], costs: CardCosts) -> Iterator[Explanation]:
    """For each model and host what its lines cost more or less than by the card, and from when on."""
    groups: dict[tuple[str, str], dict[date, list[Decimal]]] = defaultdict(dict)
    for one in lines:
        if one.day is None or one.cost is None:
            continue
        card = costs.cost_of(one.sum, one.model, one.day)
        if card is None:
            continue
        sides = groups[(one.model, one.sum.host)].setdefault(one.day, [ZERO, ZERO])
        sides[0] += one.cost
        sides[1] += card
    by_model: dict[str, dict[str, dict[date, list[Decimal]]]] = defaultdict(dict)
    for (model, host), days in groups.items():
        by_model[model][host] = days
    for model, hosts in by_model.items():
        for host, days in hosts.items():
            yield from _explain(model, host if len(hosts) > 1 else "", days)


def _explain(model: str, host: str, days: dict[date, list[Decimal]]) -> Iterator[Explanation]:
    subject = model + (f" at {host}" if host else "")
    off = sorted(day for day, (logged, card) in days.items() if abs(logged - card) > CLOSE * max(card, ZERO))
    near = sorted(day for day in days if day not in off)
    rest = _more(days, near)
    if rest:
        yield _of(subject, "rounding", "costs of the log are rounded otherwise", near, rest)
    for held in _steady(off, days):
        if len(held) >= min(FEWEST_DAYS, len(days)):
            yield _price(subject, held, sorted(days), days)


def _price(subject: str, held: Sequence[date], every: Sequence[date], days: dict[date, list[Decimal]]) -> Explanation:
    """What is told of consecutive days on which the log is as many times the card."""
    logged, card = (sum((days[day][side] for day in held), ZERO) for side in (0, 1))
    begins = "" if held[0] == every[0] else f"from {held[0]} "
    ends = "" if held[-1] == every[-1] else f"to {held[-1]} "
    if not logged:
        words = f"{begins}{ends}the log bills nothing for it (another meter, a free quota, or costs not exported)"
        return _of(subject, "not-billed", words, held, logged - card)
    times = f"{logged / card:.3g} times the rate card's" if card else "more than the rate card's, which are nothing"
    words = f"{begins}{ends}the log's prices are {times} (price, discount or rate of exchange)"
    return _of(subject, "price", words, held, logged - card)


def _steady(off: Sequence[date], days: dict[date, list[Decimal]]) -> list[list[date]]:
    """Days that follow each other among those of the model, as long as the log stays as many times the card: a price holds for a while."""
    place = {day: number for number, day in enumerate(sorted(days))}
    found: list[list[date]] = []
    for day in off:
        if found and place[day] == place[found[-1][-1]] + 1 and _is_alike(days[found[-1][0]], days[day]):
            found[-1].append(day)
        else:
            found.append([day])
    return found


def _is_alike(one: list[Decimal], other: list[Decimal]) -> bool:
    """Whether two days have the same ratio of log and card."""
    return abs(one[0] * other[1] - other[0] * one[1]) <= STEADY * max(one[0] * other[1], other[0] * one[1])


def _more(days: dict[date, list[Decimal]], some: Sequence[date]) -> Decimal:
    return sum((days[day][0] - days[day][1] for day in some), ZERO)


def _of(subject: str, code: ReasonCode, words: str, days: Sequence[date], money: Decimal) -> Explanation:
    return Explanation(code, subject, words, str(days[0]), str(days[-1]), len(days), money)
