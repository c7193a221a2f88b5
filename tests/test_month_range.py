"""The month's range: joint over flows, models, meters and fees; unknown parts stay unknown; drivers say what a changed assumption would."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from msgspec import structs
from scipy.stats import beta

from builders import ask, chain, link, step
from months_simulated import assumptions_of, card_of, flows_of, random_case
from test_coverage import places_of
from zeitbuch.core.assumptions import worlds as worlds_module
from zeitbuch.core.assumptions.quantities import QUANTITIES
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import Driver, EstateEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.estimate.sensitivity import rank_drivers
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.rate_card import RateCard

MONTH = "2026-02"
DOUBTED = Range(mean=300.0, mean_low=100.0, mean_high=700.0)


def plain_card(**more: Any) -> RateCard:
    """Answers cost a thousandth of a token each; nothing else does."""
    case = structs_replace(random_case(np.random.default_rng(0)), **more)
    return card_of(case)


def structs_replace(case: Any, **more: Any) -> Any:
    for name, value in more.items():
        setattr(case, name, value)
    return case


FREE = plain_card(included=1e9, stair=1.0)


def one(key: str, **more: Any) -> Flow:
    return chain(ask("a", "", "m"), id=key, name=key, **more)


def estimated(flows: list[Flow], rules: list[Rule], card: RateCard = FREE, **more: Any) -> EstateEstimate:
    return estimate_flows(flows, card, Assumptions(assume=tuple(rules)), MONTH, Sampling(1000), **more)


def width(result: EstateEstimate) -> float:
    spread = result.total.spread
    assert spread is not None
    return (spread.p90 - spread.p10) / spread.mean


def test_one_rule_for_all_flows_moves_them_together() -> None:
    """Sixteen flows with an unknown each even out; with one unknown for all they do not."""
    flows = [one(f"f{place}") for place in range(16)]
    runs = [Rule(flow=f.id, trigger="start", runs=10_000.0) for f in flows]
    together = estimated(flows, [*runs, Rule(flow="*", step="*", output=DOUBTED)])
    apart = estimated(flows, [*runs, *[Rule(flow=f.id, step="*", output=DOUBTED) for f in flows]])
    alone = estimated(flows[:1], [*runs, Rule(flow="*", step="*", output=DOUBTED)])
    assert width(together) == pytest.approx(width(alone), rel=0.1)
    assert width(apart) == pytest.approx(width(alone) / 4, rel=0.2)


def test_a_default_is_one_unknown_of_the_estate() -> None:
    """Answers that nobody declares: from half to double, in all flows together. A mean of runs that vary is none of that."""
    flows = [one(f"f{place}") for place in range(16)]
    runs = [Rule(flow=f.id, trigger="start", runs=10_000.0) for f in flows]
    assert width(estimated(flows, runs)) > 0.5
    varied = Rule(step="a", output=Range(125, 250, 375))
    assert width(estimated(flows, [*runs, varied])) < 0.02
    doubted = Rule(step="a", output=Range(125, 250, 375, mean_low=200, mean_high=350))
    assert 0.2 < width(estimated(flows, [*runs, doubted])) < 0.5


def test_called_flows_keep_their_doubt_and_follow_their_callers() -> None:
    inner = one("inner")
    outer = chain(step("c", "subflow", calls="inner"), id="outer", name="outer")
    calls = Rule(flow="outer", trigger="start", runs=Range(500, 1000, 3000))
    own = Rule(flow="inner", trigger="start", runs=Range(mean=1000.0, mean_low=10.0, mean_high=4000.0))
    certain = Rule(flow="inner", step="*", output=100.0)
    none = Rule(flow="inner", trigger="start", runs=0.0)
    by_calls = width(estimated([outer, inner], [calls, none, certain]))
    assert by_calls == pytest.approx(
        width(estimated([inner], [structs.replace(calls, flow="inner"), certain])), rel=0.1
    )
    assert width(estimated([outer, inner], [structs.replace(calls, runs=10.0), own, certain])) > 0.8
    # What chance adds comes once, with the runs that begin: few of them, with many calls each, vary as they do.
    loop = step("l", "loop")
    many = chain(loop, id="outer", name="outer")
    many = structs.replace(many, steps=(loop, step("c", "subflow", calls="inner", scope="l")))
    few = estimated(
        [many, inner],
        [Rule(flow="outer", trigger="start", runs=25.0), Rule(flow="outer", step="l", items=100.0), none, certain],
    )
    assert few.total.spread is not None
    # 25 runs by chance (Poisson), of 100 calls each: P10 and P90 of the number are 19 and 32, and nothing evens out.
    per_run = (0.05 + 0.1) * 100
    assert (few.total.spread.p10, few.total.spread.p90) == pytest.approx(
        (20 + 19 * per_run, 20 + 31.5 * per_run), rel=0.06
    )


def test_allowances_hold_in_every_world() -> None:
    """A meter whose allowance is used up in half of the worlds: nothing is due at the low end, much at the high one."""
    card = plain_card(included=100.0, stair=1e9)
    f = one("f")
    result = estimated([f], [Rule(trigger="start", runs=Range(50, 100, 150)), Rule(step="a", output=0.0)], card)
    spread = result.total.spread
    assert spread is not None
    assert spread.p10 == pytest.approx(20 + 0.05 * 79, rel=0.05)
    assert spread.p90 == pytest.approx(20 + 0.05 * 121 + 0.03 * 21, rel=0.05)
    # On average more is due than for the average month, in which nothing is.
    exact = estimate_exactly(
        Estate((f,)), card, Assumptions(assume=(Rule(trigger="start", runs=Range(50, 100, 150)),)), MONTH
    )
    assert exact.total.meters_month.amount == 0 and spread.mean > 20 + 0.05 * 100 + 0.15


def test_what_is_unknown_leaves_no_range_of_the_whole() -> None:
    known, other = one("known"), one("other")
    result = estimated([known, other], [Rule(flow="known", trigger="start", runs=100.0)])
    assert result.total.spread is None and result.total.spread_of_known is not None
    assert [f.month_spread is None for f in result.flows] == [False, True]
    assert (
        estimated(
            [known, other], [Rule(flow="known", trigger="start", runs=100.0)], wanted=frozenset({"known"})
        ).total.spread
        is not None
    )
    dear = chain(ask("a", "", "no such model"), id="dear", name="dear")
    priced = [Rule(flow="*", trigger="start", runs=100.0)]
    assert estimated([known, dear], priced).total.spread is None
    assert estimated([known, dear], priced, wanted=frozenset({"known"})).total.spread is not None
    result = estimated([dear], [Rule(trigger="start", runs=100.0)])
    assert (result.total.spread, result.flows[0].month_spread, result.flows[0].spread) == (None, None, None)


def test_calls_that_die_out_in_some_worlds_only_have_no_range() -> None:
    f = chain(ask("a", "", "m"), step("d", "decide"), id="f", name="f")
    again = step("c", "subflow", calls="f")
    f = structs.replace(
        f,
        steps=(*f.steps, again),
        links=(*f.links, link("d", "c", "case", "again"), link("d", "e", "case", "done"))[:-1],
    )
    rules = [
        Rule(trigger="start", runs=10.0),
        Rule(step="d", case="again", share=Range(mean=0.5, mean_low=0.1, mean_high=0.9)),
    ]
    calm = estimated([f], rules)
    assert calm.total.spread is not None and width(calm) > 0.3
    twice = structs.replace(f, steps=(*f.steps, step("c2", "subflow", calls="f")), links=(*f.links, link("c", "c2")))
    wild = estimated([twice], [rules[0], structs.replace(rules[1], share=Range(mean=0.4, mean_low=0.1, mean_high=0.8))])
    assert wild.total.spread is None and wild.flows[0].month_spread is None and wild.total.cost_month.amount > 0


def test_nothing_in_a_result_carries_its_worlds() -> None:
    """Results are plain numbers: worlds would fill memory and files."""

    def walk(value: Any, place: str) -> None:
        assert type(value) is not Uncertain, place
        if hasattr(value, "__struct_fields__"):
            for name in value.__struct_fields__:
                walk(getattr(value, name), f"{place}.{name}")
        elif isinstance(value, tuple | list):
            for at, item in enumerate(value):
                walk(item, f"{place}[{at}]")

    case = random_case(np.random.default_rng(3))
    for detail in (True, False):
        walk(
            estimate_flows(flows_of(case), card_of(case), assumptions_of(case), MONTH, Sampling(200), detail), "result"
        )


NARROW = [
    Range(mean=1e-3, mean_low=0, mean_high=1e9),
    Range(0, 0, 1e-300),
    Range(mean=0.999999999, mean_low=0, mean_high=1),
    Range(mean=1e9 - 1, mean_low=0, mean_high=1e9),
]


@pytest.mark.parametrize("figure", NARROW)
@pytest.mark.parametrize("quantity", ["output", "items", "runs", "turns"])
def test_ranges_beyond_all_measure_stay_numbers(quantity: str, figure: Range) -> None:
    bottom = QUANTITIES[quantity][0]
    said = {name: value + bottom for name, value in figure.given_numbers().items()}
    told = Rule(step="a", **{quantity: Range(**said)}) if quantity != "runs" else Rule(trigger="start", runs=figure)  # type: ignore[arg-type]
    rules = [Rule(trigger="start", runs=100.0), told]
    result = estimated([chain(ask("a", "", "m", kind="agent"), id="f", name="f")], rules)
    spread = result.total.spread
    assert spread is None or (np.isfinite([spread.mean, spread.p10, spread.p90]).all() and spread.p10 >= 0)


MUTANTS = {
    "no doubt in defaults": ("doubt_of", lambda old: lambda quantity, value: (0.0, 0.0)),
    "doubt from a quarter to four times": (
        "doubt_of",
        lambda old: lambda quantity, value: (value.amount / 4, min(value.amount * 4, 1.0 if value.amount < 1 else 1e9)),
    ),
}


@pytest.mark.parametrize("name", MUTANTS)
def test_a_wrong_doubt_does_not_cover_what_it_says(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    attribute, change = MUTANTS[name]
    monkeypatch.setattr(worlds_module, attribute, change(getattr(worlds_module, attribute)))
    rows = places_of(range(150))
    within = sum(low <= bill <= high for bill, low, high, _ in rows) / len(rows)
    assert not 0.72 <= within <= 0.88, within


# -- drivers -----------------------------------------------------------------------------------------------------------


def drivers(flows: tuple[Flow, ...], card: RateCard, assumed: Assumptions, **more: Any) -> list[Driver]:
    return rank_drivers(flows, Prices(card, (2026, 2)), (2026, 2), assumed, **more)


@pytest.mark.parametrize("seed", range(8))
def test_a_driver_says_what_a_changed_assumption_makes_of_the_bill(seed: int) -> None:
    """The bill at either end is the one estimated with the assumption set to it, meters, fees and called flows included."""
    case = random_case(np.random.default_rng(seed))
    flows, card, assumed = flows_of(case), card_of(case), assumptions_of(case)

    def bill(rules: tuple[Rule, ...]) -> float:
        total = estimate_exactly(Estate(flows), card, Assumptions(assume=rules), MONTH).total
        return float((total.cost_month + total.meters_month + total.fees_month).amount)

    found = drivers(flows, card, assumed)
    assert found and [d.swing for d in found] == sorted((d.swing for d in found), reverse=True)
    changed = 0
    for driver in found:
        assert float(driver.cost) == pytest.approx(bill(assumed.assume), rel=1e-9)
        places = [at for at, rule in enumerate(assumed.assume) if rule.given_quantities()[0][0] == driver.quantity]
        if driver.evidence == "default" or len(places) != 1 or driver.quantity in ("items", "turns", "failure"):
            continue
        for end, there in ((driver.low, driver.at_low), (driver.high, driver.at_high)):
            rules = list(assumed.assume)
            rules[places[0]] = structs.replace(rules[places[0]], **{driver.quantity: end})
            assert float(there) == pytest.approx(bill(tuple(rules)), rel=1e-4)
            changed += 1
    assert changed or case.share is None or case.output is None


def test_the_most_telling_of_many_assumptions_are_found(monkeypatch: pytest.MonkeyPatch) -> None:
    from zeitbuch.core.estimate import sensitivity

    flows = tuple(one(f"f{place}") for place in range(30))
    rules = tuple(Rule(flow=f.id, trigger="start", runs=10.0 * 1.3**place) for place, f in enumerate(flows))
    whole = drivers(flows, FREE, Assumptions(assume=rules))
    monkeypatch.setattr(sensitivity, "_MOST", 8)
    some = drivers(flows, FREE, Assumptions(assume=rules))
    assert len(some) == 8 and some[:4] == whole[:4]


def test_the_program_shows_low_likely_and_high(demo: Path, run: Any) -> None:
    code, out, err = run("estimate", cwd=demo, COLUMNS="200")
    assert code == 0, err
    assert {"low", "likely", "high"} <= set(out.splitlines()[2].split())
    assert "eight months in ten" in out
    # A flow of unknown volume: the sum says that it leaves something out.
    (demo / "half.toml").write_text('[[assume]]\nflow = "Harbour desk"\ntrigger = "*"\nruns = 420\n')
    code, out, err = run("estimate", "november/native", "--assumptions", "half.toml", cwd=demo, COLUMNS="200")
    assert code == 0 and "+ ?" in out, err


def test_the_range_of_a_budget_is_that_of_the_bill(demo: Path, run: Any) -> None:
    code, _, err = run("estimate", "--max-per-month", "140", cwd=demo)
    assert code == 0, err
    code, _, err = run("estimate", "--max-per-month", "140", "--measure", "p90", cwd=demo)
    assert code == 1 and "p90 per month is 1" in err


def test_the_evidence_of_a_bill_is_that_of_its_weakest_part() -> None:
    """Steps that a meter counts are no better known than the passes they come from; runs than the volume."""
    f = chain(step("d", "decide"), step("b", "http"), id="f", name="f")
    f = structs.replace(f, links=(link("start", "d"), link("d", "b", "case", "one"), link("d", "c", "case", "two"))[:2])
    declared = Rule(trigger="start", runs=1000.0)
    card = plain_card(included=0.0, stair=1e9)
    told = estimate_exactly(Estate((f,)), card, Assumptions(assume=(declared,)), MONTH).flows[0]
    assert told.meters_month is not None and told.meters_month.amount > 0
    assert (told.evidence_month.default, told.evidence_month.declared) == (1, 0)
    shared = Assumptions(assume=(declared, Rule(step="d", case="one", share=0.5)))
    told = estimate_exactly(Estate((f,)), card, shared, MONTH).flows[0]
    assert (told.evidence_month.default, told.evidence_month.declared) == (0, 1)


ALLOWANCE = """
rate_card = 1
currency = "EUR"
[[model]]
name = "p"
price = [{ from = 2026-01-01, input = 1, output = 10 }]
[[meter]]
name = "runs"
counts = "run"
price = [{ from = 2026-01-01, included = 1700, each = 1 }]
[[host]]
name = "H"
base = 0
meters = ["runs"]
flows = [{ flow = "*" }]
"""


def test_drivers_of_a_bent_bill_go_from_its_average_to_its_averages(tmp_path: Path, run: Any) -> None:
    """Two flows of 100 to 3,000 runs, 1,700 of all free: at 100 of the first, what is due for the second on average, not for its mean."""
    ask_it = {
        "id": "m",
        "kind": "model",
        "model": {"name": "p", "prompts": [{"text": "{q}", "refs": [{"step": "t", "text": "{q}"}]}]},
    }
    flow = {"triggers": [{"id": "t", "kind": "webhook"}], "steps": [ask_it], "links": [{"source": "t", "target": "m"}]}
    (tmp_path / "f.json").write_text(json.dumps({"zeitbuch": 1, "flows": [{"id": key, **flow} for key in "AB"]}))
    runs = "".join(
        f'[[assume]]\nflow = "{f}"\ntrigger = "t"\nruns = {{ low = 100, likely = 500, high = 3000 }}\nsize = 1000\n'
        for f in "AB"
    )
    (tmp_path / "a.toml").write_text(f'{runs}[[assume]]\nstep = "m"\noutput = 100\n')
    (tmp_path / "r.toml").write_text(ALLOWANCE)
    words = (
        "estimate",
        "f.json",
        "--assumptions",
        "a.toml",
        "--rates",
        "r.toml",
        "--month",
        "2026-11",
        "--format",
        "json",
    )
    first = next(
        d for d in json.loads(run(*words, "--drivers", cwd=tmp_path).out)["drivers"] if d["quantity"] == "runs"
    )
    shown = json.loads(run(*words, cwd=tmp_path).out)["total"]
    whole = sum(float(shown[part]["amount"]) for part in ("cost_month", "meters_month", "fees_month"))
    assert float(first["cost"]) == pytest.approx(whole, rel=1e-9)
    alpha = 6 * (850 - 100) / 2900  # PERT of 100, 500, 3,000: its mean is 850
    other = 100 + 2900 * beta(alpha, 6 - alpha).ppf((np.arange(100_000) + 0.5) / 100_000)
    models = 0.002 * (100 + 850), 0.002 * (3000 + 850)
    for end, model, there in zip((100, 3000), models, (first["at_low"], first["at_high"]), strict=True):
        due = np.maximum(0.0, end + other - 1700).mean() + model
        assert float(there) == pytest.approx(due, abs=0.015 * whole)
    # Where nothing is bent they start from the bill of the means, which is that of the averages.
    assumed = Assumptions(assume=(Rule(trigger="start", runs=Range(10, 1000, 6000)), Rule(step="a", output=0.0)))
    asked: list[int] = []
    for included in (1700.0, 1e9):
        drivers(
            (one("f"),),
            plain_card(included=included, stair=1e9),
            assumed,
            on_average=lambda: asked.append(1) or Decimal(9),
        )
    assert asked == [1]
