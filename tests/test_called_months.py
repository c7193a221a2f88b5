"""The month of a flow that others call varies as their runs do: against plain simulations of what calls what."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from decimal import Decimal

import numpy as np
import pytest
from numpy.random import Generator
from numpy.typing import NDArray
from scipy.stats import gamma

from builders import ask, flow, link, step
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.distribution import thinned
from zeitbuch.core.estimate.month_draws import sum_of_many
from zeitbuch.core.estimate.records import EstateEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.estimate.varied_parts import VariedParts
from zeitbuch.core.model.records import Flow, Schedule, Trigger
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

PRICE = Price(date(2026, 1, 1), call=Decimal(1), input=Decimal(0), output=Decimal(0))
CARD = RateCard("EUR", model=(ModelRate("fulmar-mini-2", price=(PRICE,)),))
HOOK, CALLED = Trigger(id="hook", kind="webhook"), Trigger(id="called", kind="call")
Ints = NDArray[np.int64]
Count = Callable[[Ints, Generator], Ints]  # of so many runs that begin, those of the called flow


def called(key: str = "g") -> Flow:
    return flow([ask("a")], [link("called", "a")], id=key, name=key.upper(), triggers=(CALLED,))


def calling(*targets: str, each: str = "", case: bool = False, key: str = "f", begun: Trigger = HOOK) -> Flow:
    """A flow that calls others: in a loop, in one of several cases, or one after the other."""
    steps = [step("l", "loop")] if each else [step("d", "decide")] if case else []
    links = [link(begun.id, steps[0].id)] if steps else []
    before = begun.id
    for place, target in enumerate(targets):
        steps.append(step(f"c{place}", "subflow", calls=target, scope="l" if each else None))
        if case:
            links.append(link("d", f"c{place}", "case", f"k{place}"))
        elif not each:
            links.append(link(before, f"c{place}"))
            before = f"c{place}"
    return flow(steps, links, id=key, name=key.upper(), triggers=(begun,))


def in_loop(runs: Ints, _: Generator) -> Ints:
    return runs * 100


def at_times(runs: Ints, draw: Generator) -> Ints:
    """Half of the runs call it: one of two cases."""
    return draw.binomial(runs, 0.5)


def itself(runs: Ints, draw: Generator) -> Ints:
    """Every second run calls the flow again."""
    total, wave = runs.copy(), runs
    while wave.any():
        wave = draw.binomial(wave, 0.5)
        total = total + wave
    return total


def either(runs: Ints, _: Generator) -> Ints:
    return runs  # by the one flow or by the other, and each calls it once


LOOP = Rule(flow="f", step="l", items=100.0)
CASES: dict[str, tuple[tuple[Flow, ...], tuple[Rule, ...], str, Count]] = {
    "in a loop": ((calling("g", each="l"), called()), (LOOP,), "g", in_loop),
    "in one of two cases": (
        (calling("g", "h", case=True), called(), called("h")),
        (Rule(flow="f", step="d", case="k0", share=0.5),),
        "g",
        at_times,
    ),
    "through either of two": (
        (calling("m", "n", case=True), calling("g", key="m", begun=CALLED), calling("g", key="n", begun=CALLED), called()),
        (),
        "g",
        either,
    ),
    "itself": (
        (flow([ask("a"), step("d", "decide"), step("c", "subflow", calls="f")], [link("hook", "a"), link("a", "d"), link("d", "c", "case", "again")],
              id="f", name="F", triggers=(HOOK,)),),
        (Rule(flow="f", step="d", case="again", share=0.5),),
        "f",
        itself,
    ),
}  # fmt: skip


def estimated(flows: tuple[Flow, ...], *rules: Rule, month: str = "2026-11") -> EstateEstimate:
    return estimate_flows(flows, CARD, Assumptions(assume=rules), month, Sampling(4000))


@pytest.mark.parametrize("events", [10.0, 400.0])
@pytest.mark.parametrize("name", CASES)
def test_runs_of_a_called_flow_vary_as_those_that_lead_to_it(name: str, events: float) -> None:
    flows, rules, key, count = CASES[name]
    result = estimated(flows, *rules, Rule(flow="f", trigger="hook", events=events))
    spread = next(one for one in result.flows if one.id == key).month_spread
    draw = np.random.default_rng(5)
    true = count(draw.poisson(events, 200_000), draw)
    assert spread is not None
    low, middle, high = np.quantile(true, [0.1, 0.5, 0.9])
    width = high - low  # near enough: a tenth of the width
    for found, wanted in ((spread.p10, low), (spread.p50, middle), (spread.p90, high)):
        assert found == pytest.approx(wanted, abs=0.1 * width)
    assert spread.mean == pytest.approx(float(true.mean()), abs=0.06 * width)


def test_what_a_clock_leads_to_is_certain() -> None:
    clock = Trigger(id="clock", kind="schedule", schedule=Schedule(cron="0 6 * * *"))
    result = estimated((calling("g", each="l", begun=clock), called()), LOOP)
    spread = result.flows[1].month_spread
    assert spread is not None and (spread.p10, spread.p90) == (3000.0, 3000.0)


def test_a_declared_number_of_runs_holds_whatever_calls_there_are() -> None:
    rules = (LOOP, Rule(flow="f", trigger="hook", events=10.0), Rule(flow="g", trigger="*", runs=400.0))
    result = estimated((calling("g", each="l"), called()), *rules)
    spread = next(one for one in result.flows if one.id == "g").month_spread
    assert spread is not None and spread.mean == pytest.approx(400.0, rel=0.01)
    assert spread.p90 - spread.p10 == pytest.approx(2 * 1.2816 * 20, rel=0.15)


def test_a_year_varies_less_than_a_month() -> None:
    rules = (LOOP, Rule(flow="f", trigger="hook", events=10.0))
    found = estimated((calling("g", each="l"), called()), *rules, month="2026").flows
    year = next(one for one in found if one.id == "g").year_spread
    assert year is not None and year.mean == pytest.approx(12_000.0, rel=0.02)
    assert (year.p90 - year.p10) / year.mean == pytest.approx(2 * 1.2816 / 120**0.5, rel=0.15)


def test_what_samples_do_not_tell_of_a_circle_is_told() -> None:
    """A flow that calls itself 0.96 times a run, behind branches that only some triggers begin together: 1,000 samples know that to a few
    hundredths, and the circle makes more than its whole of them."""
    other = Trigger(id="other", kind="webhook")
    steps = [
        ask("a"),
        step("x", "http"),
        step("y", "http"),
        step("j", "join", join="all"),
        step("again", "subflow", calls="f"),
    ]
    steps += [step("d", "decide"), step("more", "subflow", calls="f")]
    links = [
        link("hook", "a"),
        link("hook", "x"),
        link("hook", "y"),
        link("other", "y"),
        link("x", "j"),
        link("y", "j"),
        link("j", "d"),
    ]
    links += [link("d", "again", "case", "c"), link("a", "more")]
    f = flow(steps, links, id="f", name="F", triggers=(HOOK, other))
    rules = [
        Rule(flow="f", step="x", failure=0.3),
        Rule(flow="f", step="d", case="c", share=0.5),
        Rule(flow="f", trigger="*", events=5.0),
    ]
    result = estimated((f,), *rules)
    notes, spread, whole = result.flows[0].notes, result.flows[0].month_spread, result.total.spread
    assert spread is None or (spread.error > 0.05 * spread.mean and whole is not None and whole.error >= spread.error)
    assert any("counts" in note and "times in the circle" in note and "known to ±" in note for note in notes), notes


def test_values_that_stand_for_others_keep_what_is_rare_and_large() -> None:
    parts = np.ones(10_000)
    parts[:5] = 1001.0  # a third of the whole
    kept = thinned(parts / parts.mean())
    assert float(kept.mean()) == pytest.approx(1.0) and float(kept.max()) / 256 == pytest.approx(1 / 3, rel=0.05)


def again_twice(share: float) -> tuple[Flow, Rule]:
    """A flow that in a part of its runs calls itself twice."""
    steps = [ask("a"), step("d", "decide"), step("c", "subflow", calls="f"), step("c2", "subflow", calls="f")]
    links = [link("hook", "a"), link("a", "d"), link("d", "c", "case", "again"), link("c", "c2")]
    made = flow(steps, links, id="f", name="F", triggers=(HOOK,))
    return made, Rule(flow="f", step="d", case="again", share=share)


def progeny(runs: Ints, share: float, draw: Generator) -> Ints:
    """All runs that so many lead to, themselves among them."""
    total, wave = runs.copy(), runs
    while wave.any():
        wave = 2 * draw.binomial(wave, share)
        total = total + wave
    return total


@pytest.mark.parametrize("events", [10.0, 200.0])
def test_a_skewed_bill_is_no_normal_one(events: float) -> None:
    """Of a circle that makes ten runs of one, the bill of an estate and that of its only flow are the same, and both as simulated."""
    made, rule = again_twice(0.45)
    result = estimated((made,), rule, Rule(flow="f", trigger="hook", events=events))
    draw = np.random.default_rng(5)
    wanted = np.quantile(progeny(draw.poisson(events, 200_000), 0.45, draw), [0.1, 0.5, 0.9])
    width = wanted[2] - wanted[0]
    for spread in (result.flows[0].month_spread, result.total.spread):
        assert spread is not None
        for found, value, near in zip((spread.p10, spread.p50, spread.p90), wanted, (0.03, 0.03, 0.08), strict=True):
            assert found == pytest.approx(value, abs=near * width)


@pytest.mark.parametrize("shape", [0.005, 0.02, 0.5, 30.0])
def test_sums_of_gamma_parts_are_gamma(shape: float) -> None:
    """Of 200 numbers that are gamma distributed with mean 1 the sum is so too, of 200 times the shape; and of such that are mirrored."""
    noise = np.random.default_rng(5).standard_normal(400_000)
    levels = [0.01, 0.1, 0.5, 0.9, 0.99]
    found = sum_of_many(np.full(400_000, 200.0), 1 / shape, 2 / shape**0.5, noise)
    wanted = gamma(200 * shape, scale=1 / shape)
    assert np.quantile(found, levels) == pytest.approx(wanted.ppf(levels), abs=0.03 * wanted.std())
    assert float(found.mean()) == pytest.approx(200.0, abs=0.02 * wanted.std())
    mirrored = sum_of_many(np.full(400_000, 200.0), 1 / shape, -2 / shape**0.5, noise)
    assert np.quantile(mirrored, levels) == pytest.approx(
        np.maximum(400 - wanted.isf(levels), 0), abs=0.03 * wanted.std()
    )


def test_parts_that_do_not_vary_leave_the_others_as_they_are() -> None:
    rng = np.random.default_rng(5)
    drawn = rng.gamma(2.0, 0.5, 4000)
    sums = VariedParts(np.array([np.full(4000, 1.0), drawn / drawn.mean()])).sum_over(np.full(50_000, 500.0), rng)
    assert float(sums[0].std()) == 0.0 and float(sums[1].std()) == pytest.approx((500 * drawn.var()) ** 0.5, rel=0.03)


def test_a_run_costs_what_all_that_it_leads_to_costs() -> None:
    """Two flows that call each other, and one of them a third: one run of each, against plain simulation."""
    f = flow(
        [ask("a"), step("d", "decide"), step("c", "subflow", calls="g"), step("c2", "subflow", calls="g")],
        [link("hook", "a"), link("a", "d"), link("d", "c", "case", "again"), link("c", "c2")],
        id="f", name="F", triggers=(HOOK,),
    )  # fmt: skip
    g = flow(
        [ask("a"), step("h", "subflow", calls="h"), step("d", "decide"), step("c", "subflow", calls="f")],
        [link("called", "a"), link("a", "h"), link("h", "d"), link("d", "c", "case", "back")],
        id="g", name="G", triggers=(CALLED,),
    )  # fmt: skip
    rules = [Rule(flow="f", step="d", case="again", share=0.6), Rule(flow="g", step="d", case="back", share=0.7)]
    result = estimated((f, g, called("h")), *rules, Rule(flow="f", trigger="hook", events=10.0))
    draw = np.random.default_rng(5)
    true = np.ones(200_000)
    wave = np.ones(200_000, dtype=np.int64)
    while wave.any():
        inner = 2 * draw.binomial(wave, 0.6)  # each g costs 1, and the h it calls 1
        wave = draw.binomial(inner, 0.7)
        true += inner * 2 + wave
    spread = result.flows[0].spread
    assert spread is not None and spread.mean == pytest.approx(float(true.mean()), rel=0.08)
    found = (spread.p10, spread.p50, spread.p90)
    assert found == pytest.approx(tuple(np.quantile(true, [0.1, 0.5, 0.9])), rel=0.1)


def test_calls_that_do_not_die_out_have_no_distribution() -> None:
    made, rule = again_twice(0.6)
    found = estimated((made,), rule, Rule(flow="f", trigger="hook", events=10.0)).flows[0]
    assert found.spread is None and found.month_spread is None
