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
    money = sum((logged - card for logged, card in days.values()), ZERO)
    if not money:
        return
    off = sorted(day for day, (logged, card) in days.items() if abs(logged - card) > CLOSE * max(card, ZERO))
    subject = model + (f" at {host}" if host else "")
    if not off:
        every = sorted(days)
        yield Explanation(
            "rounding",
            subject,
            "costs of the log are rounded otherwise",
            str(every[0]),
            str(every[-1]),
            len(every),
            money,
        )
        return
    logged, card = (sum((days[day][side] for day in off), ZERO) for side in (0, 1))
    ratio = f"{logged / card:.3g} times the rate card's" if card else "more than nothing, which the rate card says"
    since = (
        f"from {off[0]} " + (f"to {off[-1]} " if off[-1] != max(days) else "on ")
        if off[0] != min(days) or off[-1] != max(days)
        else ""
    )
    zero = not logged
    code: ReasonCode = "not-billed" if zero else "price"
    words = (
        f"{since}the log bills nothing for it (another meter, a free quota, or costs not exported)"
        if zero
        else f"{since}the log's prices are {ratio} (price, discount or rate of exchange)"
    )
    yield Explanation(code, subject, words, str(off[0]), str(off[-1]), len(off), money)
