"""Scenarios: every kind of change, break-evens recomputed, proposals, and the program's own output."""

from __future__ import annotations

import json
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from builders import START, ask, chain, flow, link, step
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.estimate.comparison import Comparison, compare_options
from zeitbuch.core.estimate.proposals import find_proposals
from zeitbuch.core.estimate.scenario import apply_scenario
from zeitbuch.core.estimate.scenario_records import (
    Admit,
    AnyChange,
    Assume,
    Batch,
    Cache,
    Defer,
    Drop,
    Move,
    PlainCall,
    Poll,
    Scenario,
    SetParameter,
    SwapModel,
)
from zeitbuch.core.model.records import Estate, Flow, Ref, Schedule, Trigger
from zeitbuch.core.pricing.rate_card import Belongs, Host, Meter, MeterPrice, ModelRate, Price, RateCard

DAY = date(2026, 1, 1)


def price(given: str, got: str = "0", **more: Any) -> Price:
    return Price(since=DAY, input=Decimal(given), output=Decimal(got), **more)


CARD = RateCard(
    "EUR",
    model=(
        ModelRate("dear", price=(price("10", "40", cached=Decimal(1), deferred=Decimal("0.5")),)),
        ModelRate("cheap", price=(price("1", "4"),)),
    ),
)
TEXT = "Say in one word what this letter is about. " * 12


def estate(*flows: Flow) -> Estate:
    return Estate(flows)


def asked(*rules: Rule) -> Assumptions:
    return Assumptions(assume=(Rule(trigger="start", runs=1000.0), *rules))


def compared(
    f: Flow, *changes: AnyChange, rules: tuple[Rule, ...] = (), card: RateCard = CARD, month: str = "2026-02"
) -> Comparison:
    return compare_options(estate(f), card, asked(*rules), [Scenario("it", change=changes)], month)


def ratio(found: Comparison) -> float:
    return float(found.options[1].total.amount / found.options[0].total.amount)


def test_another_model() -> None:
    f = chain(ask("a", TEXT, name="dear", task="label"), ask("b", TEXT, name="cheap", task="label"))
    found = compared(f, SwapModel(step="a", to="cheap"))
    assert ratio(found) == pytest.approx(2 / 11)
    assert found.flows[0].touched
    assert compared(f, SwapModel(instead_of="che*", to="dear")).options[1].difference > 0


def test_parameters_caches_and_batches() -> None:
    f = chain(ask("a", TEXT, name="dear"))
    assert ratio(compared(f, Defer(step="a", share=1.0))) == pytest.approx(0.5)
    assert ratio(compared(f, Cache(share=0.5))) < 1
    short = compared(f, SetParameter(step="a", max_output=50))
    assert short.options[1].total.amount < short.options[0].total.amount
    again = compared(f, SetParameter(step="a", retries=2), rules=(Rule(step="a", failure=0.5),))
    assert ratio(again) == pytest.approx(1.75)


def test_triggers() -> None:
    event = Trigger(id="start", kind="event", condition="x > 1")
    f = chain(ask("a", TEXT, name="dear"), triggers=(event,))
    rules = Assumptions(assume=(Rule(trigger="start", events=1000.0, items=20.0, accept_rate=0.8),))
    more = compare_options(
        estate(f),
        CARD,
        rules,
        [Scenario("all in", change=(Admit(share=1.0),)), Scenario("tens", change=(Batch(size=10),))],
        "2026-02",
    )
    assert more.options[1].runs == pytest.approx(1000)
    assert more.options[2].runs > 1900
    poll = Trigger(id="start", kind="polling", schedule=Schedule(every=300))
    f = chain(ask("a", TEXT, name="dear"), triggers=(poll,))
    slow = compare_options(
        estate(f),
        CARD,
        Assumptions(assume=(Rule(trigger="start", hit_rate=0.02),)),
        [Scenario("slow", change=(Poll(every=3600),))],
        "2026-02",
    )
    assert slow.options[0].runs == pytest.approx(28 * 288 * 0.02)
    assert slow.options[1].runs == pytest.approx(28 * 24 * (1 - 0.98**12))


def test_a_condition_that_declared_runs_have_passed_is_said() -> None:
    f = chain(ask("a", TEXT, name="dear"))
    _, missed = apply_scenario(Scenario("x", change=(Admit(share=0.1),)), estate(f), CARD, asked())
    assert [p.code for p in missed] == ["scenario-nothing"] and "declare its `events`" in missed[0].hint


def test_agents_as_plain_calls_and_dropped_branches() -> None:
    agent = ask("g", TEXT, name="dear", kind="agent")
    f = flow(
        [agent, step("t", "tool"), step("m", "memory")],
        [link("start", "g"), link("t", "g", "attach"), link("m", "g", "attach")],
    )
    applied, _ = apply_scenario(Scenario("plain", change=(PlainCall(),)), estate(f), CARD, Assumptions())
    new = applied.estate.flows[0]
    assert [s.kind for s in new.steps] == ["model"] and [k.source for k in new.links] == ["start"]
    assert compared(f, PlainCall()).options[1].difference < 0
    body = [
        step("d", "decide"),
        ask("a", TEXT, name="dear"),
        step("l", "loop"),
        ask("b", TEXT, name="dear", scope="l"),
        step("end"),
    ]
    f = flow(
        body,
        [
            link("start", "d"),
            link("d", "a", "case", "x"),
            link("d", "l", "case", "y"),
            link("a", "end"),
            link("l", "end"),
        ],
    )
    applied, missed = apply_scenario(
        Scenario("drop", change=(Drop(step="l"), Drop(step="nowhere"))), estate(f), CARD, Assumptions()
    )
    assert [s.id for s in applied.estate.flows[0].steps] == ["d", "a", "end"]
    assert [p.code for p in missed] == ["scenario-nothing"]


def test_other_assumptions_come_first() -> None:
    f = flow([step("l", "loop"), ask("a", TEXT, name="dear", scope="l")], [link("start", "l")])
    rules = (Rule(flow="f", step="l", items=4.0),)
    found = compared(f, Assume(rule=Rule(items=Range(1, 2, 3))), rules=rules)
    assert ratio(found) == pytest.approx(0.5)


def hosted() -> RateCard:
    meter = Meter("runs", "run", price=(MeterPrice(since=DAY, each=Decimal("0.02")),))
    hosts = (Host("cloud", ("runs",), flows=(Belongs(),)), Host("own", (), Decimal(50)))
    return RateCard("EUR", model=CARD.model, meter=(meter,), host=hosts)


def test_moving_host_has_a_break_even_volume() -> None:
    f = chain(step("a"))
    found = compared(f, Move(to="own"), card=hosted())
    # 1,000 runs cost 20 metered and 50 flat: equal at 2,500 runs.
    assert found.options[1].difference == pytest.approx(Decimal(30))
    crossing = next(c for c in found.crossings if c.volume is not None)
    assert crossing.runs == pytest.approx(2500, rel=1e-3) and crossing.cheaper == "it"


def test_moving_host_from_a_date_and_a_break_even_month() -> None:
    c = hosted()
    dearer = MeterPrice(since=date(2026, 6, 1), each=Decimal("0.09"))
    c = structs.replace(c, meter=(structs.replace(c.meter[0], price=(*c.meter[0].price, dearer)),))
    f = chain(step("a"))
    found = compared(f, Move(to="own"), card=c)
    assert [x.month for x in found.crossings if x.month] == ["2026-06"]
    late = Move(to="own", since=date(2026, 4, 1))
    assert compared(f, late, card=c, month="2026-03").options[1].difference == 0
    assert compared(f, late, card=c, month="2026-04").options[1].difference == 30
    assert compared(f, late, card=c, month="2026-07").options[1].difference == -40


def test_proposals_are_found_and_their_savings_hold() -> None:
    card = RateCard("EUR", model=(*CARD.model,))
    long = "Follow these rules of the house to the letter. " * 40
    agent = ask("g", long, name="dear", kind="agent")
    label = ask("l", TEXT, name="dear", task="label")
    f = chain(agent, label, id="f")
    rules = asked(Rule(step="g", turns=3.0))
    found = find_proposals(estate(f), card, rules, "2026-02")
    titles = {p.title: p for p in found}
    assert "agent without tools or memory as a plain call" in titles
    assert any(t.startswith("cache") for t in titles) and any("for the task" in t for t in titles)
    for p in found:
        assert p.scenario is not None and p.check
        again = compare_options(estate(f), card, rules, [p.scenario], "2026-02", crossings=False)
        assert float(-again.options[1].difference) == pytest.approx(float(p.saving))
    assert [p.saving for p in found] == sorted((p.saving for p in found), reverse=True)


def test_a_call_before_a_filter_and_one_prompt_for_several_models() -> None:
    call = ask("c", TEXT, name="dear")
    reads = ask("r", "<x>", name="cheap")
    assert reads.model is not None
    reads = structs.replace(
        reads,
        model=structs.replace(
            reads.model, prompts=(structs.replace(reads.model.prompts[0], refs=(Ref(step="c", text="<x>"),)),)
        ),
    )
    decide = step("d", "decide", condition="amount > 10", refs=(Ref(step="start", path="amount"),))
    f = flow(
        [call, decide, reads, step("drop", "end")],
        [link("start", "c"), link("c", "d"), link("d", "r", "case", "yes"), link("d", "drop", "case", "no")],
    )
    rules = asked(Rule(flow="f", step="d", case="no", share=0.75))
    p = next(p for p in find_proposals(estate(f), CARD, rules, "2026-02") if "before the paid call" in p.title)
    from zeitbuch.core.estimate.estate import estimate_exactly

    spent = estimate_exactly(estate(f), CARD, rules, "2026-02").flows[0].steps[0].cost.amount * 1000
    assert float(p.saving) == pytest.approx(0.75 * float(spent)) and p.scenario is None
    twice = chain(ask("a", TEXT, name="dear"), ask("b", TEXT, name="cheap"), triggers=(START,))
    assert any("one model instead of 2" in p.title for p in find_proposals(estate(twice), CARD, asked(), "2026-02"))


def test_rare_polls_are_left_alone_and_eager_ones_slowed() -> None:
    poll = Trigger(id="p", kind="polling", schedule=Schedule(every=60))
    f = chain(ask("a", TEXT, name="dear"), triggers=(poll,))
    meter = Meter("checks", "check", price=(MeterPrice(since=DAY, each=Decimal("0.001")),))
    card = RateCard("EUR", model=CARD.model, meter=(meter,), host=(Host("h", ("checks",), flows=(Belongs(),)),))
    f = structs.replace(f, links=tuple(structs.replace(k, source="p") if k.source == "start" else k for k in f.links))
    eager = find_proposals(estate(f), card, Assumptions(assume=(Rule(trigger="p", hit_rate=0.01),)), "2026-02")
    assert any(p.title == "poll every 30 minutes instead of every minute" for p in eager)
    assert not any(
        "poll" in p.title
        for p in find_proposals(estate(f), card, Assumptions(assume=(Rule(trigger="p", hit_rate=0.6),)), "2026-02")
    )


# -- the program ---------------------------------------------------------------------------------------------------


def test_the_program_puts_scenarios_side_by_side(demo: Path, run: Any) -> None:
    names = [w for n in ("small-model", "own-machine", "calmer") for w in ("--scenario", f"scenarios/{n}.toml")]
    code, out, err = run("compare", *names, cwd=demo)
    assert code == 0, err
    assert "break-even of own machine with the base" in out and "small models" in out and "in total" in out
    code, out, _ = run("compare", *names, "-f", "json", cwd=demo)
    found = json.loads(out)
    assert [o["name"] for o in found["options"]] == ["base", "small models", "own machine", "calmer"]
    assert code == 0 and float(found["options"][1]["difference"]) < 0


def test_the_program_proposes_and_writes(demo: Path, run: Any) -> None:
    code, out, err = run("compare", "--propose", "--write", "made", cwd=demo)
    assert code == 0 and "saves EUR/month" in out and "check before" in out
    files = sorted((demo / "made").glob("*.toml"))
    assert files and err.count("written") == len(files)
    code, out, err = run("compare", *[w for f in files for w in ("--scenario", str(f))], cwd=demo)
    assert code == 0, err


@pytest.mark.parametrize(
    ("text", "line", "expected"),
    [
        ("name='x'", 1, "at least one [[change]]"),
        ("name='x'\n[[change]]\ndo='model'\nto='nobody'", 4, "model of the rate card in `to`, found 'nobody'"),
        ("name='x'\n[[change]]\ndo='admit'\nshare=1.5", 4, "share from 0 to 1, found 1.5"),
        ("name='x'\n[[change]]\ndo='host'\nto='Moon'", 4, "expected a host of the rate card"),
        ("name='x'\n[[change]]\ndo='poll'\nevery=0", 4, "seconds over 0"),
        ("name='x'\n[[change]]\ndo='fly'", 3, "Invalid value 'fly'"),
        ("name='x'\n[[change]]\ndo='assume'\nrule={ items=-1 }", 4, "expected items"),
        ("name='x'\n[[change]]\ndo='setting'\nmax_output=0", 4, "max_output from 1 upwards"),
    ],
)  # fmt: skip
def test_wrong_scenarios_are_said_with_their_line(text: str, line: int, expected: str, demo: Path, run: Any) -> None:
    (demo / "wrong.toml").write_text(text)
    code, out, err = run("compare", "--scenario", "wrong.toml", cwd=demo)
    assert (code, out) == (2, "") and expected in err and f"wrong.toml:{line}" in err and "Traceback" not in err


def test_without_anything_to_compare(demo: Path, run: Any) -> None:
    code, _, err = run("compare", cwd=demo)
    assert code == 2 and "expected --scenario FILE or --propose" in err
