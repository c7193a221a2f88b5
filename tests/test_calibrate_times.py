"""Durations and time limits measured on logs: seconds of work are written, waiting is told, and neither is taken for something else."""

from __future__ import annotations

import csv
import datetime as dt
import gzip
import json
import random
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from builders import ask, chain, step
from calibrate_worlds import Block, Blueprint, Call, simulate
from conftest import Run
from test_calibrate import DAYS, log_of, measured, world_of
from usage_worlds import World
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log
from zeitbuch.core.actuals.usage_mapping import UsageMapping, mapping_faults
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.calibrate.calibrate import calibrate, with_measured
from zeitbuch.core.calibrate.check import check_calibration
from zeitbuch.core.calibrate.records import Calibrated
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model.records import Estate, ModelUse, Trigger
from zeitbuch.readers.usage.usage_log import read_usage


def timed_world(plan: Blueprint, rng: random.Random, mean: float) -> World:
    world = world_of(plan)
    simulate(world, [plan], rng)
    for line in world.lines:
        line["duration"] = Decimal(f"{rng.expovariate(1 / mean):.3f}")
    return world


def test_seconds_of_a_step_are_written_with_their_range(tmp_path: Path) -> None:
    plan = Blueprint("f", "Letters", 20.0, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2)])])
    rng = random.Random(31)
    world = timed_world(plan, rng, 8.0)
    one = measured(calibrate([log_of(world, tmp_path, rng)], world.basis, Asked()), "seconds")
    assert one.written and one.low < 8 < one.high and one.value == pytest.approx(8, rel=0.08)
    assert one.cases_of == "lines" and one.cases == len(world.lines)
    # Declared, it is kept.
    said = structs.replace(world.basis, assumptions=Assumptions(assume=(Rule(step="first", seconds=5.0),)))
    kept = measured(calibrate([log_of(world, tmp_path, rng)], said, Asked()), "seconds")
    assert not kept.written and kept.before == 5.0 and "declared" in kept.why
    over = measured(calibrate([log_of(world, tmp_path, rng)], said, Asked(), over_declared=True), "seconds")
    assert over.written


def test_an_agent_takes_as_long_as_its_turns(tmp_path: Path) -> None:
    plan = Blueprint("f", "Letters", 20.0, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2, turns=4.0)])])
    rng = random.Random(32)
    world = timed_world(plan, rng, 3.0)
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    runs = len({line["run"] for line in world.lines})
    truth = float(sum(line["duration"] for line in world.lines)) / runs
    assert measured(found, "seconds").value == pytest.approx(truth, rel=0.05) and truth > 9


def test_few_lines_are_told_and_not_written(tmp_path: Path) -> None:
    plan = Blueprint("f", "Letters", 0.3, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2)])])
    rng = random.Random(33)
    world = timed_world(plan, rng, 8.0)
    assert 5 <= len(world.lines) < 30
    one = measured(calibrate([log_of(world, tmp_path, rng)], world.basis, Asked()), "seconds")
    assert not one.written and "fewer than 30" in one.why


def step_log(folder: Path, late: int, mapping: UsageMapping | None = None) -> tuple[Log, Basis]:
    """Two hundred runs of a draft that a person approves; ``late`` approvals ran out of time. Waiting takes hours, the draft 6 seconds."""
    rows = ["at,flow,run,step,model,ended,took"]
    for run in range(200):
        day, minute = 1 + run % 28, run // 28
        rows.append(f"2026-11-{day:02} 08:{minute:02}:00,Letters,{run},draft,gull-1,ok,{5 + run % 3}")
        rows.append(
            f"2026-11-{day:02} 08:{minute:02}:30,Letters,{run},sign,,{'late' if run < late else 'ok'},{7200 + run}"
        )
        if run >= late:
            rows.append(f"2026-11-{day:02} 12:{minute:02}:30,Letters,{run},send,gull-1,ok,2")
    path = folder / "steps.csv"
    path.write_text("\n".join(rows) + "\n")
    columns = {
        "time": "at", "flow": "flow", "run": "run", "step": "step", "model": "model", "status": "ended", "duration": "took",
    }  # fmt: skip
    mapping = mapping or UsageMapping(column=dict(columns), line="step", zone="UTC", timed_out=["late"])
    found = read_usage([str(path)], mapping)
    assert not found.problems
    flow = chain(
        ask("draft", name="gull-1"), step("sign", "approve"), ask("send", name="gull-1"),
        id="f", name="Letters", triggers=(Trigger(id="t", kind="event"),),
    )  # fmt: skip
    basis = Basis(Estate(flows=(flow,)), None, Assumptions(assume=(Rule(trigger="t", runs=210),)))
    return Log(found.sums, found.runs, mapping, found.hours, found.part_days), basis


def test_time_limits_that_passed_and_waiting(tmp_path: Path) -> None:
    log, basis = step_log(tmp_path, 40)
    found = calibrate([log], basis, Asked())
    one = measured(found, "timeout")
    assert one.value == pytest.approx(0.2, abs=0.01) and one.low < 0.2 < one.high and one.written
    waiting, work = measured(found, "seconds", "Sign"), measured(found, "seconds", "Draft")
    assert not waiting.written and waiting.value == pytest.approx(7299.5, rel=0.01) and "waiting" in waiting.why
    assert work.written and work.value == pytest.approx(6, rel=0.02)
    # The estimate goes by it: a fifth of the runs comes to no second call.
    flow = estimate_flows(basis.estate.flows, None, with_measured(basis.assumptions, found), "2026-11").flows[0]
    assert flow.calls == pytest.approx(1.8, abs=0.02)
    log, basis = step_log(tmp_path, 0)
    assert not [one for one in calibrate([log], basis, Asked()).measured if one.quantity == "timeout"]


def test_a_word_is_no_failure_and_time_limit_at_once() -> None:
    mapping = UsageMapping(column={"time": "at", "status": "s"}, failed=["Late", "bad"], timed_out=["late"])
    (fault,) = mapping_faults(mapping)
    assert fault.origin is not None and fault.origin.pointer == "/timed_out" and "'late'" in fault.message


def test_measured_seconds_are_no_length_of_sound(tmp_path: Path) -> None:
    use = ModelUse(name="tern-hear", modality="transcription")
    hear = step("hear", "model", model=use)
    flow = chain(hear, id="f", name="Calls", triggers=(Trigger(id="t", kind="event"),))
    units = {}
    for evidence in ("declared", "measured"):
        rules = (Rule(trigger="t", runs=10), Rule(step="hear", seconds=3.0, evidence=evidence))
        made = estimate_flows((flow,), None, Assumptions(assume=rules), "2026-11", detail=True).flows[0]
        units[evidence] = [part.quantity for one in made.steps for part in one.parts if part.unit == "second"]
    assert units == {"declared": [3.0], "measured": [60.0]}


def test_the_proposal_tells_time_limits_from_failures(tmp_path: Path, run: Run) -> None:
    words = ("ok", "ok", "ok", "Timeout", "failed", "expired")
    (tmp_path / "log.csv").write_text(
        "started,flow,run,status\n"
        + "".join(f"2026-11-{1 + n % 20:02} 08:{n % 60:02}:00Z,Letters,{n},{words[n % 6]}\n" for n in range(120))
    )
    run("usage", "suggest", str(tmp_path / "log.csv"), "-o", str(tmp_path / "m.toml"))
    text = (tmp_path / "m.toml").read_text()
    assert 'failed = ["failed"]' in text and 'timed_out = ["Timeout", "expired"]' in text


def test_a_log_of_steps_without_calls_tells_shares_and_limits(demo: Path, run: Run) -> None:
    made = run("calibrate", "--mapping", "usage/steps.toml", "--format", "json", cwd=demo)
    found = {
        (one["flow_name"], one["subject"].partition(" of ")[0], one["step"]): one
        for one in json.loads(made.out)["measured"]
    }
    with gzip.open(demo / "usage" / "steps.csv.gz", "rt") as file:
        lines = [row for row in csv.DictReader(file) if row["flow"] == "Crew swap approvals"]
    asked = [row for row in lines if row["step"] == "Shift leader approves"]
    late = sum(row["ended"] == "too late" for row in asked) / len(asked)
    (limit,) = [one for one in found.values() if one["quantity"] == "timeout"]
    assert limit["value"] == pytest.approx(late, abs=0.005) and limit["written"] and late > 0.05
    (share,) = [one for one in found.values() if one["quantity"] == "share" and "not allowed" in one["subject"]]
    runs = len({row["run"] for row in lines})
    refused = sum(row["step"] == "Mail the reason" for row in lines) / runs
    assert share["value"] == pytest.approx(refused, abs=0.005) and not share["written"]
    checked = [float(row["took"]) for row in lines if row["step"] == "Check the rest rules"]
    (seconds,) = [one for one in found.values() if "Check the rest rules" in one["subject"]]
    assert seconds["value"] == pytest.approx(sum(checked) / len(checked), rel=1e-6) and seconds["cases"] == len(checked)


def test_steps_that_take_longer_are_no_other_flow(tmp_path: Path) -> None:
    plan = Blueprint("f", "Letters", 20.0, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2)])])
    rng = random.Random(34)
    world = timed_world(plan, rng, 8.0)
    for line in world.lines:
        if line["time"].date() >= DAYS[45]:
            line["duration"] *= 3
    log = log_of(world, tmp_path, rng)
    found = calibrate([log], world.basis, Asked())
    one = measured(found, "seconds")
    assert one.value == pytest.approx(24, rel=0.1) and abs((dt.date.fromisoformat(one.since) - DAYS[45]).days) <= 2
    assert not check_calibration([log], world.basis, Asked()).flows[0].changed


def agent_log(folder: Path, columns: dict[str, str], spans: int = 1, form: Any = "") -> Calibrated:
    """A hundred runs of an agent that is taken to think in three turns; ``spans`` lines of 9 seconds for each of its passes."""
    (folder / "agent.csv").write_text(
        "at,flow,run,step,model,took,ended\n"
        + "".join(
            f"2026-11-{1 + run % 28:02} 08:{run // 28:02}:{span:02},Letters,{run},think,gull-1,9,{'ok' if run % 4 else 'bad'}\n"
            for run in range(100)
            for span in range(spans)
        )
    )
    mapping = UsageMapping(column=dict(columns), line="step", zone="UTC", failed=["bad"])
    found = read_usage([str(folder / "agent.csv")], mapping)
    mapping = structs.replace(mapping, form=form)
    rules = (Rule(trigger="t", runs=100), Rule(step="think", turns=3.0))
    flow = chain(
        ask("think", name="gull-1", kind="agent"), id="f", name="Letters", triggers=(Trigger(id="t", kind="event"),)
    )
    basis = Basis(Estate(flows=(flow,)), None, Assumptions(assume=rules))
    return calibrate([Log(found.sums, found.runs, mapping, found.hours, found.part_days)], basis, Asked())


STEP_COLUMNS = {"time": "at", "flow": "flow", "run": "run", "step": "step", "duration": "took", "status": "ended"}


@pytest.mark.parametrize("columns", [STEP_COLUMNS, STEP_COLUMNS | {"model": "model"}])
def test_a_line_of_an_agents_pass_is_not_taken_times_its_turns(columns: dict[str, str], tmp_path: Path) -> None:
    assert measured(agent_log(tmp_path, columns), "seconds").value == pytest.approx(9)


def test_several_lines_of_a_pass_are_told_and_not_written(tmp_path: Path) -> None:
    one = measured(agent_log(tmp_path, STEP_COLUMNS | {"model": "model"}, spans=3), "seconds")
    assert not one.written and "not one a pass" in one.why


def test_spans_of_traces_are_neither_passes_nor_tries(tmp_path: Path) -> None:
    found = agent_log(tmp_path, STEP_COLUMNS, form="otlp")
    assert not found.measured and any("how many calls" in one.words for one in found.remarks)
    found = agent_log(tmp_path, STEP_COLUMNS | {"model": "model"}, spans=2, form="otlp")
    assert not [one for one in found.measured if one.quantity == "failure"]
