"""Meters, hosts, exchange, prices with dates: by hand, and against a literal bill; what is wrong in a card, with its line."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec import structs

from builders import ask, chain, step
from zeitbuch.app.estimate import narrow_estimate
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.breakdown import group_estimate
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import EstateEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
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
from zeitbuch.readers.config.figures import load_rates
from zeitbuch.readers.input.toml_lines import line_of

DAY = date(2026, 1, 1)


def card(*meters: Meter, host: Host | None = None, **more: Any) -> RateCard:
    model = ModelRate("fulmar-mini-2", tier="small", price=(Price(since=DAY, input=Decimal(1), output=Decimal(1)),))
    hosts = (host or Host("h", tuple(m.name for m in meters), flows=(Belongs(),)),)
    return RateCard("EUR", model=more.pop("model", (model,)), meter=meters, host=hosts, **more)


def price(each: str, included: str = "0", stair: tuple[Stair, ...] = (), since: date = DAY) -> MeterPrice:
    return MeterPrice(since=since, each=Decimal(each), included=Decimal(included), stair=stair)


def named(key: str, *steps: Any, runs: float = 100.0) -> tuple[Flow, Rule]:
    return chain(*steps, id=key, name=key), Rule(flow=key, trigger="start", runs=runs)


def of(c: RateCard, *flows: tuple[Flow, Rule], more: tuple[Rule, ...] = (), month: str = "2026-02") -> EstateEstimate:
    rules = (*(r for _, r in flows), *more)
    return estimate_exactly(Estate(tuple(f for f, _ in flows)), c, Assumptions(assume=rules), month)


@given(
    st.integers(0, 400),
    st.integers(0, 100),
    st.integers(0, 5),
    st.lists(st.tuples(st.integers(1, 80), st.integers(0, 5)), max_size=3),
)
def test_stairs_against_a_bill_unit_by_unit(units: int, included: int, each: int, more: list[tuple[int, int]]) -> None:
    above, stairs = included, []
    for rise, cost in more:
        above += rise
        stairs.append(Stair(Decimal(above), Decimal(cost)))
    total = 0
    for unit in range(1, units + 1):
        if unit > included:
            rate = each
            for s in stairs:
                if unit > s.above:
                    rate = int(s.each)
            total += rate
    assert stairs_cost(Decimal(units), price(str(each), str(included), tuple(stairs))) == total


def test_the_allowance_is_for_all_flows_of_a_host_together() -> None:
    result = of(
        card(Meter("runs", "run", price=(price("0.1", "150"),))), named("a", step("x")), named("b", step("x"), runs=300)
    )
    assert result.total.meters_month.amount == (400 - 150) * Decimal("0.1")
    a, b = (f.meters_month for f in result.flows)
    assert a is not None and b is not None
    assert float(a.amount) == pytest.approx(25 * 100 / 400) and float(b.amount) == pytest.approx(25 * 300 / 400)


def test_steps_by_kind_free_kinds_and_tiers() -> None:
    meters = (
        Meter("all", "step", free=("shape",), price=(price("1"),)),
        Meter("web", "step", kinds=("http",), price=(price("1"),)),
        Meter("small", "call", tiers=("small",), price=(price("1"),)),
        Meter("calls", "call", price=(price("1"),)),
    )
    result = of(card(*meters), named("a", step("s"), step("w", "http"), ask("m"), ask("n", name="other"), runs=10))
    bills = {h.meter: float(h.cost.amount) for h in result.hosts}
    assert bills == {"all": 30, "web": 10, "small": 10, "calls": 20}


def test_checks_minutes_and_rounding() -> None:
    poll = Trigger(id="start", kind="polling", schedule=Schedule(every=3600))
    f = chain(step("x"), id="a", name="a", triggers=(poll,))
    meters = (
        Meter("checks", "check", price=(price("1", "72"),)),
        Meter("minutes", "minute", round_up="run", price=(price("1"),)),
        Meter("blocks", "minute", unit=Decimal(10), round_up="month", price=(price("1"),)),
    )
    rules = (Rule(flow="a", trigger="start", hit_rate=0.5), Rule(flow="a", step="x", seconds=90.0))
    result = estimate_exactly(Estate((f,)), card(*meters), Assumptions(assume=rules), "2026-02")
    bills = {h.meter: float(h.cost.amount) for h in result.hosts}
    runs = 28 * 24 / 2
    assert bills == {"checks": 28 * 24 - 72, "minutes": runs * 2, "blocks": -(-runs * 1.5 // 10)}


def test_rounding_in_every_run_is_that_of_the_sampled_runs() -> None:
    # Half of the runs take 40 seconds, half 80: one minute or two.
    from builders import flow, link

    f = flow(
        [step("d", "decide"), step("a"), step("b")],
        [link("start", "d"), link("d", "a", "case", "x"), link("d", "b", "case", "y")],
        id="a",
    )
    rules = (
        Rule(flow="a", step="a", seconds=40.0),
        Rule(flow="a", step="b", seconds=80.0),
        Rule(flow="a", trigger="start", runs=1000.0),
    )
    c = card(Meter("minutes", "minute", round_up="run", price=(price("1"),)))
    result = estimate_flows((f,), c, Assumptions(assume=rules), "2026-02", Sampling(8000))
    assert float(result.total.meters_month.amount) == pytest.approx(1500, rel=0.02)


def test_exchange_has_dates_and_what_has_none_is_unknown() -> None:
    model = ModelRate(
        "fulmar-mini-2",
        currency="NOK",
        price=(Price(since=DAY, call=Decimal(10), input=Decimal(0), output=Decimal(0)),),
    )
    rates = (Exchange("NOK", Decimal("0.1"), since=DAY), Exchange("NOK", Decimal("0.2"), since=date(2026, 3, 1)))
    c = RateCard("EUR", exchange=rates, model=(model,))
    flow = named("a", ask("m"))
    assert of(c, flow, month="2026-02").flows[0].cost.amount == 1
    assert of(c, flow, month="2026-03").flows[0].cost.amount == 2
    average = of(c, flow, month="2026").flows[0].cost
    assert float(average.amount) == pytest.approx((59 * 1 + 306 * 2) / 365)  # each day of the year weighs the same
    assert of(RateCard("EUR", model=(model,)), flow).flows[0].cost.unknown == ("fulmar-mini-2",)


def test_a_flow_moves_to_another_host_on_a_date() -> None:
    meter = Meter("runs", "run", price=(price("1"),))
    hosts = (
        Host("old", ("runs",), flows=(Belongs(),)),
        Host("new", (), Decimal(7), flows=(Belongs(flow="a", since=date(2026, 3, 1)),)),
    )
    c = RateCard("EUR", meter=(meter,), host=hosts)
    flows = (named("a", step("x")), named("b", step("x")))
    before, after = of(c, *flows, month="2026-02"), of(c, *flows, month="2026-03")
    assert [f.host for f in before.flows] == ["old", "old"] and before.total.fees_month.amount == 0
    assert [f.host for f in after.flows] == ["new", "old"] and after.total.fees_month.amount == 7
    assert after.total.meters_month.amount == 100


def test_cached_deferred_and_units_in_place_of_others() -> None:
    one = Price(since=DAY, input=Decimal(10), cached=Decimal(1), output=Decimal(0), deferred=Decimal("0.5"))
    c = RateCard("EUR", model=(ModelRate("fulmar-mini-2", price=(one,)),))
    f, rule = named("a", ask("m", "word " * 200))
    plain = of(c, (f, rule)).flows[0].cost.amount
    cached = of(c, (f, rule), more=(Rule(step="m", cached=0.5),)).flows[0].cost.amount
    half = of(c, (f, rule), more=(Rule(step="m", batched=1.0),)).flows[0].cost.amount
    assert float(cached / plain) == pytest.approx(0.5 + 0.5 * 0.1)
    assert float(half / plain) == pytest.approx(0.5)


BASE = "currency = 'EUR'\n"
WRONG = [
    ("[[model]]\nname='a'\n[[model.price]]\nfrom=2026-01-01\nuntil=2026-05-01\ninput=1.0\n[[model.price]]\nfrom=2026-03-01\ninput=2.0", 9, "do not overlap"),
    ("[[model]]\nname='a'\n[[model.price]]\nfrom=2026-01-01\nuntil=2025-05-01\ninput=1.0", 6, "`until` after `from`"),
    ("[[model]]\nname='a'\ncurrency='NOK'\n[[model.price]]\nfrom=2026-01-01\ninput=1.0", 4, "rate of exchange for NOK on 2026-01-01"),
    ("[[model]]\nname='a'\nfamily='q'\n[[model.price]]\nfrom=2026-01-01", 4, "tokenizer family"),
    ("[[exchange]]\ncurrency='NOK'\nfrom=2026-01-01\nrate=0.0", 5, "exchange from 1e-9"),
    ("[[meter]]\nname='m'\ncounts='steps'", 4, "found 'steps'"),
    ("[[meter]]\nname='m'\ncounts='step'\nkinds=['teleport']", 5, "expected a kind of step, found 'teleport'"),
    ("[[meter]]\nname='m'\ncounts='call'\ntiers=['gold']", 5, "tier of a model"),
    ("[[meter]]\nname='m'\ncounts='run'\nunit=0.0", 5, "unit from 1e-9"),
    ("[[meter]]\nname='m'\ncounts='run'\n[[meter.price]]\nfrom=2026-01-01\nincluded=10.0\n[[meter.price.stair]]\nabove=5.0\neach=1.0", 9, "stairs that rise"),
    ("[[host]]\nname='h'\nmeters=['m']", 4, "name of a meter"),
    ("[[host]]\nname='h'\n[[host.flows]]\nfrom=2026-02-01\nuntil=2026-01-01", 6, "`until` after `from`"),
    ("[[model]]\nname='a'\n[[model.price]]\nfrom=2026-02-31\ninput=1.0", 5, "expected TOML"),
    ("[[model]]\nname='a'\n[[model.price]]\nfrom=2026-01-01\nper_word=1.0", 6, "found `per_word`; known are"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "line", "expected"), WRONG, ids=[w[2] for w in WRONG])
def test_what_is_wrong_in_a_card_is_said_with_its_line(
    text: str, line: int, expected: str, tmp_path: Path, demo: Path, run: Any
) -> None:
    path = tmp_path / "wrong.toml"
    path.write_text(BASE + text)
    code, out, err = run("estimate", "--rates", str(path), cwd=demo)
    assert (code, out) == (2, "") and f"wrong.toml:{line}" in err and expected in err and "Traceback" not in err


def test_lines_of_nested_tables_and_texts_of_several_lines() -> None:
    text = '[[a]]\nx = """\n[[a]]\n"""\n[[a.b]]\ny = 1\n[[a]]\nz = { q = 1 }\n[[a.b]]\ny = 2\n'
    assert [line_of(text, p) for p in ("/a/0/x", "/a/0/b/0/y", "/a/1/z/q", "/a/1/b/0/y", "/nowhere")] == [
        2,
        6,
        8,
        10,
        None,
    ]


def test_the_demo_card_is_clean() -> None:
    from conftest import ESTATE

    assert load_rates(str(ESTATE / "rates.toml"))[1] == []


def test_flows_of_one_name_are_told_by_their_ids() -> None:
    """`--flow` showed the meters of every flow of that name; groups counted flows of one name as one."""
    meter = Meter("runs", counts="run", price=(price("1"),))
    (first, rule), (second, more) = named("a", ask("m", "x")), named("b", ask("m", "x"), runs=7.0)
    first, second = structs.replace(first, name="Twin"), structs.replace(second, name="Twin")
    result = of(card(meter), (first, rule), (second, more))
    assert [(line.flow, line.flow_id, line.quantity) for line in result.meters] == [
        ("Twin", "a", 100.0),
        ("Twin", "b", 7.0),
    ]
    narrow = narrow_estimate(result, frozenset({"b"}))
    assert [line.quantity for line in narrow.meters] == [7.0]
    assert [row.flows for row in group_estimate(result, "model")][:1] == [("Twin", "Twin")]
    assert [row.name for row in group_estimate(result, "flow")] == ["Twin", "Twin", "h: runs"]
    assert sorted(row.calls for row in group_estimate(result, "step")) == [0.0, 7.0, 100.0]
