"""What is asked of some flows says of them what is said of the whole estate, and estimates no others."""

from __future__ import annotations

import random
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
from msgspec import structs

from builders import ask, flow, link, step
from conftest import Run, draws
from zeitbuch.app.estimate import narrow_estimate
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.estimate.records import EstateEstimate, Sampling
from zeitbuch.core.estimate.related_flows import related_flows
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model.records import Estate, Flow, Trigger
from zeitbuch.core.pricing.rate_card import Belongs, Host, Meter, MeterPrice, ModelRate, Price, RateCard

DAY = date(2026, 1, 1)
RATE = ModelRate("fulmar-mini-2", price=(Price(DAY, call=Decimal("0.01"), input=Decimal(1), output=Decimal(2)),))
METER = Meter("steps", "step", price=(MeterPrice(DAY, each=Decimal("0.001"), included=Decimal(5000)),))
BARE = RateCard("EUR", model=(RATE,))
SHARED = structs.replace(BARE, meter=(METER,), host=(Host("quay", ("steps",), flows=(Belongs(flow="*3"), Belongs(flow="*5"))),))  # fmt: skip


def drawn_flows(rng: random.Random, count: int = 9) -> list[Flow]:
    """Flows that call others by id or name, also ones that are not there, in circles, under one id or one name."""
    made = []
    for place in range(count):
        steps, links, before = [ask("a")], [link("t", "a")], "a"
        for number in range(rng.choice((0, 0, 1, 2))):
            other = rng.randrange(count + 1)
            key = f"c{number}"
            steps.append(step(key, "subflow", calls=rng.choice((f"f{other}", f"F{other}"))))
            steps.append(step(f"d{number}", "decide"))
            links += [link(before, f"d{number}"), link(f"d{number}", key, "case", "one"), link(f"d{number}", "a2", "case", "two")]  # fmt: skip
            before = key
        steps.append(ask("a2"))
        links.append(link(before, "a2"))
        kind = rng.choice(("webhook", "call", "webhook"))
        own = rng.randrange(count) if rng.random() < 0.1 else place
        made.append(flow(steps, links, id=f"f{own}", name=f"F{place}", triggers=(Trigger(id="t", kind=kind),)))
    return made


def plainly(result: EstateEstimate, wanted: frozenset[str]) -> EstateEstimate:
    return structs.replace(narrow_estimate(result, wanted), problems=())


@pytest.mark.parametrize("card", [BARE, SHARED], ids=["alone", "hosts"])
@pytest.mark.parametrize("sampled", [True, False])
def test_figures_of_some_flows_are_those_of_the_estate(card: RateCard, sampled: bool) -> None:
    left_out = 0
    for seed in range(draws(12)):
        rng = random.Random(seed)
        flows = drawn_flows(rng)
        rules = [Rule(flow=f"f{place}", trigger="t", runs=rng.choice((20.0, 300.0))) for place in range(0, 9, 2)]
        if seed % 3 == 0:
            rules.append(Rule(flow=f"f{rng.randrange(9)}", step="a", output=900, since=date(2026, 11, 11)))
        assumed = Assumptions(month="2026-11", assume=tuple(rules))
        wanted = frozenset(flow.id for flow in rng.sample(flows, rng.choice((1, 1, 2))))
        some = related_flows(flows, wanted, card)
        left_out += len(flows) - len(some)
        if sampled:
            how = Sampling(200, among=len(flows))
            found, awaited = (estimate_flows(each, card, assumed, how=how, wanted=wanted) for each in (some, flows))
        else:
            found, awaited = (estimate_exactly(Estate(tuple(each)), card, assumed) for each in (some, flows))
        assert plainly(found, wanted) == plainly(awaited, wanted), seed
    assert left_out > (20 if card is BARE else 5)


def test_so_many_worlds_are_drawn_as_for_the_estate() -> None:
    one = [flow([ask("a")], [link("t", "a")], id="f", triggers=(Trigger(id="t", kind="webhook"),))]
    assumed = Assumptions(month="2026-11", assume=(Rule(flow="f", trigger="t", runs=20.0),))
    few, many = (estimate_flows(one, BARE, assumed, how=Sampling(50, among=n)).flows[0].month_spread for n in (1, 2001))
    assert few is not None and many is not None and few.p90 != many.p90


def test_without_any_wanted_all_are_related() -> None:
    flows = drawn_flows(random.Random(1))
    assert related_flows(flows, frozenset(), BARE) is flows
    lonely = next(one for one in flows if not any(step.calls for step in one.steps))
    assert lonely in related_flows(flows, {lonely.id}, None)


def test_figures_asked_of_one_flow_are_its_row(demo: Path, run: Run) -> None:
    (demo / "rates.toml").write_text(
        (demo / "rates.toml").read_text().split("[[meter]]")[0]
    )  # no host bills all of them together
    whole = run("estimate", "-f", "csv", cwd=demo).out.splitlines()
    head, *rows = run("estimate", "--flow", "Customer letters", "-f", "csv", cwd=demo).out.splitlines()
    assert head == whole[0] and rows == [row for row in whole if row.startswith("Customer letters,")]
    for asked in (("--drivers",), ("--chart", "months")):
        ran = run("estimate", "--flow", "Customer letters", *asked, "-f", "json", cwd=demo)
        assert ran.code == 0 and "Timetable questions" not in ran.out


def test_what_is_left_to_declare_of_one_flow(demo: Path, run: Run) -> None:
    said = run("estimate", "--assume", "one.toml", "--flow", "Customer letters", cwd=demo).err
    text = (demo / "one.toml").read_text()
    named = {line for line in text.splitlines() if line.startswith("# flow = ")}
    assert "7 entries added" in said and named == {
        '# flow = "Customer letters"',
        '# flow = "Name of the flow"',
    }  # of the template
    assert (
        run("estimate", "--assume", "one.toml", cwd=demo).err.split()[1] != "0"
    )  # those of the others are added behind it
    assert (demo / "one.toml").read_text().startswith(text)
