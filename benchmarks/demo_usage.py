"""Writes the usage logs of the demo, sixty-one made-up days of the ferry line: python benchmarks/demo_usage.py

Breakwater sums its calls up by day; two chat flows move to Boathouse on 10 November, whose log has every call, in kroner. What happens is told
in docs/usage.md: a week that was not exported, a flow renamed, a model swapped, a dearer price, retries, tests, totals.
"""

from __future__ import annotations

import csv
import os
from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from zeitbuch.app.basis import load_basis
from zeitbuch.app.session import Session
from zeitbuch.core.actuals.card_costs import CardCosts
from zeitbuch.core.actuals.expected import ExpectedFlow, ExpectedStep, expected_flows
from zeitbuch.core.actuals.grouping import UsageSum
from zeitbuch.readers.config.workspace import active_dialects, load_workspace

ESTATE = Path(__file__).parent.parent / "src" / "zeitbuch" / "demo" / "estate"
FIRST = date(2026, 10, 1)
DAYS = [FIRST + timedelta(place) for place in range(61)]
MISSING = {date(2026, 10, 12) + timedelta(place) for place in range(7)}
MOVED, SWAPPED, RENAMED, RETRIED = date(2026, 11, 10), date(2026, 11, 17), date(2026, 11, 5), date(2026, 10, 26)
CHATS = ("Safety handbook assistant", "Timetable questions")
KRONER, DEARER = Decimal("0.086"), Decimal("1.12")
HEAD = (
    "Tag",
    "Ablauf",
    "Schritt",
    "Modell",
    "Umgebung",
    "Aufrufe",
    "Token ein",
    "Token aus",
    "Bilder",
    "Zeichen",
    "Kosten",
)


def used(step: ExpectedStep, calls: int, rng: np.random.Generator, model: str = "") -> UsageSum:
    """What some calls of a step used: as estimated, and as chance has it."""

    def draw(unit: str) -> float:
        each = step.units.get(unit, (0.0, Decimal(0)))[0] / step.calls
        return float(round(calls * each * float(rng.normal(1.0, 0.12 / max(1, calls) ** 0.5)))) if each else 0.0

    return UsageSum(
        None, "", "", "", step.id, "", model or step.model, "EUR", False, 1, 0, calls=float(calls),
        tokens_in=max(0.0, draw("input") + draw("cached")), tokens_out=max(0.0, draw("output")), images=draw("image"),
        characters=max(0.0, draw("characters")),
    )  # fmt: skip


def german(value: Decimal | float, places: int = 0) -> str:
    return f"{value:,.{places}f}".replace(",", " ").replace(".", ",").replace(" ", ".") if value else ""


class Breakwater:
    """Sums by day, as the platform's page of usage exports them."""

    def __init__(self) -> None:
        self.rows: list[tuple[str, ...]] = []
        self.month = Decimal(0)

    def add(self, day: date, flow: str, step: str, one: UsageSum, cost: Decimal, environment: str = "Betrieb") -> None:
        shown = cost.quantize(Decimal("0.000001"))
        self.month += shown
        self.rows.append((
            day.strftime("%d.%m.%Y"), flow, step, one.model, environment, german(one.calls or 0), german(one.tokens_in or 0),
            german(one.tokens_out or 0), german(one.images or 0), german(one.characters or 0), german(shown, 6),
        ))  # fmt: skip

    def close_month(self, day: date) -> None:
        self.rows.append((day.strftime("%d.%m.%Y"), "Summe", *[""] * 8, german(self.month, 6)))
        self.month = Decimal(0)

    def write(self, path: Path) -> None:
        with path.open("w", newline="", encoding="utf-8") as file:
            rows = csv.writer(file, delimiter=";", lineterminator="\n")
            rows.writerow(HEAD)
            rows.writerows(self.rows)


def chat_calls(flow: ExpectedFlow, day: date, rng: np.random.Generator, costs: CardCosts) -> list[dict[str, object]]:
    """Every call of a chat flow on a day, from Boathouse."""
    rows: list[dict[str, object]] = []
    for number in range(int(rng.poisson(flow.runs[day] or 0.0))):
        moment = datetime.combine(day, datetime.min.time()) + timedelta(seconds=int(rng.integers(6 * 3600, 22 * 3600)))
        for step in flow.steps_on(day):
            swapped = "fulmar-mini-2" if step.name == "Handbook assistant" and day >= SWAPPED else ""
            for call in range(1 + int(rng.poisson(max(0.0, step.calls - 1)))):
                one = used(step, 1, rng, swapped)
                cost = costs.cost_of(one, one.model, day)
                assert cost is not None
                billed = cost * (DEARER if one.model == "fulmar-large-2" else 1) / KRONER
                rows.append({
                    "at": moment + timedelta(seconds=4 * call), "flow": flow.id, "run": f"{flow.id}-{day:%m%d}-{number:03d}", "step": step.id,
                    "model": one.model, "in": int(one.tokens_in or 0), "out": int(one.tokens_out or 0), "kr": billed.quantize(Decimal("0.00000001")),
                    "seconds": round(float(rng.gamma(4, 1)), 1), "ended": "failed" if rng.random() < 0.02 else "done",
                })  # fmt: skip
    return rows


def main() -> None:
    os.chdir(ESTATE)
    workspace = load_workspace("zeitbuch.toml")
    session = Session(workspace, active_dialects(workspace, []), cache=False)
    basis = load_basis(workspace=workspace, today="2026-11")
    flows = expected_flows(session.estate([]), basis.card, basis.assumptions, DAYS, basis.counters)
    costs, rng = CardCosts(basis.card), np.random.default_rng(20261130)
    breakwater, boathouse = Breakwater(), []
    for day in DAYS:
        for flow in flows:
            if flow.name in CHATS and day >= MOVED:
                boathouse += chat_calls(flow, day, rng, costs)
                continue
            name = "Lost and found" if flow.name == "Lost property matching" and day >= RENAMED else flow.name
            runs = int(rng.poisson(flow.runs[day] or 0.0))
            for step in flow.steps_on(day):
                again = 1.35 if step.name == "Extract the goods" and day >= RETRIED else 1.0
                calls = int(rng.poisson(runs * step.calls * again))
                if calls and day not in MISSING:
                    one = used(step, calls, rng)
                    cost = costs.cost_of(one, one.model, day)
                    assert cost is not None
                    breakwater.add(day, name, step.name or step.id, one, cost)
                    if flow.name == "Customer letters" and day.day <= 6 and day.month == 11:
                        breakwater.add(day, name, step.name or step.id, one, cost, "Probe")
        if (day + timedelta(1)).day == 1:
            breakwater.close_month(day)
    breakwater.write(ESTATE / "usage" / "breakwater.csv")
    kinds = {"at": pa.timestamp("s"), "kr": pa.decimal128(18, 8)}
    table = pa.table({key: pa.array([row[key] for row in boathouse], kinds.get(key)) for key in boathouse[0]})
    pq.write_table(table, ESTATE / "usage" / "boathouse.parquet", compression="zstd")


if __name__ == "__main__":
    main()
