"""A month is the sum of its days: against a bill written day by day, with prices, rates of exchange and hosts that change on any of
them; and which month it is when nobody names one."""

from __future__ import annotations

import datetime
import json
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import ask, chain, step
from conftest import Run
from zeitbuch.core.assumptions.recurrence import count_firings
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import EstateEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow, Schedule, Trigger
from zeitbuch.core.pricing.meters import stairs_cost
from zeitbuch.core.pricing.rate_card import (
    Belongs,
    Exchange,
    Host,
    Meter,
    MeterPrice,
    ModelRate,
    Price,
    RateCard,
    Stair,
)

YEAR = date(2026, 1, 1)
NOVEMBER = [date(2026, 11, 1) + timedelta(days=place) for place in range(30)]


def scheduled(cron: str, calls: str = "") -> Flow:
    start = Trigger(id="start", kind="schedule", schedule=Schedule(cron=cron, zone="UTC"))
    more = [step("c", "subflow", calls=calls)] if calls else []
    return chain(ask("a"), *more, id="clocked", name="Clocked", triggers=(start,))


def model(*since: tuple[date, int], currency: str = "") -> ModelRate:
    """A model that is paid by the call."""
    prices = tuple(Price(since=day, call=Decimal(each), input=Decimal(0), output=Decimal(0)) for day, each in since)
    return ModelRate("fulmar-mini-2", currency=currency, price=prices)


def november(card: RateCard, *flows: Flow, rules: tuple[Rule, ...] = ()) -> EstateEstimate:
    return estimate_exactly(Estate(flows), card, Assumptions(assume=rules), "2026-11")


def test_a_price_that_doubles_on_the_16th_is_paid_for_half_of_the_month() -> None:
    card = RateCard("EUR", model=(model((YEAR, 10), (date(2026, 11, 16), 20)),))
    by_hand = chain(ask("a"), id="f", name="F")
    found = november(card, by_hand, rules=(Rule(trigger="start", runs=100.0),)).flows[0]
    assert (float(found.cost.amount), float(found.cost_month.amount)) == (15, 1500)  # type: ignore[union-attr]
    first, late = november(card, scheduled("0 9 1 * *")).flows[0], november(card, scheduled("0 9 20-29 * *")).flows[0]
    assert (float(first.cost.amount), float(late.cost.amount)) == (10, 20)
    assert float(late.cost_month.amount) == 200  # type: ignore[union-attr]


def test_a_called_flow_runs_on_the_days_of_its_callers() -> None:
    card = RateCard("EUR", model=(model((YEAR, 10), (date(2026, 11, 16), 20)),))
    called = chain(ask("b"), id="called", name="Called", triggers=(Trigger(id="t", kind="call"),))
    deeper = chain(ask("d"), step("c", "subflow", calls="called"), id="deeper", name="Deeper", triggers=())
    outer = scheduled("0 9 1 * *", calls="deeper")
    flows = (called, deeper, outer)
    exact = november(card, *flows)
    assert [float(flow.cost.amount) for flow in exact.flows] == [10, 10, 10]
    assert float(exact.flows[2].with_called.amount) == 30
    sampled = estimate_flows(flows, card, Assumptions(), "2026-11", Sampling(400))
    assert [float(flow.cost.amount) for flow in sampled.flows] == [10, 10, 10]
    assert [flow.spread.p50 for flow in sampled.flows if flow.spread is not None] == [10, 20, 30]
    mixed = november(card, *flows, rules=(Rule(flow="deeper", trigger="*", runs=3.0),))
    assert float(mixed.flows[2].cost.amount) == 10


def test_a_call_that_never_happens_says_nothing_of_days() -> None:
    card = RateCard("EUR", model=(model((YEAR, 10), (date(2026, 11, 16), 20)),))
    called = chain(ask("b"), id="called", name="Called", triggers=(Trigger(id="t", kind="call"),))
    never = scheduled("0 9 1 * *", calls="called")
    never = structs.replace(never, steps=(never.steps[0], structs.replace(never.steps[1], enabled=False)))
    for order in ((called, never), (never, called)):
        found = {flow.id: flow for flow in november(card, *order).flows}
        assert (found["called"].runs, float(found["clocked"].cost.amount)) == (0, 10)


def test_a_price_that_begins_later_matters_only_to_what_runs_before() -> None:
    card = RateCard("EUR", model=(model((date(2026, 11, 10), 5)),))
    assert november(card, scheduled("0 9 10-19 * *")).flows[0].cost_month == pytest.approx(
        november(card, scheduled("0 9 20-29 * *")).flows[0].cost_month
    )
    assert november(card, scheduled("0 9 9-18 * *")).flows[0].cost.unknown == ("fulmar-mini-2",)


def test_a_host_that_changes_on_the_11th_bills_its_days() -> None:
    meters = (
        Meter("old runs", "run", price=(MeterPrice(since=YEAR, each=Decimal(1)),)),
        Meter("new runs", "run", price=(MeterPrice(since=YEAR, each=Decimal(2)),)),
    )
    hosts = (
        Host("old", ("old runs",), base=Decimal(30), flows=(Belongs(until=date(2026, 11, 11)),)),
        Host("new", ("new runs",), base=Decimal(60), flows=(Belongs(since=date(2026, 11, 11)),)),
    )
    card = RateCard("EUR", model=(model((YEAR, 0)),), meter=meters, host=hosts)
    found = november(card, chain(ask("a"), id="f", name="F"), rules=(Rule(trigger="start", runs=300.0),))
    assert {(line.meter, round(line.quantity, 6), round(float(line.cost.amount), 6)) for line in found.meters} == {
        ("old runs", 100, 100),
        ("new runs", 200, 400),
    }
    assert {bill.host: round(float(bill.fee.amount), 6) for bill in found.hosts if not bill.meter} == {
        "old": 10,
        "new": 40,
    }
    assert float(found.total.fees_month.amount) == pytest.approx(50)


DAYS = st.sampled_from(NOVEMBER)
CRONS = st.sampled_from(["0 9 1 * *", "0 9 * * 1", "0 */6 * * *", "30 2 10-20 * *", "0 9 16 * *", "0 0 * * 1-5"])


@settings(max_examples=60)
@given(
    st.lists(st.tuples(DAYS, st.integers(0, 9)), max_size=3), st.lists(st.tuples(DAYS, st.integers(1, 5)), max_size=2),
    st.lists(st.tuples(DAYS, st.integers(0, 9), st.integers(0, 60)), max_size=2), DAYS, CRONS, st.sampled_from([0.0, 12.0, 300.0]),
)  # fmt: skip
def test_a_month_is_the_sum_of_its_days(
    prices: list[tuple[date, int]],
    worths: list[tuple[date, int]],
    metered: list[tuple[date, int, int]],
    moves: date,
    cron: str,
    declared: float,
) -> None:
    rate = model((YEAR, 3), *dict(prices).items(), currency="NOK")
    exchange = tuple(Exchange("NOK", Decimal(worth), since=day) for day, worth in {YEAR: 2, **dict(worths)}.items())
    terms = {YEAR: (2, 10), **{day: (each, included) for day, each, included in metered}}
    meter_prices = tuple(
        MeterPrice(since=day, each=Decimal(each), included=Decimal(included), stair=(Stair(Decimal(80), Decimal(1)),))
        for day, (each, included) in terms.items()
    )
    hosts = (
        Host("old", ("steps",), base=Decimal(90), flows=(Belongs(until=moves),)),
        Host("new", ("steps",), base=Decimal(30), currency="NOK", flows=(Belongs(since=moves),)),
    )
    card = RateCard(
        "EUR", model=(rate,), exchange=exchange, meter=(Meter("steps", "step", price=meter_prices),), host=hosts
    )
    called = chain(ask("b"), id="called", name="Called")
    found = november(
        card, scheduled(cron, calls="called"), called, rules=(Rule(flow="called", trigger="start", runs=declared),)
    )
    models, meters, fees = _bill_by_days(card, cron, declared, dict(prices), {YEAR: 2, **dict(worths)}, terms, moves)
    total = found.total
    assert float(total.cost_month.amount) == pytest.approx(models)
    assert float(total.meters_month.amount) == pytest.approx(meters)
    assert float(total.fees_month.amount) == pytest.approx(fees)


def _bill_by_days(
    card: RateCard,
    cron: str,
    declared: float,
    prices: dict[date, int],
    worths: dict[date, int],
    terms: dict[date, tuple[int, int]],
    moves: date,
) -> tuple[float, float, float]:
    """Models, meters and fees of the clocked flow (two steps, one call of a model) and the one it calls (one step), day by day."""
    schedule = Schedule(cron=cron, zone="UTC")
    clocked = {day: count_firings(schedule, day, day + timedelta(days=1)) for day in NOVEMBER}
    called = {day: clocked[day] + declared / 30 for day in NOVEMBER}
    if declared and sum(clocked.values()):
        # What is known of the days of a flow is its mix: by how many its callers start it, and how many nobody says when.
        assert sum(called.values()) == pytest.approx(sum(clocked.values()) + declared)

    def at(day: date, held: dict[date, int]) -> int:
        return held[max(since for since in held if since <= day)]

    models = sum((clocked[day] + called[day]) * at(day, {YEAR: 3, **prices}) * at(day, worths) for day in NOVEMBER)
    steps = {day: 2 * clocked[day] + called[day] for day in NOVEMBER}
    meters = 0.0
    for days in ([day for day in NOVEMBER if day < moves], [day for day in NOVEMBER if day >= moves]):
        whole = Decimal(sum(steps[day] for day in days))
        for day in days if whole else ():
            each, included = terms[max(since for since in terms if since <= day)]
            price = MeterPrice(
                since=YEAR, each=Decimal(each), included=Decimal(included), stair=(Stair(Decimal(80), Decimal(1)),)
            )
            meters += steps[day] / float(whole) * float(stairs_cost(whole, price))
    fees = sum(90 / 30 if day < moves else 30 / 30 * at(day, worths) for day in NOVEMBER)
    return models, meters, fees


def test_an_average_month_weighs_every_day_of_the_year() -> None:
    card = RateCard("EUR", model=(model((YEAR, 0), (date(2026, 12, 22), 365)),))
    by_hand = chain(ask("a"), id="f", name="F")
    found = estimate_exactly(Estate((by_hand,)), card, Assumptions(assume=(Rule(trigger="start", runs=10.0),)), "2026")
    assert float(found.flows[0].cost.amount) == pytest.approx(10)  # ten of 365 days


# -- which month --------------------------------------------------------------------------------------------------------------


def test_the_core_has_no_clock() -> None:
    with pytest.raises(ZeitbuchError, match="expected the month of the estimate"):
        estimate_exactly(Estate(()), None, Assumptions())


RATES = """
rate_card = 1
currency = "EUR"
[[model]]
name = "fulmar-mini-2"
[[model.price]]
from = 2020-01-01
input = 1.0
output = 1.0
[[model.price]]
from = 2099-01-01
input = 9.0
output = 9.0
"""
FLOW = '{"zeitbuch": 1, "flows": [{"id": "f", "name": "F", "triggers": [{"id": "t", "kind": "manual"}], "steps": []}]}'


def test_the_month_is_named_by_option_workspace_or_assumptions_and_else_is_this_one(
    tmp_path: Path, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "rates.toml").write_text(RATES)
    (tmp_path / "f.json").write_text(FLOW)
    before = datetime.date.today()
    ran = run("estimate", "f.json", "--rates", "rates.toml")
    months = {f"{day:%Y-%m}" for day in (before, datetime.date.today())}
    assert any(
        f"Estimate for {month}" in ran.out for month in months
    )  # not January 2099, the month of the newest price
    (tmp_path / "assumptions.toml").write_text('assumptions = 1\nmonth = "2026-03"\n')
    ran = run("estimate", "f.json", "--rates", "rates.toml", "--assumptions", "assumptions.toml")
    assert "Estimate for 2026-03" in ran.out
    (tmp_path / "zeitbuch.toml").write_text(
        'sources = ["f.json"]\nassumptions = "assumptions.toml"\nmonth = "2026-05"\n'
    )
    assert "Estimate for 2026-05" in run("estimate").out
    assert "Estimate for 2026-07" in run("estimate", "--month", "2026-07").out
    (tmp_path / "zeitbuch.toml").write_text('sources = ["f.json"]\nmonth = "May"\n')
    ran = run("estimate")
    assert ran.code == 2 and "expected a month as YYYY-MM" in ran.err and "zeitbuch.toml" in ran.err


def test_why_tells_each_price_of_the_month_with_its_share(tmp_path: Path, run: Run) -> None:
    (tmp_path / "rates.toml").write_text(RATES.replace("2099-01-01", "2026-11-16"))
    made = chain(ask("a"), id="f", name="F")
    (tmp_path / "f.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}))
    ran = run("estimate", "f.json", "--rates", "rates.toml", "--month", "2026-11", "--why", "F", cwd=tmp_path)
    lines = [" ".join(line.split()) for line in ran.out.splitlines() if "price of input" in line]
    assert [line.partition("price of input tokens ")[2] for line in lines] == [
        "1.0 EUR declared rate card: per 1,000,000 input tokens, from 2020-01-01, for 50% of the runs",
        "9.0 EUR declared rate card: per 1,000,000 input tokens, from 2026-11-16, for 50% of the runs",
    ]
    ran = run("estimate", "f.json", "--rates", "rates.toml", "--month", "2026-12", "--why", "F", cwd=tmp_path)
    assert ran.out.count("price of input tokens") == 1 and "% of the runs" not in ran.out
