"""Assumptions measured on logs: worlds with hidden numbers are predicted, changes found, declared values kept, few cases drawn towards them."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import random
import statistics
from pathlib import Path

import numpy as np
import pytest
from msgspec import structs

from calibrate_worlds import SPLIT, Block, Blueprint, Call, draw_estate, flow_of, simulate
from conftest import Run, draws
from usage_worlds import World, write_log
from zeitbuch.core.actuals.reconcile import Asked, Log
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.calibrate.calibrate import calibrate, with_measured
from zeitbuch.core.calibrate.changes import last_change_of_counts, last_change_of_means
from zeitbuch.core.calibrate.check import check_calibration
from zeitbuch.core.calibrate.definition_gaps import definition_gaps
from zeitbuch.core.calibrate.records import Calibrated, Measured
from zeitbuch.core.calibrate.volumes_fit import fit_volume
from zeitbuch.core.estimate.records import Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model.records import Estate, Schedule, Trigger
from zeitbuch.readers.config.figures import load_assumptions
from zeitbuch.readers.usage.usage_log import read_usage
from zeitbuch.writers.exchange.measured_file import measured_text

DAYS = [dt.date(2026, 10, 1) + dt.timedelta(place) for place in range(61)]


def log_of(world: World, folder: Path, rng: random.Random, form: str = "csv") -> Log:
    path, mapping = write_log(world, folder, rng, form)
    found = read_usage([str(path)], mapping)
    assert not found.problems
    return Log(found.sums, found.runs, mapping, found.hours, found.part_days)


def world_of(*plans: Blueprint, assumptions: Assumptions | None = None) -> World:
    """A world of certain flows, with the prices of the random ones."""
    world, _ = draw_estate(random.Random(1))
    flows = Estate(flows=tuple(flow_of(plan) for plan in plans))
    world.basis = structs.replace(world.basis, estate=flows, assumptions=assumptions or Assumptions())
    return world


def measured(found: Calibrated, quantity: str, subject: str = "") -> Measured:
    (one,) = [one for one in found.measured if one.quantity == quantity and subject in one.subject]
    return one


def test_the_second_half_is_predicted_from_the_first(tmp_path: Path) -> None:
    """Random estates, simulated run by run, fitted on October: November's calls and cost."""
    cost, calls, totals, inside = [], [], [], []
    for seed in range(draws(8, 60)):
        rng = random.Random(f"calibrate {seed}")
        world, plans = draw_estate(rng)
        simulate(world, plans, rng)
        log = log_of(world, tmp_path, rng, "parquet")
        found = calibrate([log], world.basis, Asked(last=SPLIT - dt.timedelta(1)))
        assumed = with_measured(world.basis.assumptions, found)
        flows = estimate_flows(
            world.basis.estate.flows, world.basis.card, assumed, "2026-11", Sampling(runs=1000)
        ).flows
        late = [line for line in world.lines if line["time"].date() >= SPLIT]
        total = [0.0, 0.0]
        for flow in flows:
            own = [line for line in late if line["flow"] == flow.name]
            if not own:
                continue
            real = float(sum(line["cost"] for line in own))
            assert flow.cost_month is not None and flow.month_spread is not None and flow.calls_month is not None
            cost.append(abs(float(flow.cost_month.amount) / real - 1))
            calls.append(abs(flow.calls_month / len(own) - 1))
            inside.append(flow.month_spread.p10 <= real <= flow.month_spread.p90)
            total = [total[0] + real, total[1] + float(flow.cost_month.amount)]
        totals.append(abs(total[1] / total[0] - 1))
    assert statistics.median(cost) < 0.1 and statistics.median(calls) < 0.1
    assert statistics.median(totals) < 0.05
    assert 0.7 <= sum(inside) / len(inside) <= 0.88, (sum(inside), len(inside))


def test_hidden_numbers_are_found(tmp_path: Path) -> None:
    plan = Blueprint(
        "f", "Letters", 40.0, 0.25,
        [
            Block("call", [Call("first", "gull-1", 700, 90, 0.3, failure=0.2, retries=2)]),
            Block("choice", [Call("a", "gull-2", 300, 40, 0.2), Call("b", "gull-1", 900, 200, 0.2), Call("c", "gull-1", 500, 20, 0.2)], [0.6, 0.3, 0.1], id="pick"),
            Block("loop", [Call("i", "gull-1", 400, 60, 0.2)], items=4.0, id="loop1"),
            Block("call", [Call("agent", "petrel-9", 1500, 100, 0.2, turns=3.5)]),
        ],
    )  # fmt: skip
    world, rng = world_of(plan), random.Random(5)
    simulate(world, [plan], rng)
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    for quantity, subject, true in (
        ("failure", "First", 0.2), ("share", "way 0", 0.6), ("share", "way 1", 0.3), ("share", "way 2", 0.1), ("items", "Loop1", 4.0),
        ("turns", "Agent", 3.5), ("input", "First", 700), ("output", "First", 90), ("input", "Agent", 1500),
    ):  # fmt: skip
        one = measured(found, quantity, subject)
        assert one.low < true < one.high and abs(one.value / true - 1) < 0.1, one
        assert one.before_evidence in ("default", "export") and one.written
    workdays, weekend = (one for one in found.measured if one.quantity == "runs")
    assert len(workdays.weekdays) == 5 and weekend.weekdays == ("saturday", "sunday")
    assert abs(workdays.value / (40 * 365.25 / 12) - 1) < 0.1 and abs(weekend.value / (10 * 365.25 / 12) - 1) < 0.2
    assert sum(one.value for one in found.measured if one.quantity == "share") == pytest.approx(1, abs=1e-9)
    # Written as a file it says the same, and is read without a word.
    path = tmp_path / "measured.toml"
    path.write_text(measured_text(found))
    read, problems = load_assumptions(str(path))
    assert not problems and len(read.assume) == len(found.measured)
    assert {rule.evidence for rule in read.assume} == {"measured"} and all(
        "2026-10-01 to 2026-11-30" in rule.note for rule in read.assume
    )


def simple(rate: float, **more: float) -> Blueprint:
    call = Call("first", "gull-1", more.get("tokens_in", 700.0), 90.0, 0.2)
    return Blueprint("f", "Letters", rate, 1.0, [Block("call", [call])])


def other_plan(id: str, name: str) -> Blueprint:
    return Blueprint(id, name, 20.0, 1.0, [Block("call", [Call("first", "gull-1", 500, 90, 0.2)])])


def test_after_a_change_the_later_regime_counts(tmp_path: Path) -> None:
    before, after = simple(20.0), simple(35.0, tokens_in=1400.0)
    world, rng = world_of(before), random.Random(2)
    simulate(world, [before], rng, DAYS[:30])
    simulate(world, [after], rng, DAYS[30:])
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    runs, size = measured(found, "runs"), measured(found, "input")
    assert abs(runs.value / (35 * 365.25 / 12) - 1) < 0.1 and abs(size.value / 1400 - 1) < 0.05
    for one in (runs, size):
        assert abs((dt.date.fromisoformat(one.since) - DAYS[30]).days) <= 2
    checked = check_calibration([log_of(world, tmp_path, rng)], world.basis, Asked(last=DAYS[38]))
    assert checked.flows[0].changed  # it changed in the days that were held back


def test_what_is_doubled_or_foreign_moves_nothing(tmp_path: Path) -> None:
    plan = simple(20.0)
    world, rng = world_of(plan), random.Random(3)
    simulate(world, [plan], rng)
    clean = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    twice = {DAYS[9], DAYS[10], DAYS[11]}
    world.lines += [dict(line) for line in world.lines if line["time"].date() in twice]
    world.lines += [
        line | {"environment": "test", "run": f"{line['run']}t", "tokens_in": 9999} for line in world.lines[:400]
    ]
    world.lines += [line | {"flow": "Whale counting", "tokens_in": 9999} for line in world.lines[:400]]
    dirty = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    assert [one.value for one in dirty.measured] == pytest.approx([one.value for one in clean.measured])


def test_a_missing_week_is_no_week_without_runs(tmp_path: Path) -> None:
    plan = simple(20.0)
    world, rng = world_of(plan), random.Random(3)
    simulate(world, [plan], rng)
    world.lines = [line for line in world.lines if line["time"].date() not in DAYS[20:27]]
    one = measured(calibrate([log_of(world, tmp_path, rng)], world.basis, Asked()), "runs")
    assert abs(one.value / (20 * 365.25 / 12) - 1) < 0.08 and not one.since


def test_declared_values_are_kept_and_told(tmp_path: Path) -> None:
    plan = simple(20.0)
    rules = (Rule(flow="Letters", trigger="t", runs=300.0), Rule(flow="Letters", step="first", output=50.0))
    world, rng = world_of(plan, assumptions=Assumptions(assume=rules)), random.Random(4)
    simulate(world, [plan], rng)
    log = log_of(world, tmp_path, rng)
    found = calibrate([log], world.basis, Asked())
    assert (
        not measured(found, "runs").written
        and not measured(found, "output").written
        and measured(found, "input").written
    )
    assert "kept" in measured(found, "runs").why and measured(found, "output").before == 50
    over = calibrate([log], world.basis, Asked(), over_declared=True)
    assert all(one.written for one in over.measured)
    assert {one.value for one in over.measured} == {one.value for one in found.measured}
    text = measured_text(found)
    assert "not written: Letters, runs of" in text and "runs =" not in text


def test_few_cases_are_drawn_towards_what_was_assumed(tmp_path: Path) -> None:
    plan = simple(0.3)
    rules = (Rule(flow="Letters", trigger="t", runs=60.0, evidence="measured"),)
    world, rng = world_of(plan, assumptions=Assumptions(assume=rules)), random.Random(6)
    simulate(world, [plan], rng)
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    one = measured(found, "runs")
    seen = len(world.lines) / 61 * 365.25 / 12
    assert one.cases < 30 and seen < one.value < 60 and "fewer than 30 runs" in one.why
    assert "fewer than 30 calls" in measured(found, "input").why


def test_a_log_without_runs_or_steps(tmp_path: Path) -> None:
    plan = simple(20.0)
    world, rng = world_of(plan), random.Random(7)
    simulate(world, [plan], rng)
    log = log_of(world, tmp_path, rng)
    bare = Log(
        [structs.replace(one, step="") for one in log.sums],
        {},
        structs.replace(log.mapping, column={k: v for k, v in log.mapping.column.items() if k != "run"}),
        {},
    )
    found = calibrate([bare], world.basis, Asked())
    assert measured(found, "runs").value == pytest.approx(
        measured(calibrate([log], world.basis, Asked()), "runs").value, rel=0.02
    )
    assert any("does not tell runs" in one.words for one in found.remarks)


@pytest.mark.parametrize("factor", [1.0, 1.3, 2.0, 0.6])
def test_changes_of_counts_are_found_and_none_invented(factor: float) -> None:
    level = np.where(np.arange(60) >= 30, 40.0 * factor, 40.0)
    found = [last_change_of_counts(np.random.default_rng(seed).poisson(level), np.ones(60)) for seed in range(200)]
    right = [abs(place - 30) <= 7 if factor != 1 else place == 0 for place in found]
    assert sum(right) >= (0.99 if factor in (1.0, 2.0) else 0.95) * len(right)


def test_changes_of_means_and_days_without_cases() -> None:
    rng = np.random.default_rng(1)
    weights = rng.integers(0, 40, 60)
    means = np.array(
        [
            rng.normal(100 if day < 40 else 130, 20 / max(1, weight) ** 0.5) if weight else 0.0
            for day, weight in enumerate(weights)
        ]
    )
    assert abs(last_change_of_means(means, weights) - 40) <= 1
    assert last_change_of_means(means[:40], weights[:40]) == 0
    assert last_change_of_means([5.0] * 3, [1.0] * 3) == 0


def test_a_season_is_taken_out_of_what_was_counted() -> None:
    season = np.array([0.5 if day.month == 10 else 1.5 for day in DAYS])
    counted = fit_volume(DAYS, np.random.default_rng(2).poisson(30 * season), season=season)
    assert counted.first == 0 and abs(counted.rates[0].mean / 30 - 1) < 0.06


def test_the_command(run: Run, demo: Path) -> None:
    done = run("calibrate", "-o", "measured.toml", cwd=demo)
    assert done.code == 0, done.err
    assert "rules in measured.toml" in done.err and "runs of ‘form’" in done.out
    text = (demo / "measured.toml").read_text()
    assert "breakwater.csv, SHA-256" in text and 'evidence = "measured"' in text
    told = run("estimate", "--measured", "measured.toml", "--why", "Berth delay notices", cwd=demo)
    assert told.code == 0 and "734 runs, 2026-10-01 to 2026-11-30" in " ".join(told.out.split()) and not told.err
    checked = run("calibrate", "--check", "--over", "declared", "--format", "json", cwd=demo)
    rows = {one["name"]: one for one in json.loads(checked.out)["flows"]}
    assert rows["Safety handbook assistant"]["changed"] == "2026-11-17" and not rows["Berth delay notices"]["changed"]
    assert 0.8 < rows["Berth delay notices"]["logged_cost"] / rows["Berth delay notices"]["predicted_cost"] < 1.2
    (demo / "zeitbuch.toml").write_text(
        (demo / "zeitbuch.toml")
        .read_text()
        .replace('month = "2026-11"', 'month = "2026-11"\nmeasured = "measured.toml"', 1)
    )
    by_workspace = run("estimate", "--format", "json", cwd=demo)
    by_option = run("estimate", "--measured", "measured.toml", "--format", "json", cwd=demo)
    assert by_workspace.out == by_option.out


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--from", "yesterday"), "expected a day as YYYY-MM-DD for --from"),
        (("--from", "2027-01-01"), "expected lines of usage with a day, found none"),
        (("--check", "--to", "2026-10-05"), "expected 9 days with lines to hold a third of them back, found 5"),
        (("--measured", "nowhere.toml"), "nowhere.toml"),
        (("--over", "all"), "invalid choice"),
    ],
)  # fmt: skip
def test_what_cannot_be(words: tuple[str, ...], said: str, run: Run, demo: Path) -> None:
    done = run("calibrate", *words, cwd=demo)
    assert done.code != 0 and said in done.err, done.err


def test_what_the_log_does_not_bear_out(tmp_path: Path) -> None:
    plan = Blueprint(
        "f", "Letters", 20.0, 1.0,
        [
            Block("choice", [Call("a", "gull-1", 300, 40, 0.2), Call("b", "gull-1", 900, 200, 0.2)], [1.0, 0.0], id="pick"),
            Block("call", [Call("last", "gull-1", 400, 40, 0.2)]),
            Block("call", [Call("gone", "gull-1", 400, 40, 0.2)]),
        ],
    )  # fmt: skip
    world, rng = world_of(plan), random.Random(8)
    world.basis = structs.replace(
        world.basis,
        estate=Estate(flows=tuple(structs.replace(one, changed="2026-09-01") for one in world.basis.estate.flows)),
    )
    simulate(world, [plan], rng)
    world.lines = [line for line in world.lines if line["step"] != "gone"]
    for line in world.lines:
        if line["time"].date() >= DAYS[30] and line["step"] == "last":
            line["model"], line["tokens_in"] = "petrel-9", line["tokens_in"] * 3
    found = {one.code: one for one in definition_gaps([log_of(world, tmp_path, rng)], world.basis)}
    assert set(found) == {"case-never-taken", "step-never-run", "model-not-named", "log-newer"}
    assert found["case-never-taken"].step == "pick" and "way 1" in found["case-never-taken"].message
    assert found["step-never-run"].step == "gone"
    assert "petrel-9" in found["model-not-named"].message and "2026-10-31" in found["model-not-named"].message
    assert "input of ‘Last’" in found["log-newer"].message and "2026-09-01" in found["log-newer"].message


def test_a_log_as_defined_bears_all_out(tmp_path: Path) -> None:
    for seed in range(3):
        rng = random.Random(f"borne out {seed}")
        world, plans = draw_estate(rng)
        simulate(world, plans, rng)
        log = log_of(world, tmp_path, rng)
        measured_first = with_measured(world.basis.assumptions, calibrate([log], world.basis, Asked()))
        basis = structs.replace(world.basis, assumptions=measured_first)
        assert not definition_gaps([log], basis)


def test_findings_of_usage(run: Run, demo: Path) -> None:
    plain, held = run("check", "--format", "json", cwd=demo), run("check", "--usage", "--format", "json", cwd=demo)
    before, after = (json.loads(one.out)["findings"] for one in (plain, held))
    new = [
        one for one in after if one["code"] in ("case-never-taken", "step-never-run", "model-not-named", "log-newer")
    ]
    assert len(after) == len(before) + len(new)
    (swapped,) = [one for one in new if one["code"] == "model-not-named"]
    assert swapped["flow"] == "Safety handbook assistant" and "fulmar-mini-2" in swapped["message"]
    named = run(
        "check", "--mapping", "usage/boathouse.toml", "--only", "model-not-named", "--fail-on", "medium", cwd=demo
    )
    assert named.code == 1 and "2026-11-17" in named.out


def test_calls_that_say_no_tokens_do_not_make_the_others_small(tmp_path: Path) -> None:
    plan = simple(20.0)
    world, rng = world_of(plan), random.Random(9)
    simulate(world, [plan], rng)
    whole = measured(calibrate([log_of(world, tmp_path, rng)], world.basis, Asked()), "input")
    for line in world.lines[::2]:
        line["tokens_in"] = line["tokens_out"] = ""
    part = measured(calibrate([log_of(world, tmp_path, rng)], world.basis, Asked()), "input")
    assert part.value == pytest.approx(whole.value, rel=0.05) and part.cases == len(world.lines) // 2


def test_days_that_one_of_two_logs_lacks_are_no_days_without_runs(tmp_path: Path) -> None:
    here, there = simple(20.0), other_plan("g", "Cargo papers")
    world, rng = world_of(here, there), random.Random(10)
    simulate(world, [here, there], rng)
    lines, logs = world.lines, []
    for name, gone in (("Letters", DAYS[20:25]), ("Cargo papers", [])):
        world.lines = [line for line in lines if line["flow"] == name and line["time"].date() not in gone]
        (tmp_path / name).mkdir()
        logs.append(log_of(world, tmp_path / name, rng))
    found = calibrate(logs, world.basis, Asked())
    one = next(one for one in found.measured if one.quantity == "runs" and one.flow == "f")
    assert abs(one.value / (20 * 365.25 / 12) - 1) < 0.06 and not one.since


def test_answers_are_measured_under_what_of_them_nobody_reads(tmp_path: Path) -> None:
    plan = simple(20.0)
    world, rng = world_of(plan), random.Random(11)
    simulate(world, [plan], rng)
    log = log_of(world, tmp_path, rng)
    sums = [structs.replace(one, tokens_reasoning=(one.tokens_out or 0.0) / 2) for one in log.sums]
    mapping = structs.replace(log.mapping, column={**log.mapping.column, "tokens_reasoning": "r"})
    found = calibrate([Log(sums, log.runs, mapping, {})], world.basis, Asked())
    assert measured(found, "reasoning").value == pytest.approx(1.0) and measured(found, "reasoning").before is None
    assert measured(found, "output").before == 250
    (flow,) = estimate_flows(
        world.basis.estate.flows, world.basis.card, with_measured(Assumptions(), found), "2026-11", None, detail=True
    ).flows
    each = sum(one.tokens_out or 0.0 for one in sums) / sum(one.calls or 0.0 for one in sums)
    assert flow.steps[0].output_tokens / flow.steps[0].calls == pytest.approx(each)


def test_what_was_assumed_is_told_in_the_same_quantity(run: Run, demo: Path) -> None:
    """Of an agent's calls most are no answer: 100 tokens a call are answers of 250."""
    done = run("calibrate", "--format", "json", cwd=demo)
    (one,) = [row for row in json.loads(done.out)["measured"] if row["subject"] == "output of ‘Refund agent’"]
    assert one["before"] == 250 and abs(one["value"] - 250) < 10
    told = {
        (row["flow_name"], row["quantity"]): row["before"]
        for row in json.loads(done.out)["measured"]
        if row["quantity"] == "runs"
    }
    # Declared so in the demo's assumptions, the second for an average month of its season.
    assert told["Cargo papers screening", "runs"] == pytest.approx(1900)
    assert told["Timetable questions", "runs"] == pytest.approx(1300)


def test_polls_are_held_against_their_checks_day_by_day(tmp_path: Path) -> None:
    poll, daily = simple(20.0), other_plan("g", "Cargo papers")
    world, rng = world_of(poll, daily), random.Random(12)
    simulate(world, [poll, daily], rng)
    clock = Schedule(cron="*/15 * * * 1-5", zone="UTC")
    first = structs.replace(world.basis.estate.flows[0], triggers=(Trigger(id="t", kind="polling", schedule=clock),))
    world.basis = structs.replace(world.basis, estate=Estate(flows=(first, world.basis.estate.flows[1])))
    world.lines = [line for line in world.lines if line["flow"] != "Letters" or line["time"].weekday() < 5]
    log = log_of(world, tmp_path, rng)
    for last in (DAYS[-1], DAYS[-2]):  # a Monday, and a Sunday on which nothing is checked
        one = measured(calibrate([log], world.basis, Asked(last=last)), "hit_rate")
        assert one.value == pytest.approx(20 / 96, rel=0.06) and not one.weekdays


def test_failures_of_steps_are_no_failures_of_tries(tmp_path: Path) -> None:
    plan = Blueprint("f", "Letters", 20.0, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2, failure=0.2)])])
    world, rng = world_of(plan), random.Random(13)
    simulate(world, [plan], rng)
    log = log_of(world, tmp_path, rng)
    assert measured(calibrate([log], world.basis, Asked()), "failure").value == pytest.approx(0.2, abs=0.03)
    steps = structs.replace(log, mapping=structs.replace(log.mapping, line="step"))
    # Where a step is not tried again its line is one try ...
    assert measured(calibrate([steps], world.basis, Asked()), "failure").value == pytest.approx(0.2, abs=0.03)
    # ... else how often a try fails is told by the calls, whatever is said of how the step ended.
    plan.blocks[0].calls[0].retries = 2
    tried = world_of(plan)
    simulate(tried, [plan], rng)
    for line in tried.lines:
        line["status"] = "failed"
    log = log_of(tried, tmp_path, rng)
    steps = structs.replace(log, mapping=structs.replace(log.mapping, line="step"))
    assert measured(calibrate([steps], tried.basis, Asked()), "failure").value == pytest.approx(0.2, abs=0.04)


def test_names_do_not_break_out_of_the_comments_of_the_file(tmp_path: Path) -> None:
    plan = simple(20.0)
    evil = dataclasses.replace(plan, name='Letters\n[[assume]]\nruns = 1\nnote = "')
    rules = (Rule(trigger="t", runs=300.0),)
    world, rng = world_of(evil, assumptions=Assumptions(assume=rules)), random.Random(14)
    simulate(world, [evil], rng)
    for line in world.lines:
        line["flow"] = "f"
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    path = tmp_path / "measured.toml"
    path.write_text(measured_text(found))
    read, problems = load_assumptions(str(path))
    assert not problems and len(read.assume) == sum(one.written for one in found.measured) < len(found.measured)
