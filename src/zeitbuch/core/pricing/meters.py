# What hosts meter: runs, steps, calls, checks, minutes, megabytes; units with rounding, a monthly allowance for all flows
# of the host together, stairs, a fixed fee. The cost of a meter is shared out by what each flow used.
"""Platform meters."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import date
from decimal import ROUND_CEILING, Decimal

from msgspec import Struct

from zeitbuch.core.assumptions.money import ZERO, Money
from zeitbuch.core.assumptions.rules import AssumptionLookup
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.moving import Pass

from .call_content import Usage
from .rate_card import Meter, MeterPrice, RateCard


class Metered(Struct):
    """What one run uses, on average: passes by kind of step, calls by model, seconds, megabytes. ``rounded`` holds the
    expected rounded quantity of meters that round in every run, when runs were sampled."""

    steps: dict[str, float]
    calls: dict[str, float]
    seconds: float
    megabytes: float
    rounded: dict[str, float]


class MeterLine(Struct, frozen=True):
    """One meter in a month, for one flow: ``quantity`` as counted, ``units`` as billed before the allowance."""

    meter: str
    host: str
    flow: str
    quantity: float
    units: float
    cost: Money
    flow_id: str = ""


class HostBill(Struct, frozen=True):
    """What a host bills in a month: its fee and each meter with all flows together."""

    host: str
    fee: Money
    meter: str = ""
    units: float = 0.0
    included: float = 0.0
    cost: Money = Money()


class Bills(Struct):
    """Costs by flow key, the host of each, all bills and the sum of fees."""

    flow_cost: dict[str, Money]
    host: dict[str, str]
    hosts: tuple[HostBill, ...]
    fees: Money


def quantities_of(graph: Graph, of: dict[str, Pass], uses: dict[str, Usage], lookup: AssumptionLookup) -> Metered:
    """What one run of a flow uses of anything that is metered."""
    steps: dict[str, float] = {}
    calls: dict[str, float] = {}
    seconds = megabytes = 0.0
    timed, sized = "seconds" in lookup.by, "megabytes" in lookup.by
    for step in graph.flow.steps:
        done = of.get(step.id)
        if done is None or not done.runs or step.kind == "note":
            continue
        steps[step.kind] = steps.get(step.kind, 0.0) + done.runs
        if timed:
            seconds += done.runs * lookup.of_step("seconds", step).amount
        if sized:
            megabytes += done.runs * lookup.of_step("megabytes", step).amount
        use = uses.get(step.id)
        if use is not None:
            calls[use.model] = calls.get(use.model, 0.0) + use.calls * done.runs
    return Metered(steps, calls, seconds, megabytes, {})


def per_run(meter: Meter, used: Metered, card: RateCard) -> float:
    """The quantity that a meter counts in one run (checks are counted by the month)."""
    match meter.counts:
        case "run":
            return 1.0
        case "step":
            return _steps_counted(meter, used)
        case "call":
            return _calls_counted(meter, used, card)
        case "minute":
            return used.seconds / 60
        case "megabyte":
            return used.megabytes
        case "check":
            return 0.0


def _steps_counted(meter: Meter, used: Metered) -> float:
    return sum(
        number
        for kind, number in used.steps.items()
        if (not meter.kinds or kind in meter.kinds) and kind not in meter.free
    )


def _calls_counted(meter: Meter, used: Metered, card: RateCard) -> float:
    if not meter.tiers:
        return sum(used.calls.values())
    tiers = {name: card.rate_of(name) for name in used.calls}
    return sum(
        number for name, number in used.calls.items() if (rate := tiers[name]) is not None and rate.tier in meter.tiers
    )


def stairs_cost(units: Decimal, price: MeterPrice) -> Decimal:
    """What so many units of a month cost: the allowance is free, then each price up to the next stair."""
    steps = [(price.included, price.each), *((stair.above, stair.each) for stair in price.stair)]
    total = ZERO
    for place, (above, each) in enumerate(steps):
        if units <= above:
            break
        top = min(units, steps[place + 1][0]) if place + 1 < len(steps) else units
        total += (top - above) * each
    return total


def bill_meters(
    card: RateCard | None, days: Sequence[date], flows: Sequence[tuple[str, Flow, Metered | None, Volume]]
) -> tuple[tuple[MeterLine, ...], Bills]:
    """All meters of all hosts in a month. Several ``days`` give the mean over them (an average month)."""
    bills = Bills({}, {}, (), Money())
    if card is None or not card.host:
        return (), bills
    lines: dict[tuple[str, str, str], list[MeterLine]] = {}
    found: dict[tuple[str, str], list[HostBill]] = {}
    by_key = {key: flow for key, flow, _, _ in flows}
    for day in days:
        for line_key, line in _bill_day(card, day, flows, bills, found):
            lines.setdefault(line_key, []).append(line)
    rows = [_mean_line(parts, by_key[key], len(days)) for (_, _, key), parts in lines.items()]
    for (_, _, key), row in zip(lines, rows, strict=True):
        bills.flow_cost[key] = bills.flow_cost.get(key, Money()) + row.cost
    bills.hosts = tuple(_mean_bill(entries, len(days)) for entries in found.values())
    bills.fees = sum((bill.fee for bill in bills.hosts), Money())
    return tuple(rows), bills


def _mean_line(parts: list[MeterLine], flow: Flow, days: int) -> MeterLine:
    """The line of a month from those of its days; on days without one the flow was on another host."""
    cost = sum((part.cost for part in parts), Money()).times(float(Decimal(1) / days)) if days > 1 else parts[0].cost
    quantity, units = sum(part.quantity for part in parts) / days, sum(part.units for part in parts) / days
    return MeterLine(parts[0].meter, parts[0].host, flow.title, quantity, units, cost, flow.id)


def _mean_bill(entries: list[HostBill], days: int) -> HostBill:
    share = Decimal(1) / days
    fee = Money(sum((entry.fee.amount for entry in entries), ZERO) * share, entries[0].fee.unknown)
    unknown = tuple(dict.fromkeys(name for entry in entries for name in entry.cost.unknown))
    cost = Money(sum((entry.cost.amount for entry in entries), ZERO) * share, unknown)
    units, included = sum(entry.units for entry in entries) / days, sum(entry.included for entry in entries) / days
    return HostBill(entries[0].host, fee, entries[0].meter, units, included, cost)


def _bill_day(
    card: RateCard,
    day: date,
    flows: Sequence[tuple[str, Flow, Metered | None, Volume]],
    bills: Bills,
    found: dict[tuple[str, str], list[HostBill]],
) -> list[tuple[tuple[str, str, str], MeterLine]]:
    """The lines of one day's prices; adds the bills of the hosts."""
    members: dict[str, list[tuple[str, Metered, Volume]]] = {}
    for key, flow, used, volume in flows:
        host = card.host_of(flow, day)
        if host is not None and used is not None:
            members.setdefault(host.name, []).append((key, used, volume))
            bills.host[key] = host.name
    meters = {meter.name: meter for meter in card.meter}
    out: list[tuple[tuple[str, str, str], MeterLine]] = []
    for host in card.host:
        mine = members.get(host.name, [])
        if host.base and mine:
            worth = card.currency_worth(host.currency, day)
            fee = Money(ZERO, (host.currency,)) if worth is None else Money(host.base * worth)
            found.setdefault((host.name, ""), []).append(HostBill(host.name, fee))
        for name in host.meters:
            out += _bill_meter(card, meters[name], host.name, day, mine, found)
    return out


def _bill_meter(
    card: RateCard,
    meter: Meter,
    host: str,
    day: date,
    mine: list[tuple[str, Metered, Volume]],
    found: dict[tuple[str, str], list[HostBill]],
) -> list[tuple[tuple[str, str, str], MeterLine]]:
    if not mine:
        return []
    unit = float(meter.unit)
    used = _used_units(card, meter, mine, unit)
    total = Decimal(sum(value for _, _, value in used))
    if meter.round_up == "month":
        total = total.to_integral_value(ROUND_CEILING)
    price, cost = _cost_of_units(card, meter, day, total)
    included = float(price.included) if price is not None else 0.0
    found.setdefault((host, meter.name), []).append(HostBill(host, Money(), meter.name, float(total), included, cost))
    whole = sum(value for _, _, value in used)
    return [
        (
            (meter.name, host, key),
            MeterLine(meter.name, host, key, quantity, units, cost.times(units / whole) if whole else Money()),
        )
        for key, quantity, units in used
    ]


def _used_units(
    card: RateCard, meter: Meter, mine: list[tuple[str, Metered, Volume]], unit: float
) -> list[tuple[str, float, float]]:
    used: list[tuple[str, float, float]] = []
    for key, what, volume in mine:
        if meter.counts == "check":
            used.append((key, volume.checks, volume.checks / unit))
            continue
        if volume.runs is None:
            continue
        each = per_run(meter, what, card)
        units = each / unit
        if meter.round_up == "run":
            units = what.rounded.get(meter.name, float(math.ceil(units - 1e-9)))
        used.append((key, each * volume.runs, units * volume.runs))
    return used


def _cost_of_units(card: RateCard, meter: Meter, day: date, total: Decimal) -> tuple[MeterPrice | None, Money]:
    valid = [meter_price for meter_price in meter.price if meter_price.holds_on(day)]
    price = max(valid, key=lambda p: p.since) if valid else None
    worth = card.currency_worth(meter.currency, day)
    cost = (
        Money(stairs_cost(total, price) * worth)
        if price is not None and worth is not None
        else Money(ZERO, (meter.name,) if total else ())
    )
    return price, cost
