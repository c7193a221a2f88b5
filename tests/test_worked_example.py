"""The worked example, recomputed in plain Python: nothing of the package's arithmetic is imported, only its output read."""

from __future__ import annotations

import calendar
import json
import math
import re
from collections.abc import Callable
from datetime import date
from itertools import product
from pathlib import Path
from typing import Any

import pytest

WORKED = Path(__file__).parents[1] / "docs" / "worked"
DAYS = 30  # November
NOK = 0.086
TERN_IN, TERN_OUT = 0.50 / 1e6, 2.00 / 1e6
AUK_IN, AUK_OUT = 30.00 * NOK / 1e6, 120.00 * NOK / 1e6


@pytest.fixture(scope="module")
def result() -> dict[str, Any]:
    import subprocess
    import sys

    done = subprocess.run(
        [sys.executable, "-m", "zeitbuch", "estimate", str(WORKED / "flows.yaml"), "--rates", str(WORKED / "rates.toml"),
         "--assumptions", str(WORKED / "assumptions.toml"), "--steps", "--format", "json", "--no-cache"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def flow(result: dict[str, Any], key: str) -> dict[str, Any]:
    found: dict[str, Any] = next(f for f in result["flows"] if f["id"] == key)
    return found


def amount(money: dict[str, Any]) -> float:
    assert not money.get("unknown")
    return float(money.get("amount", 0))


def answers_cost() -> float:
    return 1.1 * (220 * TERN_IN + 90 * TERN_OUT)


def mailbox_runs() -> float:
    return DAYS * 86400 / 300 * 0.04


def test_answers(result: dict[str, Any]) -> None:
    f = flow(result, "answers")
    # One attempt, and a second for the tenth that fails; a hundredth fails for good.
    assert f["calls"] == pytest.approx(1 + 0.1)
    assert {s["id"]: s["passes"] for s in f["steps"]} == pytest.approx({"ask": 1.1, "note": 0.1 * 0.1})
    assert amount(f["cost"]) == pytest.approx(answers_cost())
    # 1,200 of its own and those of the mailbox, where both branches succeed.
    called = mailbox_runs() * (1 - 0.2) * (1 - 0.1)
    assert f["runs"] == pytest.approx(1200 + called)
    assert amount(f["cost_month"]) == pytest.approx(answers_cost() * (1200 + called))


def test_letters(result: dict[str, Any]) -> None:
    f = flow(result, "letters")
    weekends = sum(date(2026, 11, day).weekday() >= calendar.SATURDAY for day in range(1, DAYS + 1))
    letters = ((DAYS - weekends) * (10 + 4 * 20 + 60) / 6 + weekends * 8) / DAYS
    assert (weekends, letters) == (9, pytest.approx(19.9))
    # Its cap cuts the careful answer at 600 tokens.
    short, long = 0.7 * letters, 0.3 * letters
    cost = short * (300 * TERN_IN + 120 * TERN_OUT) + long * (300 * AUK_IN + 600 * AUK_OUT)
    assert f["calls"] == pytest.approx(letters)
    assert f["runs"] == DAYS
    assert amount(f["cost"]) == pytest.approx(cost)


def test_helper_by_a_transcript(result: dict[str, Any]) -> None:
    """Turns K of a PERT(1, 3, 8): the quadratic law against a literal transcript, turn by turn."""
    frame, call, tool = 30, 40, (60 + 100) / 2
    base = 150 + 2 * frame

    def transcript(turns: int) -> tuple[float, float]:
        said = given = got = 0.0
        for turn in range(1, turns + 1):
            given += base + said
            if turn < turns:
                got += call
                said += call + tool
            else:
                got += 200
        return given, got

    def law(k: float, k2: float) -> tuple[float, float]:
        return k * base + (call + tool) * (k2 - k) / 2, (k - 1) * call + 200

    for turns in range(1, 11):
        assert law(turns, turns**2) == pytest.approx(transcript(turns))
    mean = (1 + 4 * 3 + 8) / 6
    given, got = law(mean, mean**2 + (mean - 1) * (8 - mean) / 7)
    f = flow(result, "helper")
    assert f["input_tokens"] == pytest.approx(given)
    assert f["output_tokens"] == pytest.approx(got)
    assert f["calls"] == pytest.approx(mean)
    assert {s["id"]: s["passes"] for s in f["steps"]}["tides"] == pytest.approx((mean - 1) / 2)
    assert amount(f["cost"]) == pytest.approx(given * AUK_IN + got * AUK_OUT)


def test_shelf(result: dict[str, Any]) -> None:
    f = flow(result, "shelf")
    chunks = math.ceil((50_000 - 100) / (800 - 100))
    embedded = 50_000 + 100 * (chunks - 1)
    calls = math.ceil(chunks / 16)
    mondays = [day for day in range(1, DAYS + 1) if date(2026, 11, day).weekday() == calendar.MONDAY]
    assert (chunks, embedded, calls, len(mondays)) == (72, 57_100, 5, 5)
    price = sum(0.10 if day < 16 else 0.15 for day in mondays) / len(mondays) / 1e6
    assert f["input_tokens"] == pytest.approx(embedded)
    assert f["calls"] == pytest.approx(calls)
    assert f["runs"] == len(mondays)
    assert amount(f["cost"]) == pytest.approx(embedded * price + calls * 0.0001)
    # How often it is called hangs on the declared size, pieces and batch: nothing of that stands in the export.
    assert f["evidence"]["declared"] == pytest.approx(1)
    assert amount(f["cost_month"]) == pytest.approx(len(mondays) * (embedded * price + calls * 0.0001))


def test_mailbox_by_trying_every_outcome(result: dict[str, Any]) -> None:
    f = flow(result, "mailbox")
    met = sum((0.8 if s else 0.2) * (0.9 if t else 0.1) for s, t in product((0, 1), repeat=2) if s and t)
    assert {s["id"]: s["passes"] for s in f["steps"]} == pytest.approx(
        {"split": 1, "sum": 1, "scan": 1, "meet": met, "call": met}
    )
    own = 500 * TERN_IN + 100 * TERN_OUT
    assert f["checks"] == DAYS * 288
    assert f["runs"] == pytest.approx(mailbox_runs())
    assert amount(f["cost"]) == pytest.approx(own)
    assert amount(f["with_called"]) == pytest.approx(own + met * answers_cost())


def test_notices_by_trying_every_outcome(result: dict[str, Any]) -> None:
    f = flow(result, "notices")
    posted = sum(0.9 if found else 0.1 for found in (0, 1) if found)
    passes = {s["id"]: s["passes"] for s in f["steps"]}
    assert passes == pytest.approx({"sum": 1, "translate": 1, "look": 1, "post": posted})
    assert amount(f["cost"]) == pytest.approx(400 * (TERN_IN + AUK_IN) + 60 * TERN_OUT + 80 * AUK_OUT)


def test_flows_that_call_each_other_round_after_round(result: dict[str, Any]) -> None:
    """Every start by itself is followed through its rounds until nothing is left of it."""
    own = {"asking": 100 * TERN_IN + 50 * TERN_OUT, "replies": 200 * TERN_IN + 40 * TERN_OUT}
    leads = {"asking": ("replies", 1.0), "replies": ("asking", 0.5)}
    runs, spent = dict.fromkeys(own, 0.0), dict.fromkeys(own, 0.0)
    for first in own:
        at, weight = first, 1.0
        while weight > 1e-12:
            runs[at] += 100 * weight
            spent[first] += weight * own[at]
            at, weight = leads[at][0], weight * leads[at][1]
    assert (runs["asking"], runs["replies"]) == (pytest.approx(300), pytest.approx(400))
    for key in own:
        f = flow(result, key)
        assert (f["runs"], amount(f["cost"])) == (pytest.approx(runs[key]), pytest.approx(own[key]))
        assert amount(f["with_called"]) == pytest.approx(spent[key])


def test_the_meter_and_the_fee(result: dict[str, Any]) -> None:
    runs = sum(f["runs"] for f in result["flows"])
    bill = (2000 - 1000) * 0.004 + (runs - 2000) * 0.002
    assert runs > 2000
    assert amount(result["total"]["meters_month"]) == pytest.approx(bill)
    assert amount(result["total"]["fees_month"]) == pytest.approx(12)
    helper = flow(result, "helper")
    assert amount(helper["meters_month"]) == pytest.approx(bill * 900 / runs)


def test_sampled_means_are_near(result: dict[str, Any]) -> None:
    for f in result["flows"]:
        assert f["exact"]
        assert f["spread"]["mean"] == pytest.approx(amount(f["with_called"]), rel=0.05)
        assert f["spread"]["p50"] <= f["spread"]["p90"] <= f["spread"]["p99"]


def test_the_document_says_the_same(result: dict[str, Any]) -> None:
    """Every figure that the document marks is the one that comes out."""
    text = (WORKED.parent / "worked-example.md").read_text(encoding="utf-8")
    figures: dict[str, Callable[[], float]] = {}
    for f in result["flows"]:
        figures[f"{f['id']}.calls"] = lambda f=f: f["calls"]
        figures[f"{f['id']}.runs"] = lambda f=f: f["runs"]
        figures[f"{f['id']}.run"] = lambda f=f: amount(f["cost"])
        figures[f"{f['id']}.month"] = lambda f=f: amount(f["cost_month"])
    total = result["total"]
    figures["models"] = lambda: amount(total["cost_month"])
    figures["meters"] = lambda: amount(total["meters_month"])
    figures["all"] = lambda: sum(amount(total[k]) for k in ("cost_month", "meters_month", "fees_month"))
    marked = re.findall(r"<!--(\S+)-->\s*\**([\d.,]+)", text)
    assert len(marked) >= 20 and {name for name, _ in marked} == set(figures)
    for name, shown in marked:
        number = shown.rstrip(".,").replace(",", "")
        places = len(number.partition(".")[2])
        assert float(number) == pytest.approx(figures[name](), abs=0.5000001 * 10**-places), name
