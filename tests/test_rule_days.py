"""Rules that hold on some days only: a month is the sum of its days, whatever is declared for some of them."""

from __future__ import annotations

import csv
import io
import json
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import ask, chain, step
from conftest import Run
from trees import STARTED, Tree, grown
from zeitbuch.core.assumptions.days import split_days
from zeitbuch.core.assumptions.rules import WEEKDAYS, Assumptions, Rule, Season, assumption_problems
from zeitbuch.core.assumptions.shares import share_problems
from zeitbuch.core.estimate.day_parts import change_days, jobs_of
from zeitbuch.core.estimate.estate import bill_of, estimate_exactly, result_of, runs_of
from zeitbuch.core.estimate.records import EstateEstimate, Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.estimate.scenario import apply_scenario
from zeitbuch.core.estimate.scenario_records import Poll, Scenario
from zeitbuch.core.estimate.sensitivity import rank_drivers
from zeitbuch.core.model.records import Estate, Flow, ModelUse, Prompt, Ref, Schedule, Trigger
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.rate_card import Belongs, Host, Meter, MeterPrice, ModelRate, Price, RateCard

YEAR = date(2026, 1, 1)
NOVEMBER = [date(2026, 11, 1) + timedelta(place) for place in range(30)]
HALF = date(2026, 11, 16)
CARD = RateCard(
    "EUR",
    model=(
        ModelRate(
            "fulmar-mini-2",
            price=(
                Price(YEAR, input=Decimal(1), output=Decimal(10)),
                Price(date(2026, 11, 8), input=Decimal(3), output=Decimal(20)),
            ),
        ),
    ),
)
METERED = structs.replace(
    CARD,
    meter=(Meter("runs", "run", price=(MeterPrice(since=YEAR, each=Decimal("0.01"), included=Decimal(400)),)),),
    host=(Host("H", ("runs",), base=Decimal(3), flows=(Belongs(),)),),
)


def asking(key: str, *triggers: Trigger, calls: str = "") -> Flow:
    """A flow that asks a model about what its trigger hands over, and then calls another flow."""
    use = ModelUse(name="fulmar-mini-2", prompts=(Prompt(text="{x}", refs=(Ref(step="t", text="{x}"),)),))
    more = [step("c", "subflow", calls=calls)] if calls else []
    first = structs.replace(ask("m"), model=use)
    found = chain(first, *more, id=key, name=key.upper(), triggers=triggers)
    links = tuple(structs.replace(one, source="t") if one.source == "start" else one for one in found.links)
    return structs.replace(found, links=links)


HOOK = Trigger(id="t", kind="webhook")
CLOCK = Trigger(id="t", kind="schedule", schedule=Schedule(cron="0 8 * * *", zone="UTC"))


def november(rules: list[Rule], *flows: Flow, card: RateCard = METERED) -> EstateEstimate:
    return estimate_exactly(Estate(flows), card, Assumptions(assume=tuple(rules)), "2026-11")


def held_on(rules: list[Rule], quantity: str, flow: str, day: date) -> float:
    """What the last fitting rule says, one of some days before one of all."""
    told = [(place, r) for place, r in enumerate(rules) if r.flow in (flow, "*") and r.holds_on(day)]
    said = [(r.flow != "*", r.dated, place) for place, r in told if isinstance(getattr(r, quantity), float)]
    return float(getattr(rules[max(said)[2]], quantity))


WEEKS = st.sampled_from([(), (), ("saturday", "sunday"), ("monday",), WEEKDAYS[:5]])
EDGES = st.none() | st.sampled_from(NOVEMBER)


@st.composite
def dated(draw: st.DrawFn) -> Rule:
    """Runs, a size or an answer of one flow on some days."""
    since, until = draw(EDGES), draw(EDGES)
    quantity = draw(st.sampled_from(["runs", "size", "output"]))
    where = {"step": "m"} if quantity == "output" else {"trigger": "t"}
    flow = draw(st.sampled_from(["a", "b"]))
    rule = Rule(flow=flow, since=since, until=until, weekdays=draw(WEEKS), **where)  # type: ignore[arg-type]
    return structs.replace(rule, **{quantity: float(draw(st.integers(1, 900)))})


@settings(max_examples=60, deadline=None)
@given(st.lists(dated(), max_size=4), st.booleans())
def test_a_bill_is_that_of_its_days(more: list[Rule], metered: bool) -> None:
    """Two flows, the first calls the second, which a clock starts too: each day by hand, the allowance over the whole month."""
    plain = [Rule(flow=f, trigger="t", size=1000.0) for f in "ab"] + [Rule(flow="*", step="m", output=100.0)]
    rules = [*plain, Rule(flow="a", trigger="t", runs=300.0), *[r for r in more if r.flow == "a" or not _runs(r)]]
    found = november(rules, asking("a", HOOK, calls="b"), asking("b", CLOCK), card=METERED if metered else CARD)
    spent = count = 0.0
    for day in NOVEMBER:
        runs = {"a": held_on(rules, "runs", "a", day) / 30}
        runs["b"] = runs["a"] + 1
        for key, number in runs.items():
            price, answer = (1, 10) if day < date(2026, 11, 8) else (3, 20)
            each = held_on(rules, "size", key, day) * price + held_on(rules, "output", key, day) * answer
            spent, count = spent + number * each / 1e6, count + number
    total = found.total
    assert total.runs == pytest.approx(count)
    assert float(total.cost_month.amount) == pytest.approx(spent)
    assert float(total.meters_month.amount) == pytest.approx(max(0.0, count - 400) * 0.01 if metered else 0.0)
    assert sum(float(f.cost.amount) * (f.runs or 0.0) for f in found.flows) == pytest.approx(spent)
    assert sum(sum(float(s.cost.amount) for s in f.steps) * (f.runs or 0.0) for f in found.flows) == pytest.approx(
        spent
    )


def _runs(rule: Rule) -> bool:
    return isinstance(rule.runs, float)


@settings(max_examples=40, deadline=None)
@given(STARTED, st.sampled_from([{"since": HALF}, {"until": HALF}, {"weekdays": ("tuesday", "friday")}]))
def test_flows_of_any_shape_are_the_mean_of_their_days(tree: Tree, when: dict[str, object]) -> None:
    """All that is declared holds on some days: the figures are those with it and those without, by their share of the days."""
    shape, rules = grown(tree)
    shape = structs.replace(shape, triggers=tuple(structs.replace(one, kind="webhook") for one in shape.triggers))
    runs = Rule(trigger="*", runs=90.0)
    on = november([*[structs.replace(rule, **when) for rule in rules], runs], shape).flows[0]
    with_it, without = november([*rules, runs], shape).flows[0], november([runs], shape).flows[0]
    share = sum(structs.replace(runs, **when).holds_on(day) for day in NOVEMBER) / 30
    assert on.runs == pytest.approx(90)
    assert on.calls == pytest.approx(share * with_it.calls + (1 - share) * without.calls, rel=1e-9)
    passes = {s.id: s.passes for s in on.steps}
    for mine, other in zip(with_it.steps, without.steps, strict=True):
        assert passes[mine.id] == pytest.approx(share * mine.passes + (1 - share) * other.passes, rel=1e-9)


FLOWS = (asking("a", HOOK, calls="b"), asking("b", CLOCK), asking("c", HOOK))
RULES = (
    Rule(flow="*", trigger="t", size=1000.0), Rule(flow="*", step="m", output=100.0), Rule(flow="*", trigger="t", runs=300.0),
    Rule(flow="a", trigger="t", runs=900.0, since=HALF), Rule(flow="a", trigger="t", size=2000.0, since=HALF),
    Rule(flow="b", trigger="t", size=4000.0, weekdays=("saturday", "sunday")),
)  # fmt: skip


def test_sampled_months_are_those_of_the_sum() -> None:
    assumptions = Assumptions(assume=RULES)
    exact = estimate_exactly(Estate(FLOWS), METERED, assumptions, "2026-11")
    drawn = estimate_flows(FLOWS, METERED, assumptions, "2026-11", Sampling(2000), True)
    assert [f.id for f in drawn.flows] == ["a", "b", "c"]
    for mine, other in zip(exact.flows, drawn.flows, strict=True):
        assert (other.runs, other.calls) == pytest.approx((mine.runs, mine.calls))
        assert float(other.cost.amount) == pytest.approx(float(mine.cost.amount))
        assert other.month_spread is not None and other.spread is not None and other.uses_month is not None
        month = float((mine.cost_month + mine.meters_month).amount)  # type: ignore[operator]
        assert other.month_spread.mean == pytest.approx(month, rel=0.01)
        assert other.spread.mean == pytest.approx(float(mine.with_called.amount), rel=0.02)
        assert other.uses_month.calls.mean == pytest.approx(mine.calls_month, rel=0.01)
    assert drawn.total.spread is not None
    total = exact.total.cost_month + exact.total.meters_month + exact.total.fees_month
    assert drawn.total.spread.mean == pytest.approx(float(total.amount), rel=0.01)
    # The runs of `a` come by chance on every day by itself: 150 and 450 of them vary as 600 do.
    alone = estimate_flows(FLOWS[2:], CARD, Assumptions(assume=RULES[:3]), "2026-11", Sampling(2000)).flows[0]
    split = Rule(flow="c", trigger="t", size=1000.0, since=HALF)
    parts = estimate_flows(FLOWS[2:], CARD, Assumptions(assume=(*RULES[:3], split)), "2026-11", Sampling(2000)).flows[0]
    assert alone.month_spread is not None and parts.month_spread is not None
    assert parts.month_spread.p90 == pytest.approx(alone.month_spread.p90, rel=0.01)


def test_flows_that_call_each_other_are_taken_apart_together_and_others_stay_whole() -> None:
    assumptions = Assumptions(assume=(Rule(flow="b", step="m", output=9.0, since=HALF),))
    jobs = jobs_of(["a", "b", "c"], FLOWS, assumptions, (2026, 11))
    assert [(job.flow.id, job.part.number if job.part else None) for job in jobs] == [
        ("a", 0), ("a", 1), ("b", 0), ("b", 1), ("c", None),
    ]  # fmt: skip
    assert [len(jobs_of(["a", "b", "c"], FLOWS, assumptions, (2026, month))) for month in (10, 12)] == [3, 3]
    for month, value in (("2026-10", "default"), ("2026-12", "declared")):
        found = estimate_exactly(Estate(FLOWS), CARD, assumptions, month).flows[1]
        assert getattr(found.evidence, value) > 0 and found.output_tokens == (
            9 if value == "declared" else pytest.approx(250)
        )


BOTH = asking("both", HOOK, structs.replace(CLOCK, id="c"))
LATER = structs.replace(BOTH.steps[0], id="n", name="n")
LED = structs.replace(
    BOTH, steps=(*BOTH.steps, LATER),
    links=(*BOTH.links, *[structs.replace(BOTH.links[0], source=one, target="n") for one in ("m", "c")]),
)  # fmt: skip
SUMMER = Season((1.0,) * 5 + (3.0,) * 3 + (1.0,) * 4, "both")


@settings(max_examples=40, deadline=None)
@given(st.lists(dated(), max_size=3), st.lists(st.integers(1, 12), min_size=2, max_size=4), st.booleans())
def test_a_month_made_from_another_is_the_same_as_afresh(more: list[Rule], months: list[int], metered: bool) -> None:
    """What of a flow's figures is taken over from another month (see ``one_run``), and the bill without a word of its flows."""
    card = METERED if metered else CARD
    estate = Estate((*FLOWS, LED))
    assumptions = Assumptions(assume=(*RULES[: 3 if metered else 6], *more), season=(SUMMER,))
    before = runs_of(estate, card, assumptions, f"2026-{months[0]:02d}")
    for number in months[1:]:
        month = f"2026-{number:02d}"
        afresh, detail = estimate_exactly(estate, card, assumptions, month), number % 2 == 0
        found = runs_of(estate, card, assumptions, month, like=before, detail=detail)
        made = result_of(found)
        whole = afresh.flows if detail else tuple(structs.replace(one, steps=()) for one in afresh.flows)
        assert made == structs.replace(afresh, flows=whole)
        assert bill_of(found) == pytest.approx(made.total.bill_month.amount, rel=Decimal("1e-20"))
        before = found if detail else before


def test_an_average_month_weighs_the_days_of_the_year() -> None:
    rules = (*RULES[:3], Rule(flow="c", trigger="t", runs=900.0, since=HALF))
    found = estimate_exactly(Estate(FLOWS[2:]), METERED, Assumptions(assume=rules), "2026")
    assert found.flows[0].runs == pytest.approx((300 * 319 + 900 * 46) / 365)
    above = [
        max(0.0, runs - 400)
        for runs in (*[300 * 12 / 365 * days for days in (31, 28, 31, 30, 31, 30, 31, 31, 30, 31)],)
    ]
    late = [(300 * 15 + 900 * 15) * 12 / 365 - 400, 900 * 31 * 12 / 365 - 400]
    assert float(found.total.meters_month.amount) == pytest.approx((sum(above) + sum(late)) * 0.01 / 12)


def test_a_volume_of_some_days_leaves_the_others_unknown() -> None:
    found = november([*RULES[:2], Rule(flow="c", trigger="t", runs=300.0, weekdays=WEEKDAYS[:5])], FLOWS[2]).flows[0]
    assert found.runs is None and found.cost_month is None and "no volume declared" in found.runs_why
    assert "on 9 days from 2026-11-01" in found.runs_why
    # What is known of some days is no bill of the month: neither models nor meters, and nothing of chance.
    both = (*RULES[:3], Rule(flow="a", trigger="t", runs=300.0, weekdays=WEEKDAYS[:5]))
    known = [r for r in both if r is not RULES[2]] + [Rule(flow="c", trigger="t", runs=300.0)]
    whole = estimate_flows(
        (FLOWS[2], asking("a", HOOK)), METERED, Assumptions(assume=tuple(known)), "2026-11", Sampling(500)
    )
    alone = estimate_flows((FLOWS[2],), METERED, Assumptions(assume=tuple(known)), "2026-11", Sampling(500))
    assert whole.flows[1].runs is None and whole.flows[1].meters_month is None
    assert whole.total.meters_month == alone.total.meters_month
    assert whole.total.spread_of_known is not None and alone.total.spread is not None
    assert whole.total.spread_of_known.p90 == pytest.approx(alone.total.spread.p90)


def test_drivers_move_each_entry_on_its_own_days() -> None:
    assumptions = Assumptions(assume=RULES)
    prices = Prices(METERED, (2026, 11), None, change_days(assumptions, (2026, 11)))
    found = {driver.what: driver for driver in rank_drivers(FLOWS, prices, (2026, 11), assumptions)}
    late = found["runs of ‘t’, from 2026-11-16"]
    assert late.value == 900 and late.cost == found["runs of ‘t’"].cost
    moved = november([structs.replace(r, runs=675.0) if r is RULES[3] else r for r in RULES], *FLOWS).total
    whole = moved.cost_month + moved.meters_month + moved.fees_month
    assert float(late.at_low) == pytest.approx(float(whole.amount))


def test_shares_are_held_against_one_day_by_day() -> None:
    decide = step("d", "decide")
    made = chain(decide, ask("x"), ask("y"), id="f", name="F")
    links = (
        structs.replace(made.links[0], target="d"),
        structs.replace(made.links[1], source="d", target="x", label="x"),
        structs.replace(made.links[2], source="d", target="y", label="y"),
    )
    made = structs.replace(made, links=links)
    rules = (Rule(step="d", case="x", share=0.7), Rule(step="d", case="y", share=0.3))
    assert share_problems([made], Assumptions(assume=rules)) == []
    late = Rule(step="d", case="x", share=0.9, weekdays=("sunday",))
    (told,) = share_problems([made], Assumptions(assume=(*rules, late)))
    assert told.severity == "error" and "found 1.2" in told.message


def test_days_are_split_by_which_rules_hold() -> None:
    weekend, late = Rule(weekdays=("saturday", "sunday")), Rule(since=HALF)
    assert split_days([late], (2026, 10)) == split_days([late], (2026, 12)) == ()
    parts = split_days([weekend, late], (2026, 11))
    assert [sum(span.days for span in part.spans) for part in parts] == [5, 10, 11, 4]
    assert sum(part.share for part in parts) == pytest.approx(1)
    (wrong,) = assumption_problems(Assumptions(assume=(Rule(since=HALF, until=HALF, runs=1.0),)))
    assert "expected `until` after `from`" in wrong.message and wrong.origin is not None


def write_case(folder: Path, rules: str) -> None:
    links = [{"source": "t", "target": "m"}]
    prompt = {"text": "{x}", "refs": [{"step": "t", "text": "{x}"}]}
    ask_it = {"id": "m", "kind": "model", "model": {"name": "quill-small", "prompts": [prompt]}}
    flow = {"id": "a", "name": "A", "triggers": [{"id": "t", "kind": "webhook"}], "steps": [ask_it], "links": links}
    (folder / "f.json").write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))
    (folder / "a.toml").write_text(f"assumptions = 1\n{rules}")
    (folder / "r.toml").write_text(
        'rate_card = 1\ncurrency = "EUR"\n[[model]]\nname = "quill-small"\n[[model.price]]\nfrom = 2026-01-01\ninput = 1\noutput = 1\n'
    )


ENTRY = '[[assume]]\nflow = "A"\ntrigger = "t"\nruns = 300\nsize = 1000\n[[assume]]\nstep = "m"\noutput = 0\n'
LATE = '[[assume]]\nflow = "A"\ntrigger = "t"\nfrom = 2026-11-16\nweekdays = ["monday"]\nruns = 900\nsize = 2000\n'
WHERE = ("f.json", "--assumptions", "a.toml", "--rates", "r.toml", "--month", "2026-11")


def test_an_entry_names_its_days(tmp_path: Path, run: Run) -> None:
    write_case(tmp_path, ENTRY + LATE)
    ran = run("estimate", *WHERE, "--format", "csv", cwd=tmp_path)
    (row,) = csv.DictReader(io.StringIO(ran.out))
    # 27 days of 10 runs with 1,000 tokens, three Mondays of 30 with 2,000.
    assert float(row["runs"]) == 360 and float(row["all_month"]) == pytest.approx(0.45)
    why = run("estimate", *WHERE, "--why", "A", cwd=tmp_path)
    assert "assumptions for A/t (from 2026-11-16, monday), on 3 days from 2026-11-16" in " ".join(why.out.split())
    assert "90 runs x 0.0020 EUR" in why.out and "bill of the month" in why.out


@pytest.mark.parametrize(
    ("entry", "said"),
    [
        (LATE.replace('"monday"', '"mon"'), "wednesday; found 'mon'"),
        (LATE.replace("2026-11-16", '"soon"'), "expected a date"),
        (LATE.replace("runs", "until = 2026-11-16\nruns"), "expected `until` after `from` (2026-11-16), found 2026-11-16"),
    ],
)  # fmt: skip
def test_days_that_are_none_are_told_with_their_place(tmp_path: Path, run: Run, entry: str, said: str) -> None:
    write_case(tmp_path, ENTRY + entry)
    ran = run("estimate", *WHERE, cwd=tmp_path)
    assert ran.code == 2 and "a.toml" in ran.err
    assert said in " ".join(ran.err.split())


def test_rarer_checks_find_on_every_day_what_was_found_there() -> None:
    poll = Trigger(id="t", kind="polling", schedule=Schedule(every=600))
    rules = (Rule(trigger="t", hit_rate=0.1), Rule(trigger="t", hit_rate=0.2, items=2.0, weekdays=("monday",)))
    applied, missed = apply_scenario(
        Scenario("rarer", change=(Poll("*", "*", 3600),)), Estate((asking("a", poll),)), CARD, Assumptions(assume=rules)
    )
    assert missed == []
    before = november(list(rules), asking("a", poll)).flows[0]
    after = estimate_exactly(applied.estate, CARD, applied.assumptions, "2026-11").flows[0]
    assert before.runs == pytest.approx(144 * (25 * 0.1 + 5 * 0.2))
    assert after.runs == pytest.approx(24 * (25 * (1 - 0.9**6) + 5 * (1 - 0.8**6)))
