"""Made-up estates whose runs are simulated one by one and written as logs of any layout, with anomalies whose money is known. Nothing of what
reads or explains logs is used here."""

from __future__ import annotations

import csv
import datetime as dt
import json
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from builders import ask, chain
from zeitbuch.core.actuals.reconcile import Basis
from zeitbuch.core.actuals.usage_mapping import ColumnRule, PassedOver, UsageMapping
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.model.records import Estate, Flow, Schedule, Trigger
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

FIRST = dt.date(2026, 10, 1)
DAYS = [FIRST + dt.timedelta(place) for place in range(61)]
PRICES = {"gull-1": ("0.4", "1.6"), "gull-2": ("2.5", "10"), "petrel-9": ("6", "18")}
TITLES = ("Berth notices", "Cargo papers", "Letters", "Crew swaps", "Lost property", "Fares desk", "Ice watch")
HEADS: dict[str, tuple[str, ...]] = {
    "time": ("Zeitpunkt", "ts", "When", "started at"),
    "flow": ("Ablauf", "workflow", "Flow", "automation"),
    "run": ("Lauf", "run id", "execution", "Vorgang"),
    "step": ("Schritt", "node", "activity", "Step"),
    "model": ("Modell", "engine", "Model", "llm"),
    "tokens_in": ("Token rein", "in", "prompt tokens", "Eingabe"),
    "tokens_out": ("Token raus", "out", "completion tokens", "Ausgabe"),
    "cost": ("Kosten", "amount", "Cost EUR", "Betrag"),
    "environment": ("Umgebung", "env", "stage", "Environment"),
    "host": ("Anlage", "host", "tenant", "account"),
}


@dataclass
class StepTruth:
    id: str
    model: str
    tokens_in: int
    tokens_out: int
    calls: float = 1.0


@dataclass
class FlowTruth:
    id: str
    name: str
    runs: float
    hour: int | None
    steps: list[StepTruth]


@dataclass
class World:
    """The estate with what is estimated of it, and the lines of the log: dictionaries by column of the record."""

    basis: Basis
    flows: list[FlowTruth]
    lines: list[dict[str, Any]] = field(default_factory=list)
    lost: Decimal = Decimal(0)  # the cost of lines that had not arrived
    planted: tuple[str, str] = ("", "")  # code and subject of the explanation that has to come first

    @property
    def cost(self) -> Decimal:
        return sum((line["cost"] for line in self.lines), Decimal(0))


def price(model: str, tokens_in: float, tokens_out: float) -> Decimal:
    given, got = (Decimal(text) for text in PRICES[model])
    return ((given * int(tokens_in) + got * int(tokens_out)) / 1_000_000).quantize(Decimal("0.0000000001"))


def draw_world(rng: random.Random) -> World:
    truths = []
    flows: list[Flow] = []
    rules: list[Rule] = []
    for number, title in enumerate(rng.sample(TITLES, rng.randint(3, 5))):
        hour = rng.randint(2, 20) if number == 0 or rng.random() < 0.4 else None
        runs = 1.0 if hour is not None else float(rng.randint(6, 25))
        steps = [
            StepTruth(f"s{place}", rng.choice(["gull-1", "gull-2"]), rng.randint(300, 4000), rng.randint(40, 500))
            for place in range(rng.randint(1, 3))
        ]
        truth = FlowTruth(f"f{number}", title, runs, hour, steps)
        clock = Schedule(cron=f"{rng.randint(0, 59)} {hour} * * *", zone="Europe/Oslo") if hour is not None else None
        trigger = Trigger(id="t", kind="schedule" if clock else "event", schedule=clock)
        made = chain(*[ask(one.id, name=one.model) for one in steps], id=truth.id, name=title, triggers=(trigger,))
        flows.append(made)
        # Exactly as estimated: whatever differs is planted. An average month has no meaning here: so many runs a day.
        for since, month_days in ((dt.date(2026, 10, 1), 31), (dt.date(2026, 11, 1), 30)):
            if clock is None:
                until = dt.date(since.year, since.month + 1, 1)
                rules.append(Rule(flow=title, trigger="t", runs=runs * month_days, since=since, until=until))
        rules += [
            Rule(flow=title, step=one.id, input=float(one.tokens_in), output=float(one.tokens_out)) for one in steps
        ]
        truths.append(truth)
    card = RateCard(
        "EUR",
        model=tuple(
            ModelRate(name, price=(Price(since=dt.date(2026, 1, 1), input=Decimal(given), output=Decimal(got)),))
            for name, (given, got) in PRICES.items()
        ),
    )
    return World(Basis(Estate(flows=tuple(flows)), card, Assumptions(assume=tuple(rules))), truths)


def simulate(world: World, rng: random.Random, runs_of: Callable[[FlowTruth, dt.date], float] | None = None) -> None:
    """Writes the lines of all runs."""
    for flow in world.flows:
        for day in DAYS:
            expected = runs_of(flow, day) if runs_of is not None else flow.runs
            for number in range(int(expected) + (rng.random() < expected % 1)):
                hour = flow.hour if flow.hour is not None else rng.randint(0, 23)
                moment = dt.datetime.combine(day, dt.time(hour, rng.randint(0, 59), rng.randint(0, 59)))
                _simulate_run(world, rng, flow, moment, f"{flow.id}-{day}-{number}")


def _simulate_run(world: World, rng: random.Random, flow: FlowTruth, moment: dt.datetime, run: str) -> None:
    for step in flow.steps:
        for call in range(int(step.calls) + (rng.random() < step.calls % 1)):
            tokens_in = max(1, round(step.tokens_in * rng.uniform(0.97, 1.03)))
            tokens_out = max(1, round(step.tokens_out * rng.uniform(0.97, 1.03)))
            world.lines.append({
                "time": moment + dt.timedelta(seconds=call), "environment": "prod", "host": "harbour", "flow": flow.name, "run": run,
                "step": step.id, "model": step.model, "tokens_in": tokens_in, "tokens_out": tokens_out,
                "cost": price(step.model, tokens_in, tokens_out),
            })  # fmt: skip


# -- anomalies: each changes the truth before the runs, or the lines after them ---------------------------------------------------


def _heaviest(world: World) -> FlowTruth:
    return max(
        world.flows,
        key=lambda flow: flow.runs * sum(price(s.model, s.tokens_in, s.tokens_out) for s in flow.steps).__float__(),
    )


def _dearest(flow: FlowTruth) -> StepTruth:
    return max(flow.steps, key=lambda one: price(one.model, one.tokens_in, one.tokens_out))


def more_runs(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    flow.runs *= rng.choice([0.5, 1.6, 2.5])
    simulate(world, rng)
    world.planted = "runs-", flow.name


def retries(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    _dearest(flow).calls = rng.choice([1.5, 2.0, 3.0])
    simulate(world, rng)
    world.planted = "calls-per-run-more", flow.name


def longer(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    step = _dearest(flow)
    step.tokens_in = round(step.tokens_in * rng.choice([0.5, 1.5, 3]))
    simulate(world, rng)
    world.planted = "sizes-", flow.name


def other_model(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    _dearest(flow).model = "petrel-9"
    simulate(world, rng)
    world.planted = "model-other", flow.name


def dearer(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    flow = _heaviest(world)
    model, since, factor = _dearest(flow).model, rng.choice(DAYS[10:40]), Decimal(rng.choice(["0.7", "1.25", "2"]))
    for line in world.lines:
        if line["model"] == model and line["time"].date() >= since:
            line["cost"] *= factor
    world.planted = "price", model


def missing_days(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    first = rng.choice(DAYS[5:40])
    gone = {first + dt.timedelta(place) for place in range(rng.randint(3, 8))}
    world.lines = [line for line in world.lines if line["time"].date() not in gone]
    world.planted = "days-missing", "all flows"


def doubled_days(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    first = rng.choice(DAYS[5:40])
    twice = {first + dt.timedelta(place) for place in range(rng.randint(3, 8))}
    world.lines += [dict(line) for line in world.lines if line["time"].date() in twice]
    world.planted = "lines-doubled", "the log"


def test_lines(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    world.lines += [
        line | {"environment": "test", "run": f"{line['run']}t"} for line in world.lines if rng.random() < 0.3
    ]
    world.planted = "test-environment", "test"


def unknown_flow(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    flow = _heaviest(world)
    world.lines += [
        line | {"flow": "Whale counting", "run": f"{line['run']}w", "time": line["time"] + dt.timedelta(seconds=1)}
        for line in world.lines if line["flow"] == flow.name
    ]  # fmt: skip
    world.planted = "flow-unknown", "Whale counting"


def silent_flow(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    simulate(world, rng, lambda one, _: 0 if one is flow else one.runs)
    world.planted = "flow-silent", flow.name


def stopped_flow(world: World, rng: random.Random) -> None:
    flow, since = _heaviest(world), rng.choice(DAYS[15:45])
    simulate(world, rng, lambda one, day: 0 if one is flow and day >= since else one.runs)
    world.planted = "flow-stopped", flow.name


def on_weekdays(world: World, rng: random.Random) -> None:
    flow = _heaviest(world)
    simulate(world, rng, lambda one, day: 0 if one is flow and day.weekday() > 4 else one.runs)
    world.planted = "weekdays-quiet", flow.name


def no_flow(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    world.lines += [line | {"flow": "", "run": "", "step": ""} for line in world.lines if rng.random() < 0.3]
    world.planted = "outside-any-flow", "the log"


def renamed(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    flow, since = _heaviest(world), rng.choice(DAYS[15:45])
    for line in world.lines:
        if line["flow"] == flow.name and line["time"].date() >= since:
            line["flow"] = "Quay messages"
    world.planted = "renamed", "Quay messages"


def totals(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    word, at = rng.choice(["Total", "Summe", "Gesamt"]), dt.datetime.combine(DAYS[-1], dt.time(23, 59))
    line = dict.fromkeys(world.lines[0], "") | {"time": at, "flow": word, "cost": world.cost, "environment": "prod"}
    world.lines.append(line)
    world.planted = "totals-counted", word


def free_host(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    since = rng.choice(DAYS[15:45])
    for line in world.lines:
        if line["time"].date() >= since:
            line["host"], line["cost"] = "upstairs", Decimal(0)
    world.planted = "not-billed", "at upstairs"


def clock_off(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    shift = dt.timedelta(hours=rng.choice([-2, -1, 3, 6]))
    for line in world.lines:
        line["time"] += shift
    world.planted = "clock-off", ""


def late_lines(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    lags: dict[str, int] = {}
    for line in world.lines:
        lag = lags.setdefault(line["run"], 0 if rng.random() < 0.5 else min(1 + int(rng.expovariate(0.5)), 9))
        line["arrived"] = line["time"] + dt.timedelta(days=lag)
    world.lost = sum((line["cost"] for line in world.lines if line["arrived"].date() > DAYS[-1]), Decimal(0))
    world.lines = [line for line in world.lines if line["arrived"].date() <= DAYS[-1]]
    world.planted = "lines-late", "all flows"


def cut_day(world: World, rng: random.Random) -> None:
    simulate(world, rng)
    end = dt.datetime.combine(DAYS[-1], dt.time(rng.randint(3, 9), rng.randint(0, 59)))
    gone = [line for line in world.lines if line["time"] > end]
    world.lines = [line for line in world.lines if line["time"] <= end]
    there = any(line["time"].date() == DAYS[-1] for line in world.lines)
    # Of a day with few lines, or none before the end, nobody can tell that it was cut.
    world.planted = ("day-cut", "") if len(gone) >= 20 and there else ("", "")


ANOMALIES: tuple[Callable[[World, random.Random], None], ...] = (
    more_runs, retries, longer, other_model, dearer, missing_days, doubled_days, test_lines, unknown_flow, silent_flow, stopped_flow,
    on_weekdays, no_flow, renamed, totals, free_host, clock_off, late_lines, cut_day,
)  # fmt: skip


# -- writing --------------------------------------------------------------------------------------------------------------------


def write_log(world: World, folder: Path, rng: random.Random, form: str = "") -> tuple[Path, UsageMapping]:
    """The lines as a log of some layout, and the mapping that says how to read it."""
    form = form or rng.choice(["csv", "csv", "csv", "jsonl", "parquet", "xlsx"])
    heads = {name: rng.choice(words) for name, words in HEADS.items()}
    if world.lines and "status" in world.lines[0]:
        heads["status"] = rng.choice(("Status", "Ergebnis", "outcome"))
    if world.lines and "arrived" in world.lines[0]:
        heads["arrived"] = rng.choice(("eingegangen", "ingested at", "Received"))
    if world.lines and "duration" in world.lines[0]:
        heads["duration"] = "seconds"
    order = list(heads)
    rng.shuffle(order)
    path = folder / f"log.{form}"
    lines = sorted(world.lines, key=lambda line: line["time"])
    clock = rng.choice(["iso", "%d.%m.%Y %H:%M:%S", "%m/%d/%Y %H:%M:%S"]) if form in ("csv", "xlsx") else "iso"
    mapping: dict[str, Any] = {"zone": "Europe/Oslo", "currency": "EUR", "not_production": ["test"]}
    if form == "csv":
        decimal = rng.choice([".", ","])
        thousands = rng.choice(["", "." if decimal == "," else ","])
        mapping |= {
            "separator": rng.choice([";", "\t", "|"]),
            "decimal": decimal,
            "thousands": thousands,
            "skip": rng.choice([0, 2]),
        }
        _write_csv(path, lines, heads, order, mapping, clock)
    elif form == "xlsx":
        _write_xlsx(path, lines, heads, order, clock)
    elif form == "jsonl":
        rows = [{heads[name]: _plain(line[name]) for name in order} for line in lines]
        path.write_text("".join(json.dumps(row) + "\n" for row in rows))
    else:
        _write_parquet(path, lines, heads, order)
    columns: dict[str, str | ColumnRule] = dict(heads)
    if "status" in heads:
        mapping["failed"] = ["failed"]
    if clock != "iso":
        for name in {"time", "arrived"} & set(heads):
            columns[name] = ColumnRule(column=heads[name], format=clock)
    return path, UsageMapping(column=columns, without=[PassedOver(heads["model"], equals=["never"])], **mapping)


def _plain(value: Any) -> Any:
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    return str(value) if isinstance(value, Decimal) else value if value != "" else None


def _number(value: Any, decimal: str, thousands: str) -> str:
    text = f"{value:,}" if thousands else str(value)
    return text.replace(",", "\0").replace(".", decimal).replace("\0", thousands)


def _write_csv(
    path: Path, lines: list[dict[str, Any]], heads: dict[str, str], order: list[str], how: dict[str, Any], clock: str
) -> None:
    with path.open("w", newline="") as file:
        file.write("Report\nof usage\n" if how["skip"] else "")
        rows = csv.writer(file, delimiter=how["separator"])
        rows.writerow([heads[name] for name in order])
        for line in lines:
            cells = []
            for name in order:
                value = line[name]
                if isinstance(value, dt.datetime):
                    cells.append(value.isoformat(" ") if clock == "iso" else value.strftime(clock))
                elif isinstance(value, int | Decimal):
                    cells.append(_number(value, how["decimal"], how["thousands"]))
                else:
                    cells.append(value)
            rows.writerow(cells)


def _write_xlsx(path: Path, lines: list[dict[str, Any]], heads: dict[str, str], order: list[str], clock: str) -> None:
    import xlsxwriter

    book = xlsxwriter.Workbook(str(path))
    sheet = book.add_worksheet("Usage")
    sheet.write_row(0, 0, [heads[name] for name in order])
    for place, line in enumerate(lines, 1):
        for at, name in enumerate(order):
            value = line[name]
            if isinstance(value, dt.datetime):
                sheet.write_string(place, at, value.isoformat(" ") if clock == "iso" else value.strftime(clock))
            elif isinstance(value, Decimal):
                sheet.write_string(place, at, str(value))  # a cell of numbers would round it
            else:
                sheet.write(place, at, value)
    book.close()


def _write_parquet(path: Path, lines: list[dict[str, Any]], heads: dict[str, str], order: list[str]) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    kinds = {
        "time": pa.timestamp("s"),
        "arrived": pa.timestamp("s"),
        "tokens_in": pa.int64(),
        "tokens_out": pa.int64(),
        "cost": pa.decimal128(28, 12),
    }
    columns = {
        heads[name]: pa.array(
            [line[name] if line[name] != "" else None for line in lines], kinds.get(name, pa.string())
        )
        for name in order
    }
    pq.write_table(pa.table(columns), path)
