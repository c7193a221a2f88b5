"""Days that a log has a part of: lines that are late, and a day within which it ends, are not taken for fewer runs."""

from __future__ import annotations

import datetime as dt
import json
import random
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import Run
from usage_worlds import DAYS, cut_day, draw_world, late_lines, simulate, write_log
from zeitbuch.core.actuals.part_days import PartDay, cut_days, late_shares, shares_of_flow
from zeitbuch.core.actuals.reconcile import Asked, Log, reconcile
from zeitbuch.core.actuals.usage_mapping import UsageMapping
from zeitbuch.core.calibrate.calibrate import calibrate
from zeitbuch.readers.usage.usage_log import read_usage

NOVEMBER = [dt.date(2026, 11, 1) + dt.timedelta(place) for place in range(30)]


def test_lateness_is_that_of_whole_days_though_late_lines_are_missing() -> None:
    """Of 1,000 lines a day 600 come at once, 300 a day later and 100 after three: the log ends on the 30th."""
    whole = [(day, lag, lines) for day in NOVEMBER for lag, lines in ((0, 600), (1, 300), (3, 100))]
    there = [row for row in whole if row[0] + dt.timedelta(row[1]) <= NOVEMBER[-1]]
    found = late_shares(there)
    assert found == pytest.approx({NOVEMBER[-3]: 0.9, NOVEMBER[-2]: 0.9, NOVEMBER[-1]: 0.6})


def test_lateness_that_grows_and_few_lines() -> None:
    assert late_shares([(day, 0, 50) for day in NOVEMBER]) == {}
    assert late_shares([(NOVEMBER[0], 0, 60), (NOVEMBER[0], 1, 30)]) == {}  # too few to say anything
    assert late_shares([]) == {}


def test_random_lags_against_what_was_held_back() -> None:
    rng = random.Random(4)
    sent: dict[tuple[dt.date, int], int] = {}
    held_back = dict.fromkeys(NOVEMBER, 0)
    for day in NOVEMBER:
        for _ in range(2000):
            lag = int(rng.expovariate(0.4))
            if day + dt.timedelta(lag) <= NOVEMBER[-1]:
                sent[(day, lag)] = sent.get((day, lag), 0) + 1
            else:
                held_back[day] += 1
    found = late_shares([(day, lag, lines) for (day, lag), lines in sent.items()])
    for day in NOVEMBER[-6:]:
        assert found[day] == pytest.approx(1 - held_back[day] / 2000, abs=0.03)


@pytest.mark.parametrize(
    ("last", "found"),
    [
        (50_000.0, {"2026-11-30": (0.0, 50_001.0)}),  # 13:53
        (85_000.0, {}),  # as on other days
        (80_000.0, {}),  # too few lines are awaited in the rest
    ],
)
def test_a_log_that_ends_within_a_day(last: float, found: dict[str, tuple[float, float]]) -> None:
    clocks = {str(day): (600.0 + day.day, 85_500.0 + day.day * 10) for day in NOVEMBER}
    clocks["2026-11-30"] = (600.0, last)
    lines = {str(day): 100 for day in NOVEMBER}
    assert cut_days(clocks, lines, dict.fromkeys(range(24), 100)) == found


def test_a_weekend_that_ends_early_is_no_cut() -> None:
    clocks = {str(day): (30_000.0, 40_000.0 if day.weekday() > 4 else 86_000.0 + day.day) for day in NOVEMBER[:29]}
    lines = {str(day): 40 if day.weekday() > 4 else 200 for day in NOVEMBER}
    assert NOVEMBER[28].weekday() == 6 and cut_days(clocks, lines, dict.fromkeys(range(8, 24), 100)) == {}


def test_a_flow_in_the_evening_misses_all_of_a_day_cut_at_noon() -> None:
    part = PartDay("2026-11-30", 0.9, 0.0, 43_200.0)
    evening, morning = {18: 50}, {6: 50}
    day = NOVEMBER[-1]
    assert shares_of_flow({NOVEMBER[3]: 0}, [[part]], [evening])[day].whole == 0
    assert shares_of_flow({NOVEMBER[3]: 0}, [[part]], [morning])[day] == (0.9, 1.0)
    # Its lines are in another log by then: what is missing in the first one is no part of it.
    assert shares_of_flow({NOVEMBER[3]: 0, NOVEMBER[9]: 1}, [[part], []], [evening, {}]) == {}


@pytest.mark.parametrize("plant", [late_lines, cut_day])
def test_calibration_leaves_such_days_out(plant, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    rng = random.Random(12)
    world = draw_world(rng)
    plant(world, rng)
    path, mapping = write_log(world, tmp_path, rng, "csv")
    found = read_usage([str(path)], mapping)
    assert found.part_days and not found.problems
    whole = [day for day in DAYS if str(day) not in {one.day for one in found.part_days}]
    log = Log(found.sums, found.runs, mapping, found.hours, found.part_days)
    made = calibrate([log], world.basis, Asked())
    assert {one.last_day for one in made.measured if one.quantity == "runs"} == {str(whole[-1])}
    assert any("a part only" in one.words for one in made.remarks)
    for one in made.measured:
        if one.quantity == "runs":
            truth = next(flow for flow in world.flows if flow.name == one.flow_name)
            assert one.value == pytest.approx(truth.runs * 30.44, rel=0.12)


def test_a_line_that_arrives_twice_is_one(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text(
        "at,in_at,flow,run\n2026-11-01 08:00:00,2026-11-01 09:00:00,A,1\n2026-11-01 08:00:00,2026-11-03 09:00:00,A,1\n"
    )
    columns = {"time": "at", "arrived": "in_at", "flow": "flow", "run": "run"}
    found = read_usage([str(tmp_path / "log.csv")], UsageMapping(column=dict(columns), zone="UTC"))
    assert sorted((one.doubled, one.lines) for one in found.sums) == [(False, 1), (True, 1)] and not found.problems


def test_late_lines_are_told_once_with_their_money(tmp_path: Path) -> None:
    told = lost = Decimal(0)
    for seed in range(8):
        rng = random.Random(f"late {seed}")
        world = draw_world(rng)
        for flow in world.flows:
            flow.runs *= 1.2  # more than estimated, and fewer by what is late
        late_lines(world, rng)
        path, mapping = write_log(world, tmp_path, rng, "csv")
        found = read_usage([str(path)], mapping)
        log = Log(found.sums, found.runs, mapping, found.hours, found.part_days)
        result = reconcile([log], world.basis, Asked())
        (late,) = [one for one in result.explanations if one.code == "lines-late"]
        assert late.subject == "all flows" and late.last_day == str(DAYS[-1]) and "had not arrived yet" in late.words
        assert result.unexplained == 0 and late.money is not None
        told += late.money
        lost -= world.lost
        whole = reconcile([log], world.basis, Asked(last=DAYS[40]))
        assert "lines-late" not in {one.code for one in whole.explanations}
    assert float(told) == pytest.approx(float(lost), rel=0.15)


def test_the_commands(tmp_path: Path, run: Run, demo: Path) -> None:
    world = draw_world(random.Random(2))
    simulate(world, random.Random(2))
    (tmp_path / "log.csv").write_text(
        "started,ingested at,flow,run,cost\n"
        + "".join(
            f"2026-11-{day:02} {hour:02}:{minute:02}:00,2026-11-{day:02} {hour:02}:59:00,Lost property matching,{day}-{hour}-{minute},0.01\n"
            for day in range(1, 21)
            for hour in range(6, 22)
            for minute in (5, 25, 50)
            if (day, hour) < (20, 13)
        )
    )
    proposed = run("usage", "suggest", str(tmp_path / "log.csv"), "-o", str(tmp_path / "m.toml"), cwd=demo)
    assert 'arrived = "ingested at"' in (tmp_path / "m.toml").read_text(), proposed.err
    text = (tmp_path / "m.toml").read_text()
    if "\nzone =" not in text:
        text = text.replace("usage = 1\n", 'usage = 1\nzone = "UTC"\n')
    if "\ncurrency =" not in text:
        text = text.replace("usage = 1\n", 'usage = 1\ncurrency = "EUR"\n')
    (tmp_path / "m.toml").write_text(text)
    tried = run("usage", "test", str(tmp_path / "log.csv"), "--mapping", str(tmp_path / "m.toml"), cwd=demo)
    assert "the log ends on 2026-11-20 at 12:50" in tried.out, tried.out + tried.err
    asked = ("reconcile", str(tmp_path / "log.csv"), "--mapping", str(tmp_path / "m.toml"), "--format", "json")
    result = json.loads(run(*asked, cwd=demo).out)
    codes = {one["code"]: one for one in result["explanations"]}
    assert codes["day-cut"]["first_day"] == "2026-11-20" and Decimal(codes["day-cut"]["money"]) < 0


def test_a_wrong_clock_moves_no_lateness(tmp_path: Path) -> None:
    lines = ["at,in_at,flow,run"]
    for day in NOVEMBER[:20]:
        for number in range(20):
            came = day + dt.timedelta(days=number % 3)
            if came <= NOVEMBER[19]:
                lines.append(f"{day} 08:{number:02}:00,{came} 09:00:00,A,{day}-{number}")
    lines.append(f"{NOVEMBER[0]} 08:30:00,2126-01-01 00:00:00,A,wrong")
    (tmp_path / "log.csv").write_text("\n".join(lines) + "\n")
    columns = {"time": "at", "arrived": "in_at", "flow": "flow", "run": "run"}
    found = read_usage([str(tmp_path / "log.csv")], UsageMapping(column=dict(columns), zone="UTC"))
    assert {one.day: round(one.arrived, 2) for one in found.part_days} == {"2026-11-19": 0.7, "2026-11-20": 0.35}
