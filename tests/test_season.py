"""Seasons measured on logs: believed where every month came again as it was, and never for a change, a growth or something that happened once."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from msgspec import structs

from calibrate_worlds import Block, Blueprint, Call, simulate
from conftest import draws
from test_calibrate import log_of, measured, world_of
from usage_worlds import World
from zeitbuch.core.actuals.reconcile import Asked
from zeitbuch.core.assumptions.rules import Assumptions, Season
from zeitbuch.core.calibrate.calibrate import calibrate, with_measured
from zeitbuch.core.calibrate.season_fit import SeasonFit, fit_season
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.readers.config.figures import load_assumptions
from zeitbuch.writers.exchange.measured_file import measured_text

FIRST = dt.date(2024, 11, 1)
TRUE = (1.2, 1.1, 1.0, 1.0, 0.9, 0.8, 0.6, 0.6, 1.0, 1.1, 1.3, 1.4)
Level = Callable[[dt.date, int], float]
SHAPES: dict[str, Level] = {
    "flat": lambda day, place: 1.0,
    "a change that stayed": lambda day, place: 1.0 if place < 200 else 1.8,
    "a change after a year": lambda day, place: 1.0 if place < 365 else 1.8,
    "growth": lambda day, place: 1 + place / 400,
    "an outage": lambda day, place: 0.2 if 100 < place < 170 else 1.0,
    "three busy months": lambda day, place: 1.8 if 200 < place < 300 else 1.0,
}


def series(days: int, level: Level, rate: float, seed: object, uneven: bool = False) -> SeasonFit | None:
    """What is found in drawn runs; on weekends half as many, ``uneven``: with bad days and good ones."""
    rng = np.random.default_rng([ord(letter) for letter in str(seed)])
    there = [FIRST + dt.timedelta(place) for place in range(days)]
    mean = np.array([rate * level(day, place) * (1 if day.weekday() < 5 else 0.5) for place, day in enumerate(there)])
    if uneven:
        mean = mean * rng.gamma(3.0, 1 / 3.0, days)
    return fit_season(there, rng.poisson(mean).astype(float))


@pytest.mark.parametrize("uneven", [False, True])
@pytest.mark.parametrize("shape", SHAPES)
def test_what_is_no_season_is_never_called_one(shape: str, uneven: bool) -> None:
    for days in (300, 400, 740, 1100):
        for rate in (2.0, 20.0, 200.0):
            for seed in range(draws(2)):
                found = series(days, SHAPES[shape], rate, (shape, days, rate, seed), uneven)
                assert found is None or not found.certain, (days, rate, seed, found)


def test_a_season_is_found_once_its_months_came_again() -> None:
    certain = [series(740, lambda day, place: TRUE[day.month - 1], 20.0, seed) for seed in range(draws(10))]
    assert all(found is not None and found.certain for found in certain)
    for found in certain:
        assert (
            found is not None
            and found.factors == pytest.approx(TRUE, rel=0.15)
            and sum(found.factors) == pytest.approx(12)
        )
    once = series(400, lambda day, place: TRUE[day.month - 1], 20.0, 1)
    assert once is not None and not once.certain  # one year alone
    assert series(330, lambda day, place: TRUE[day.month - 1], 20.0, 1) is None


def two_years(rng: random.Random, years: int = 2) -> World:
    plan = Blueprint("f", "Letters", 12.0, 1.0, [Block("call", [Call("first", "gull-1", 700, 90, 0.2)])])
    world = world_of(plan)
    for place in range(years * 365):
        day = FIRST + dt.timedelta(place)
        simulate(world, [structs_of(plan, 12.0 * TRUE[day.month - 1])], rng, [day])
    return world


def structs_of(plan: Blueprint, rate: float) -> Blueprint:
    return Blueprint(plan.id, plan.name, rate, plan.weekend, plan.blocks)


def test_the_coming_month_goes_by_the_season(tmp_path: Path) -> None:
    rng = random.Random(41)
    world = two_years(rng)
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    (season,) = found.seasons
    assert season.written and season.factors == pytest.approx(TRUE, rel=0.15) and season.runs > 8000
    # The rate is that of an average month, and no month is taken for a new regime.
    rate = measured(found, "runs")
    assert not rate.since and rate.value == pytest.approx(12 * 365.25 / 12, rel=0.04)
    path = tmp_path / "measured.toml"
    path.write_text(measured_text(found))
    read, problems = load_assumptions(str(path))
    assert not problems and read.season[0].factors == season.factors and "measured" in read.season[0].note
    assumed = with_measured(world.basis.assumptions, found)
    for month, days in (("2027-07", 31), ("2027-12", 31)):
        flow = estimate_flows(world.basis.estate.flows, world.basis.card, assumed, month).flows[0]
        assert flow.runs == pytest.approx(12 * TRUE[int(month[-2:]) - 1] * days, rel=0.12)


def test_a_declared_season_stays(tmp_path: Path) -> None:
    rng = random.Random(42)
    world = two_years(rng)
    flat = (1.0,) * 12
    world.basis = structs.replace(world.basis, assumptions=Assumptions(season=(Season(flat),)))
    log = log_of(world, tmp_path, rng)
    found = calibrate([log], world.basis, Asked())
    (season,) = found.seasons
    assert not season.written and season.before == flat and "declared" in season.why
    assert "# not written: Letters, season: " in measured_text(found)
    assert with_measured(world.basis.assumptions, found).season == (Season(flat),)
    over = calibrate([log], world.basis, Asked(), over_declared=True)
    assert over.seasons[0].written
    assumed = with_measured(world.basis.assumptions, over)
    july = estimate_flows(world.basis.estate.flows, world.basis.card, assumed, "2027-07").flows[0]
    assert july.runs == pytest.approx(12 * 0.6 * 31, rel=0.12)  # of the flow itself, not of all flows


def test_one_year_says_what_it_cannot_tell(tmp_path: Path) -> None:
    rng = random.Random(43)
    world = two_years(rng, years=1)
    found = calibrate([log_of(world, tmp_path, rng)], world.basis, Asked())
    assert not found.seasons and any("a second year tells" in one.words for one in found.remarks)
