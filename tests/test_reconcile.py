"""Estimates held against logs: what was planted is found first, parts add up, totals are those of the log to the cent."""

from __future__ import annotations

import json
import random
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import Run, draws
from usage_worlds import ANOMALIES, draw_world, price, simulate, write_log
from zeitbuch.core.actuals.reconcile import Asked, Log, reconcile
from zeitbuch.core.actuals.records import SIDES, Explanation, GroupGap, Reconciled
from zeitbuch.core.actuals.zero_reasons import with_zero_reasons
from zeitbuch.readers.usage.usage_log import read_usage

CENT = Decimal("0.01")


def log_of(world, folder: Path, rng: random.Random, form: str = "") -> Log:  # type: ignore[no-untyped-def]
    path, mapping = write_log(world, folder, rng, form)
    found = read_usage([str(path)], mapping)
    assert not found.problems, found.problems[:3]
    return Log(found.sums, found.runs, mapping, found.hours, found.part_days)


def reconciled(world, folder: Path, rng: random.Random, form: str = "", by="flow") -> Reconciled:  # type: ignore[no-untyped-def]
    return reconcile([log_of(world, folder, rng, form)], world.basis, Asked(by))


@pytest.mark.parametrize("seed", range(draws(1, 25)))
@pytest.mark.parametrize("plant", ANOMALIES, ids=lambda plant: plant.__name__)
def test_what_was_planted_is_explained_first(plant, seed: int, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    rng = random.Random(f"{plant.__name__} {seed}")
    world = draw_world(rng)
    plant(world, rng)
    result = reconciled(world, tmp_path, rng)
    code, subject = world.planted
    first = [one for one in result.explanations if one.money is None or one in result.explanations[:3]]
    assert any(one.code.startswith(code) and subject in one.subject for one in first), [*first, world.planted]
    assert result.logged == world.cost
    told = sum((one.money for one in result.explanations if one.money is not None), Decimal(0))
    assert result.unexplained == 0 and abs(told - result.difference) < Decimal("0.0001")  # type: ignore[operator]


@pytest.mark.parametrize("form", ["csv", "jsonl", "parquet", "xlsx"])
def test_a_log_as_estimated_leaves_next_to_nothing(form: str, tmp_path: Path) -> None:
    rng = random.Random(form)
    world = draw_world(rng)
    simulate(world, rng)
    log = log_of(world, tmp_path, rng, form)
    for by in SIDES:
        result = reconcile([log], world.basis, Asked(by))
        assert result.logged == world.cost == result.compared
        assert abs(float(result.difference / result.estimated)) < 0.01  # type: ignore[operator]
        assert sum((gap.logged_cost for gap in result.groups), Decimal(0)) == world.cost  # type: ignore[misc]
        assert sum((row.cost for row in result.rows), Decimal(0)) == world.cost  # type: ignore[misc]
        if by in ("flow", "day", "step", "model"):
            estimated = sum((gap.estimated_cost for gap in result.groups), Decimal(0))  # type: ignore[misc]
            assert abs(estimated - result.estimated) < CENT  # type: ignore[operator]
        assert not [
            one for one in result.explanations if one.code in ("price", "model-other", "clock-off", "lines-doubled")
        ]


def test_costs_by_the_rate_card_where_the_log_has_none(tmp_path: Path) -> None:
    rng = random.Random(7)
    world = draw_world(rng)
    simulate(world, rng)
    path, mapping = write_log(world, tmp_path, rng, "csv")
    del mapping.column["cost"]
    found = read_usage([str(path)], mapping)
    result = reconcile([Log(found.sums, found.runs, mapping)], world.basis, Asked())
    spent = sum((price(line["model"], line["tokens_in"], line["tokens_out"]) for line in world.lines), Decimal(0))
    assert (
        result.cost_from == "rates" and result.logged is not None and abs(result.logged - spent) < Decimal("0.000001")
    )


def test_only_the_days_asked_for(tmp_path: Path) -> None:
    rng = random.Random(8)
    world = draw_world(rng)
    simulate(world, rng)
    path, mapping = write_log(world, tmp_path, rng, "csv")
    found = read_usage([str(path)], mapping)
    from usage_worlds import DAYS

    result = reconcile([Log(found.sums, found.runs, mapping)], world.basis, Asked("day", DAYS[3], DAYS[9]))
    inside = sum((line["cost"] for line in world.lines if DAYS[3] <= line["time"].date() <= DAYS[9]), Decimal(0))
    assert (result.first_day, result.last_day, result.days) == (str(DAYS[3]), str(DAYS[9]), 7)
    assert result.compared == inside and result.logged == world.cost
    assert "lines of other days" in " ".join(result.notes)


def test_flows_without_model_calls_are_not_missed(tmp_path: Path) -> None:
    """A log of calls has no line of a flow that makes none."""
    from builders import chain, step
    from zeitbuch.core.actuals.reconcile import Basis
    from zeitbuch.core.assumptions.rules import Assumptions, Rule
    from zeitbuch.core.model.records import Estate, Trigger

    rng = random.Random(9)
    world = draw_world(rng)
    simulate(world, rng)
    silent = chain(step("a", "http"), id="f9", name="Silent", triggers=(Trigger(id="t", kind="event"),))
    rules = (*world.basis.assumptions.assume, Rule(flow="Silent", trigger="t", runs=900.0))
    estate = Estate(flows=(*world.basis.estate.flows, silent))
    path, mapping = write_log(world, tmp_path, rng, "csv")
    found = read_usage([str(path)], mapping)
    basis = Basis(estate, world.basis.card, Assumptions(assume=rules))
    result = reconcile([Log(found.sums, found.runs, mapping)], basis, Asked())
    assert not [one for one in result.explanations if one.subject == "Silent"]


def test_costs_that_go_up_and_down_are_no_price(tmp_path: Path) -> None:
    """What is billed by whim is left unexplained."""
    rng = random.Random(10)
    world = draw_world(rng)
    simulate(world, rng)
    whims = {
        day: Decimal(str(round(rng.uniform(0.4, 2.5), 2))) for day in {line["time"].date() for line in world.lines}
    }
    for line in world.lines:
        line["cost"] *= whims[line["time"].date()]
    result = reconciled(world, tmp_path, rng)
    assert result.logged == world.cost and result.unexplained is not None and result.difference is not None
    priced = sum(one.days for one in result.explanations if one.code == "price")
    assert abs(result.unexplained) > abs(result.difference) / 2 and priced < 15


def test_the_chart_shows_days_and_is_the_same_each_time(demo: Path, run: Run) -> None:
    for name in ("a.png", "b.png", "a.svg", "b.svg"):
        done = run("reconcile", "-o", name, cwd=demo)
        assert done.code == 0 and not done.err, done.err
    assert (demo / "a.png").read_bytes() == (demo / "b.png").read_bytes()
    assert (demo / "a.svg").read_bytes() == (demo / "b.svg").read_bytes()
    short = run("reconcile", "--from", "2026-10-11", "--to", "2026-10-12", "-o", "short.svg", cwd=demo)
    assert short.code == 0 and (demo / "short.svg").read_text() != (demo / "a.svg").read_text()


def test_calls_that_say_no_tokens_are_no_shorter_prompts(tmp_path: Path) -> None:
    rng = random.Random(12)
    world = draw_world(rng)
    simulate(world, rng)
    for line in world.lines:
        if rng.random() < 0.4:
            line["tokens_in"] = line["tokens_out"] = ""
    result = reconciled(world, tmp_path, rng, "csv")
    codes = {one.code for one in result.explanations}
    assert "size-or-price" in codes and not codes & {"sizes-less", "price", "not-billed"}
    assert result.unexplained == 0 and any("say no tokens" in note for note in result.notes)


def gap(name: str, estimated: float, logged: float, subject: str = "") -> GroupGap:
    return GroupGap(subject or name, name, estimated, logged, Decimal(1), Decimal(0), None, None)


def test_rows_without_anything_in_the_log_say_why() -> None:
    told = [
        Explanation("flow-stopped", "F", "", "2026-11-05", "2026-11-30", 26, None),
        Explanation("days-missing", "all flows", "", "2026-11-02", "2026-11-03", 2, None),
        Explanation("runs-fewer", "G", "", "2026-11-01", "2026-11-30", 30, None),
    ]
    rows = with_zero_reasons([gap("F", 90, 0), gap("G", 90, 0), gap("H", 3, 0), gap("I", 90, 5)], "flow", told)
    assert [row.zero for row in rows] == [
        "flow-stopped, 2026-11-05 to 2026-11-30",
        "nothing says why",
        "few were estimated",
        "",
    ]
    days = with_zero_reasons([gap("2026-11-03", 90, 0), gap("2026-11-04", 90, 0)], "day", told)
    assert [row.zero for row in days] == ["days-missing, 2026-11-02 to 2026-11-03", "nothing says why"]
    assert with_zero_reasons([gap("m", 90, 0)], "model", told)[0].zero == ""


def test_a_log_that_says_neither_calls_nor_cost_is_not_told_as_nothing(run: Run, demo: Path) -> None:
    found = json.loads(run("reconcile", "--mapping", "usage/steps.toml", "--format", "json", cwd=demo).out)
    assert found["compared"] is None and found["difference"] is None and found["explanations"] == []
    swaps = next(row for row in found["groups"] if row["name"] == "Crew swap approvals")
    assert (swaps["logged_calls"], swaps["logged_cost"], swaps["difference"], swaps["zero"]) == (None, None, None, "")
