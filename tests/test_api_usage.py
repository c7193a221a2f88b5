"""Findings, usage and measured assumptions from Python: what the commands say."""

from __future__ import annotations

import json
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest

import zeitbuch
from conftest import Run
from zeitbuch.core.model.problems import InputFaults, ZeitbuchError

DIALECTS = ("kvarte", "strandline", "tidemark", "pilotline", "lockgate")
MAPPINGS = ("usage/breakwater.toml", "usage/boathouse.toml")


@pytest.fixture
def estate(demo: Path, monkeypatch: pytest.MonkeyPatch) -> zeitbuch.api.Estate:  # type: ignore[name-defined]
    monkeypatch.chdir(demo)
    return zeitbuch.read("november", dialects=[f"dialects/{name}.toml" for name in DIALECTS])


FIGURES = {"rates": "rates.toml", "assumptions": "assumptions.toml"}


def test_all_functions_are_seen() -> None:
    assert dir(zeitbuch) == sorted(zeitbuch.__all__) and {"check", "reconcile", "calibrate"} <= set(dir(zeitbuch))
    assert all(getattr(zeitbuch, name).__doc__ for name in zeitbuch.__all__ if name != "__version__")


def test_checks(estate: object, run: Run, demo: Path) -> None:
    made = zeitbuch.check(estate, **FIGURES)
    told = json.loads(run("check", "--format", "json", cwd=demo).out)["findings"]
    assert {(one.code, one.flow_id, one.message) for one in made.result.findings} >= {
        (one["code"], one["flow_id"], one["message"]) for one in told if not one.get("accepted")
    }
    frame = made.to_frame()
    assert len(frame) == len(made.result.findings) and "flow" in frame
    code = made.result.findings[-1].code
    assert {one.code for one in zeitbuch.check(estate, only=[code]).result.findings} == {code}


def test_reconciled(estate: object, run: Run, demo: Path) -> None:
    made = zeitbuch.reconcile(estate, MAPPINGS, **FIGURES)
    told = json.loads(run("reconcile", "--format", "json", cwd=demo).out)
    # The model map is the workspace's, which nothing is read of: without it one flow calls a model that nobody names.
    assert made.result.logged == Decimal(told["logged"]) and made.result.unexplained is not None
    assert len(made.to_frame()) == len(told["groups"])
    assert len(made.to_frame(explanations=True)) == len(made.result.explanations) > 10
    some = zeitbuch.reconcile(estate, MAPPINGS, **FIGURES, first=date(2026, 11, 1), last=date(2026, 11, 9), by="day")
    assert sorted(one.subject for one in some.result.groups) == [f"2026-11-0{day}" for day in range(1, 10)]


def test_calibrated(estate: object, run: Run, demo: Path) -> None:
    made = zeitbuch.calibrate(estate, ["usage/steps.toml"], **FIGURES)
    assert run("calibrate", "--mapping", "usage/steps.toml", "-o", "-", cwd=demo).out == made.toml
    assert len(made.to_frame()) == len(made.result.measured)
    over = zeitbuch.calibrate(estate, ["usage/steps.toml"], **FIGURES, over_declared=True)
    assert sum(one.written for one in over.result.measured) > sum(one.written for one in made.result.measured)


def test_what_cannot_be_used_is_raised(estate: object, demo: Path) -> None:
    with pytest.raises(ZeitbuchError):
        zeitbuch.reconcile(estate, [])
    with pytest.raises(ZeitbuchError):
        zeitbuch.calibrate(estate, ["usage/nowhere.toml"])
    (demo / "usage" / "bad.csv").write_text(
        "started,flow,run,step,took,ended\nyesterday,Crew swap approvals,1,x,2,done\n"
    )
    with pytest.raises(InputFaults, match="yesterday"):
        zeitbuch.reconcile(estate, ["usage/steps.toml"], ["usage/bad.csv"])
