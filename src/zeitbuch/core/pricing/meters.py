# What hosts meter: runs, steps, calls, checks, minutes, megabytes; units with rounding, a monthly allowance for all flows
# of the host together, stairs, a fixed fee. The cost of a meter is shared out by what each flow used. Where prices, hosts or rates of
# exchange change within the month, each unit is paid as on its day; the allowance and the stairs are those of the month's units together.
"""Platform meters."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import date
from decimal import ROUND_CEILING, Decimal
from typing import NamedTuple

from msgspec import Struct

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.money import ZERO, Money
from zeitbuch.core.assumptions.uncertain import exceeds, in_each_world, least, mean_of_worlds, most
from zeitbuch.core.assumptions.values import Evidence, weakest_evidence
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.moving import Pass

from .call_content import Usage
from .rate_card import Host, Meter, MeterPrice, RateCard
from .spans import Calendar, Weights


class Metered(Struct):
    """What one run uses, on average: passes by kind of step, calls by model, seconds, megabytes. ``rounded`` holds the
    expected rounded quantity of meters that round in every run, when runs were sampled; ``each`` what certain meters count in a run,
    in every drawn world."""

    steps: dict[str, float]
    calls: dict[str, float]
    seconds: float
    megabytes: float
    rounded: dict[str, float]
    each: dict[str, float] = {}
    evidence: Evidence = "export"  # the weakest that its passes are based on


class MeterLine(Struct, frozen=True):
    """One meter in a month, for one flow: ``quantity`` as counted, ``units`` as billed before the allowance."""

    meter: str
    host: str
    flow: str
    quantity: float
    units: float
    cost: Money
    flow_id: str = ""
    evidence: Evidence = "default"


class HostBill(Struct, frozen=True):
    """What a host bills in a month: its fee and each meter with all flows together."""

    host: str
    fee: Money
    meter: str = ""
    units: float = 0.0
    included: float = 0.0
    cost: Money = Money()


class Bills(Struct):
    """Costs by flow key, the host of each, all bills and the sum of fees; ``spent`` are the costs in every drawn world, where runs are
    given so; ``evidence``: what the costs are based on; ``bent``: whether an allowance or a stair is passed in some worlds only."""

    flow_cost: dict[str, Money]
    host: dict[str, str]
    hosts: tuple[HostBill, ...]
    fees: Money
    spent: dict[str, float] = {}
    evidence: dict[str, list[tuple[Decimal, Evidence]]] = {}
    bent: bool = False


def quantities_of(graph: Graph, of: dict[str, Pass], uses: dict[str, Usage], lookup: AssumptionLookup) -> Metered:
    """What one run of a flow uses of anything that is metered."""
    steps: dict[str, float] = {}
    calls: dict[str, float] = {}
    seconds = megabytes = 0.0
    weakest: Evidence = "export"
    timed, sized = "seconds" in lookup.by, "megabytes" in lookup.by
    for step in graph.flow.steps:
        done = of.get(step.id)
        if done is None or not done.runs or step.kind == "note":
            continue
        steps[step.kind] = steps.get(step.kind, 0.0) + done.runs
        weakest = weakest_evidence(weakest, done.evidence)
        if timed:
            seconds += done.runs * lookup.of_step("seconds", step).amount
        if sized:
            megabytes += done.runs * lookup.of_step("megabytes", step).amount
        use = uses.get(step.id)
        if use is not None:
            calls[use.model] = calls.get(use.model, 0.0) + use.calls * done.runs
    return Metered(steps, calls, seconds, megabytes, {}, evidence=weakest)


def per_run(meter: Meter, used: Metered, card: RateCard) -> float:
    """The quantity that a meter counts in one run (checks are counted by the month)."""
    known = used.each.get(meter.name)
    if known is not None:
        return known
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


def price_of_more(card: RateCard, meter: Meter, day: date, units: float) -> float:
    """What one more unit of a meter costs on a day when so many of the month are used; 0 without a price."""
    valid = [price for price in meter.price if price.holds_on(day)]
    if not valid:
        return 0.0
    price, used = max(valid, key=lambda p: p.since), Decimal(units)
    return float(
        (stairs_cost(used + 1, price) - stairs_cost(used, price)) * (card.currency_worth(meter.currency, day) or ZERO)
    )


def stairs_in_worlds(units: float, price: MeterPrice) -> float:
    """What so many units of a month cost (see ``stairs_cost``), in every drawn world."""
    steps = [(float(price.included), float(price.each)), *((float(s.above), float(s.each)) for s in price.stair)]
    total = 0.0
    for place, (above, each) in enumerate(steps):
        top = least(units, steps[place + 1][0]) if place + 1 < len(steps) else units
        total = total + most(0.0, top - above) * each
    return total


class MeteredFlow(NamedTuple):
    """A flow as hosts see it: what one run uses, its volume, and how its runs lie over the spans of the month (None: by days)."""

    key: str
    flow: Flow
    used: Metered | None
    volume: Volume
    weights: Weights | None = None


class _Used(NamedTuple):
    """What a flow used of a meter in a span, and what that is based on."""

    key: str
    quantity: float
    units: float
    evidence: Evidence = "export"


def meters_of(card: RateCard | None, flow: Flow, calendar: Calendar) -> list[Meter]:
    """The meters of the hosts that a flow is on in a month."""
    if card is None:
        return []
    hosts = [card.host_of(flow, span.first) for span in calendar.spans]
    names = {name for host in hosts if host is not None for name in host.meters}
    return [meter for meter in card.meter if meter.name in names]


def bill_meters(
    card: RateCard | None, calendar: Calendar, flows: Sequence[MeteredFlow], on_average: bool = False
) -> tuple[tuple[MeterLine, ...], Bills]:
    """All meters of all hosts in a month; an average month is the mean of the months of its year. ``on_average``: where runs are given
    in drawn worlds and an allowance or stair is passed in some of them only, what is due is the mean over the worlds."""
    bills = Bills({}, {}, (), Money(), {}, {})
    if card is None or not card.host:
        return (), bills
    lines: dict[tuple[str, str, str], list[MeterLine]] = {}
    found: dict[tuple[str, str], list[HostBill]] = {}
    for places in calendar.months:
        month = _MonthOfMeters(card, calendar, places, flows, bills, on_average)
        for host in card.host:
            month.bill_host(host, lines, found)
    count = len(calendar.months)
    by_key = {one.key: one.flow for one in flows}
    rows = [_mean_line(parts, by_key[key], count) for (_, _, key), parts in lines.items()]
    for (_, _, key), row in zip(lines, rows, strict=True):
        bills.flow_cost[key] = bills.flow_cost.get(key, Money()) + row.cost
        bills.evidence.setdefault(key, []).append((row.cost.amount, row.evidence))
    bills.hosts = tuple(_mean_bill(entries, count) for entries in found.values())
    bills.fees = sum((bill.fee for bill in bills.hosts), Money())
    return tuple(rows), bills


def _mean_line(parts: list[MeterLine], flow: Flow, months: int) -> MeterLine:
    """The line of an average month from those of its year; in months without one the flow was on another host."""
    cost = (
        sum((part.cost for part in parts), Money()).times(float(Decimal(1) / months)) if months > 1 else parts[0].cost
    )
    quantity, units = sum(part.quantity for part in parts) / months, sum(part.units for part in parts) / months
    return MeterLine(parts[0].meter, parts[0].host, flow.title, quantity, units, cost, flow.id, parts[0].evidence)


def _mean_bill(entries: list[HostBill], months: int) -> HostBill:
    share = Decimal(1) / months
    fee = Money(sum((entry.fee.amount for entry in entries), ZERO) * share, entries[0].fee.unknown)
    unknown = tuple(dict.fromkeys(name for entry in entries for name in entry.cost.unknown))
    cost = Money(sum((entry.cost.amount for entry in entries), ZERO) * share, unknown)
    units, included = sum(entry.units for entry in entries) / months, sum(entry.included for entry in entries) / months
    return HostBill(entries[0].host, fee, entries[0].meter, units, included, cost)


class _MonthOfMeters:
    """What hosts bill in one month: its spans, and on each of them the flows of each host."""

    def __init__(
        self,
        card: RateCard,
        calendar: Calendar,
        places: tuple[int, ...],
        flows: Sequence[MeteredFlow],
        bills: Bills,
        on_average: bool,
    ) -> None:
        self.card, self.bills, self.months, self.on_average = card, bills, len(calendar.months), on_average
        self.spans = [calendar.spans[place] for place in places]
        days = sum(span.days for span in self.spans)
        self.by_days = [span.days / days for span in self.spans]
        self.members: list[dict[str, list[tuple[MeteredFlow, float]]]] = []
        for index, span in enumerate(self.spans):
            on: dict[str, list[tuple[MeteredFlow, float]]] = {}
            for one in flows:
                host = card.host_of(one.flow, span.first)
                if host is not None and one.used is not None:
                    weight = self.by_days[index]
                    if one.weights is not None:
                        weight = one.weights[places[index]] * self.months  # of one month, as the volume is
                    on.setdefault(host.name, []).append((one, weight))
                    bills.host[one.key] = host.name
            self.members.append(on)

    def bill_host(
        self,
        host: Host,
        lines: dict[tuple[str, str, str], list[MeterLine]],
        found: dict[tuple[str, str], list[HostBill]],
    ) -> None:
        """Adds the fee of a host, by the days on which it has flows, and its meters."""
        if not any(on.get(host.name) for on in self.members):
            return
        if host.base:
            found.setdefault((host.name, ""), []).append(HostBill(host.name, self._fee_of(host)))
        meters = {meter.name: meter for meter in self.card.meter}
        for name in host.meters:
            for line in self._bill_meter(meters[name], host.name, found):
                lines.setdefault((line.meter, line.host, line.flow), []).append(line)

    def _fee_of(self, host: Host) -> Money:
        """The fee of the days on which a host has flows."""
        fee = Money()
        for span, share, on in zip(self.spans, self.by_days, self.members, strict=True):
            if on.get(host.name):
                worth = self.card.currency_worth(host.currency, span.first)
                base = Money(ZERO, (host.currency,)) if worth is None else Money(host.base * worth)
                fee += base.times(share) if share < 1 else base
        return fee

    def _bill_meter(self, meter: Meter, host: str, found: dict[tuple[str, str], list[HostBill]]) -> list[MeterLine]:
        """The lines of a meter, a flow each; ``flow`` of a line is its key. Adds the bill of all flows together."""
        used = [_used_units(self.card, meter, on.get(host, []), float(meter.unit)) for on in self.members]
        units = sum(one.units for span in used for one in span)
        total = Decimal(units)
        whole = total.to_integral_value(ROUND_CEILING) if meter.round_up == "month" else total
        cost, included = Money(), 0.0
        of_flow: dict[str, MeterLine] = {}
        for span, share, held in zip(self.spans, self.by_days, used, strict=True):
            price, cost_of_all = _cost_of_units(self.card, meter, span.first, whole)
            included += share * float(price.included) if price is not None else 0.0
            for one in held:
                part = float(one.units) / float(total) if total else 0.0
                paid = cost_of_all if part == 1 else cost_of_all.times(part) if part else Money()
                more = self._spent_in_worlds(meter, price, span.first, one, units) if price is not None else 0.0
                bent = price is not None and _is_bent(units, price)
                self.bills.bent = self.bills.bent or bent
                if self.on_average and bent:
                    # What is due on average is not what would be due for the average month.
                    paid = Money(Decimal(mean_of_worlds(more * self.months, units)))
                cost += paid
                self.bills.spent[one.key] = self.bills.spent.get(one.key, 0.0) + more
                had = of_flow.get(one.key) or MeterLine(meter.name, host, one.key, 0.0, 0.0, Money(), "", one.evidence)
                of_flow[one.key] = MeterLine(
                    meter.name,
                    host,
                    one.key,
                    had.quantity + one.quantity,
                    had.units + float(one.units),
                    had.cost + paid,
                    evidence=weakest_evidence(had.evidence, one.evidence),
                )
        found.setdefault((host, meter.name), []).append(
            HostBill(host, Money(), meter.name, float(whole), included, cost)
        )
        return list(of_flow.values())

    def _spent_in_worlds(self, meter: Meter, price: MeterPrice, day: date, one: _Used, units: float) -> float:
        """What a flow pays for a span, in every drawn world: its share of the cost of all units."""
        if not units:
            return 0.0
        whole = in_each_world(math.ceil, units) if meter.round_up == "month" else units
        worth = float(self.card.currency_worth(meter.currency, day) or 0)
        return stairs_in_worlds(whole, price) * worth * (one.units / units) / self.months


def _is_bent(units: float, price: MeterPrice) -> bool:
    """Whether in some worlds more units come than an allowance or stair has, and in others fewer."""
    edges = [float(price.included), *(float(stair.above) for stair in price.stair)]
    return any(exceeds(units, edge) and exceeds(-units, -edge) for edge in edges)


def _used_units(card: RateCard, meter: Meter, mine: list[tuple[MeteredFlow, float]], unit: float) -> list[_Used]:
    """What each flow used in a span: its weight's share of the month."""
    used: list[_Used] = []
    for (key, _, what, volume, _), weight in mine:
        if meter.counts == "check":
            used.append(_Used(key, volume.checks * weight, volume.checks * weight / unit))
            continue
        if volume.runs is None or what is None:
            continue
        each = per_run(meter, what, card)
        units = each / unit
        if meter.round_up == "run":
            rounded = what.rounded.get(meter.name, float(math.ceil(float(units) - 1e-9)))
            units = units * (rounded / float(units)) if units else rounded
        told = volume.evidence if meter.counts == "run" else weakest_evidence(volume.evidence, what.evidence)
        used.append(_Used(key, float(each) * float(volume.runs) * weight, units * volume.runs * weight, told))
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
