"""Estimates: three demo flows recomputed by hand, the agent's law against a literal transcript, unknowns."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import ask, chain, flow, link, step
from conftest import ESTATE
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.quantities import DEFAULTS
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.pricing import token_count
from zeitbuch.core.pricing.call_content import usage_of
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard
from zeitbuch.readers.config.figures import load_assumptions, load_rates

CARD = load_rates(str(ESTATE / "rates.toml"))[0]
ASSUMED = load_assumptions(str(ESTATE / "assumptions.toml"))[0]


@pytest.fixture(scope="module")
def result(november: Estate) -> EstateEstimate:
    return estimate_exactly(november, CARD, ASSUMED)


def of(result: EstateEstimate, name: str) -> FlowEstimate:
    return next(f for f in result.flows if f.name == name)


def texts(estate: Estate, name: str, step_id: str, *placeholders: str) -> float:
    """Estimated tokens of a step's instruction text without its placeholders."""
    flow = estate.flow(name)
    assert flow is not None
    found = flow.step(step_id)
    assert found is not None and found.model is not None
    total = 0.0
    for prompt in found.model.prompts:
        text = prompt.text
        for p in placeholders:
            text = text.replace(p, " ")
        total += token_count.count_tokens(text) if text.strip() else 0.0
    return total


def test_lost_property_by_hand(november: Estate, result: EstateEstimate) -> None:
    name = "Lost property matching"
    # Describe: fails 2 % of the time, tried again twice: 1 + 0.02 + 0.02^2 attempts.
    describe = 1 + 0.02 + 0.02**2
    onward = 1 - 0.02**3
    # 65 % find candidates, of which there are 4.
    compare, write = onward * 0.65 * 4, onward * 0.65
    t2 = texts(november, name, "s2", "%[s1.body]%", "%[s1.received]%")
    t6 = texts(november, name, "s6", "%[s2.answer]%", "%[s5.item]%")
    t7 = texts(november, name, "s7", "%[s1.body]%", "%[s5.results]%")
    # What a trigger hands on: 250 tokens, twice. Described item: 80. Loop's item and results: 120.
    in2, out2 = t2 + 250 + 250, 80.0
    in6, out6 = t6 + 80 + 120, 10.0  # a label
    in7, out7 = t7 + 250 + 120, 350.0  # a draft, below its cap of 500
    mini = describe * (in2 * 0.30 + out2 * 1.20) + compare * (in6 * 0.30 + out6 * 1.20)
    large = write * (in7 * 2.40 + out7 * 9.60)
    found = of(result, name)
    assert found.calls == pytest.approx(describe + compare + write)
    assert found.input_tokens == pytest.approx(describe * in2 + compare * in6 + write * in7)
    assert float(found.cost.amount) == pytest.approx((mini + large) / 1e6)
    # November has 30 days of 288 checks, of which 4 % find something.
    assert found.checks == 30 * 288
    assert found.runs == pytest.approx(30 * 288 * 0.04)
    assert found.cost_month is not None
    assert float(found.cost_month.amount) == pytest.approx((mini + large) / 1e6 * 30 * 288 * 0.04)


def test_cargo_papers_by_hand(november: Estate, result: EstateEstimate) -> None:
    name = "Cargo papers screening"
    reached = 0.99  # reading the pages fails once in a hundred
    extract = reached * (1 + 0.05)  # tried again once
    t3, t4 = texts(november, name, "p3", "%[p2.pages]%"), texts(november, name, "p4", "%[p2.text]%")
    stamps = reached * ((t3 + 2600) * 1.10 / 1e6 + 150 * 4.40 / 1e6 + 3 * 0.0021)
    goods = extract * ((t4 + 2600) * 2.40 + 700 * 9.60) / 1e6
    found = of(result, name)
    assert float(found.cost.amount) == pytest.approx(stamps + goods)
    by = {s.id: s.passes for s in found.steps}
    # Both branches meet: the one that extracts fails for good with 0.05^2.
    assert by["p5"] == pytest.approx(reached * (1 - 0.05**2))
    assert by["p6"] == pytest.approx(by["p5"] / 2)
    assert by["p7"] == pytest.approx(by["p5"])
    assert by["p8"] == pytest.approx(reached * 0.05**2)
    # The fault logger is called by this flow, by every cabin damage claim (35), and 40 times by faults; the calls of the
    # crew swap and the weather warnings follow failures, which nothing gives a share to.
    swap_fails = 35.0
    assert of(result, "Fault logger").runs == pytest.approx(40 + 1900 * by["p8"] + swap_fails)


def test_announcements_by_hand(november: Estate, result: EstateEstimate) -> None:
    name = "Passenger announcements"
    draft = texts(november, name, "draft", "<=sailings.rows=>")
    translate = texts(november, name, "translate", "<=languages.item=>", "<=draft.text=>")
    cost = (draft + 300) * 2.40 + 350 * 9.60  # rows of a table: 300 tokens; a draft: 350
    cost += 4 * ((translate + 200 + 350) * 0.30 + 350 * 1.20)  # four languages; a loop's item: 200
    cost += 4 * 350 * 4 * 14.00  # the spoken text has 350 tokens of 4 letters
    found = of(result, name)
    assert float(found.cost.amount) == pytest.approx(cost / 1e6)
    assert found.runs == 25  # November 2026 has 30 days and 5 Sundays
    assert found.calls == 9


@pytest.mark.parametrize("turns", range(1, 11))
def test_agent_follows_a_literal_transcript(turns: int) -> None:
    f = flow(
        [ask("g", "You may look things up.", kind="agent"), step("t", "http", name="lookup")],
        [link("start", "g"), link("t", "g", "attach")],
    )
    rules = (Rule(step="g", turns=turns, output=90.0), Rule(step="t", size=210.0))
    book = AssumptionLookup(Assumptions(assume=rules), f)
    graph = Graph(f)
    passes = Passes(graph, book)
    use = usage_of(graph, f.steps[0], passes.of["g"], book, token_count.count_tokens)
    assert use is not None
    # A conversation simulated turn by turn: each turn reads everything said before it.
    seen = (
        token_count.count_tokens("You may look things up.")
        + token_count.count_tokens("lookup")
        + DEFAULTS["tool_frame"]
    )
    read = said = 0.0
    for turn in range(1, turns + 1):
        read += seen
        if turn < turns:
            said += DEFAULTS["tool_call"]
            seen += DEFAULTS["tool_call"] + 210.0
        else:
            said += 90.0
    assert use.total("input") == pytest.approx(read)
    assert use.total("output") == pytest.approx(said)
    assert passes.of["t"].runs == pytest.approx(turns - 1)


def test_model_without_price_is_unknown_and_never_zero() -> None:
    f = chain(ask("a", name="nobody-knows-1"), ask("b"))
    result = estimate_exactly(
        Estate(flows=(f,)), CARD, Assumptions(month="2026-02", assume=(Rule(trigger="start", runs=10.0),))
    )
    (found,) = result.flows
    assert found.cost.unknown == ("nobody-knows-1",)
    assert found.cost.amount > 0
    assert found.cost_month is not None and found.cost_month.unknown == ("nobody-knows-1",)
    assert result.total.cost_month.unknown == ("nobody-knows-1",)


def test_unknown_volume_stays_unknown() -> None:
    f = chain(ask("a"))
    result = estimate_exactly(Estate(flows=(f,)), CARD, Assumptions(), "2026-02")
    assert result.flows[0].cost_month is None
    assert result.total.unknown_volume == ("Flow",)


def test_switched_off_flow_costs_nothing() -> None:
    f = chain(ask("a"), state="off")
    assert estimate_exactly(Estate(flows=(f,)), CARD, Assumptions(), "2026-02").flows[0].runs == 0


def test_price_of_the_month_holds() -> None:
    f = chain(ask("a", name="fulmar-large-2"))
    costs = [
        estimate_exactly(Estate(flows=(f,)), CARD, Assumptions(), m).flows[0].cost.amount
        for m in ("2026-11", "2026-12")
    ]
    assert costs[1] < costs[0]
    assert estimate_exactly(Estate(flows=(f,)), CARD, Assumptions(), "2025-12").flows[0].cost.unknown == (
        "fulmar-large-2",
    )


def test_wrong_schedule_is_a_message_and_the_others_are_estimated(demo: Path, run: object) -> None:
    path = demo / "november/kvarte/announcements.json"
    path.write_text(path.read_text().replace("40 5 * * 1-6", "at dawn"))
    code, out, err = run("estimate", cwd=demo)  # type: ignore[operator]
    assert code == 2 and "announcements.json" in err and "found 'at dawn'" in err
    assert "44.32" in out and "no volume is known for Passenger announcements" in " ".join(out.split())


def test_patterns_name_models_and_prices_per_call_count() -> None:
    price = Price(
        since=__import__("datetime").date(2026, 1, 1), call=Decimal("0.5"), input=Decimal(0), output=Decimal(0)
    )
    card = RateCard(currency="EUR", model=(ModelRate("x", also=("skua-*",), price=(price,)),))
    f = chain(ask("a", name="skua-9"), ask("b", name="skua-10"))
    assert estimate_exactly(Estate(flows=(f,)), card, Assumptions(), "2026-02").flows[0].cost == Money(Decimal(1))


def test_flow_that_calls_itself_is_bounded_and_said() -> None:
    f = chain(ask("a"), step("again", "subflow", calls="Flow"))
    result = estimate_exactly(Estate(flows=(f,)), CARD, Assumptions(), "2026-02")
    assert "calls itself" in result.flows[0].notes[0]


def test_called_flow_is_counted_at_the_caller_too() -> None:
    inner = chain(ask("a"), id="inner", name="Inner", triggers=())
    outer = chain(step("l", "loop"), id="outer", name="Outer")
    outer = Flow(
        id="outer",
        name="Outer",
        triggers=outer.triggers,
        steps=(*outer.steps, step("c", "subflow", calls="inner", scope="l")),
        links=outer.links,
    )
    rules = (Rule(flow="outer", step="l", items=3.0), Rule(flow="outer", trigger="start", runs=5.0))
    result = estimate_exactly(Estate(flows=(inner, outer)), CARD, Assumptions(month="2026-02", assume=rules))
    one, both = result.flows
    assert one.runs == pytest.approx(15)
    assert float(both.with_called.amount) == pytest.approx(3 * float(one.cost.amount))


@given(st.lists(st.tuples(st.decimals(0, 9, places=3), st.sampled_from(["", "x", "y"])), max_size=6))
def test_money_adds_and_unknown_survives(parts: list[tuple[Decimal, str]]) -> None:
    total = Money()
    for amount, unknown in parts:
        total += Money(amount, (unknown,) if unknown else ())
    assert total.amount == sum((a for a, _ in parts), Decimal(0))
    assert set(total.unknown) == {u for _, u in parts if u}


def test_evidence_shares_sum_to_one(result: EstateEstimate) -> None:
    for f in result.flows:
        s = f.evidence
        if f.name == "Booking check":
            continue  # costs nothing: there is nothing to rest on
        assert s.default + s.declared + s.measured + s.export == pytest.approx(1)


def test_the_most_specific_rule_wins_and_later_beats_equal() -> None:
    rules = (
        Rule(step="a", failure=0.5),
        Rule(failure=0.1),
        Rule(step="a*", failure=0.2),
        Rule(flow="other", step="a", failure=0.9),
    )
    f = chain(step("a"), step("ab"), step("b"))
    book = AssumptionLookup(Assumptions(assume=rules), f)
    assert [book.of_step("failure", s).amount for s in f.steps] == [0.5, 0.2, 0.1]
    assert (
        AssumptionLookup(Assumptions(assume=(*rules, Rule(step="a", failure=0.3))), f)
        .of_step("failure", f.steps[0])
        .amount
        == 0.3
    )


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("[[assume]]\nstep='x'\nfailure=1.5", "from 0 to 1, found 1.5"),
        ("[[assume]]\nstep='x'\nitems=-1", "from 0 to 1e+09, found -1"),
        ("[[assume]]\nstep='x'\nrounds=inf", "found inf"),
        ("[[assume]]\nstep='x'\nshare=0.5", "expected `case` beside `share`"),
        ("[[assume]]\nstep='x'", "found none"),
        ("[[assume]]\nfailures=1", "found `failures`; known are"),
        ("assumptions = 1\n[[assume", "expected TOML"),
    ],
)
def test_wrong_assumptions_stop_the_estimate(text: str, expected: str, tmp_path: Path, demo: Path, run: object) -> None:
    wrong = tmp_path / "wrong.toml"
    wrong.write_text(text)
    code, out, err = run("estimate", "--assumptions", str(wrong), cwd=demo)  # type: ignore[operator]
    assert code == 2 and out == ""
    assert expected in err and "wrong.toml" in err and "Traceback" not in err


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (
            "currency='EUR'\n[[model]]\nname='a'\n[[model.price]]\nfrom=2026-01-01\ninput=-1.0",
            "wrong.toml:6: error: expected a price for input from 0 to 1e+9, found -1.0",
        ),
        ("currency='EUR'\n[[model]]\nname='a'\n[[model]]\nname='a'", "wrong.toml:5: error: expected model 'a' once"),
        ("currency='euro'", "three capital letters"),
        (
            "currency='EUR'\n[[model]]\nname='a'\n[[model.price]]\nfrom=2026-01-01\ninputs=1.0",
            "found `inputs`; known are",
        ),
        ("currency='EUR'\n[[model]]\nname='a'\n[[model.price]]\nfrom=2026-02-30", "expected TOML"),
    ],
)
def test_wrong_rates_stop_the_estimate(text: str, expected: str, tmp_path: Path, demo: Path, run: object) -> None:
    wrong = tmp_path / "wrong.toml"
    wrong.write_text(text)
    code, out, err = run("estimate", "--rates", str(wrong), cwd=demo)  # type: ignore[operator]
    assert (code, out) == (2, "") and expected in err and "Traceback" not in err


def test_calls_by_a_flow_of_unknown_volume_are_said() -> None:
    inner = chain(ask("a"), id="inner", name="Inner")
    outer = chain(step("c", "subflow", calls="inner"), id="outer", name="Outer")
    rules = (Rule(flow="inner", trigger="start", runs=5.0),)
    one, _ = estimate_exactly(Estate(flows=(inner, outer)), CARD, Assumptions(month="2026-02", assume=rules)).flows
    assert one.runs == 5 and "calls by 'Outer' are not among its runs" in one.notes[0]


def test_drivers_keep_the_runs_that_other_flows_call() -> None:
    from zeitbuch.core.estimate.sensitivity import rank_drivers
    from zeitbuch.core.pricing.call_prices import Prices

    inner = chain(ask("a"), id="inner", name="Inner")
    outer = chain(step("c", "subflow", calls="inner"), id="outer", name="Outer")
    rules = (Rule(flow="inner", trigger="start", runs=100.0), Rule(flow="outer", trigger="start", runs=40.0))
    assumed = Assumptions(month="2026-02", assume=rules)
    when = (2026, 2)
    found = rank_drivers((inner, outer), Prices(CARD, when), when, assumed, wanted=frozenset({"inner"}))
    d = next(d for d in found if d.quantity == "runs")
    # 140 runs in all, of which the 100 declared ones are moved by a quarter.
    assert float(d.at_low / d.cost) == pytest.approx(115 / 140)
    assert float(d.at_high / d.cost) == pytest.approx(165 / 140)
