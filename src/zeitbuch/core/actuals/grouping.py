# Usage is added up by an engine that is made for it, wherever the records lie: what is asked is one expression, the answer a few rows.
"""What is asked of usage records."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from .columns import MEASURES, NAMES, UNIT_COLUMNS

# By these the records are added up once; all that is told is worked out from the sums.
KEYS = ("day", "environment", "host", "flow", "step", "feature", "model", "meter", "currency")

_MANY_DAYS = 4  # from which on it is asked whether one run has lines on them all


class UsageSum(Struct, frozen=True, gc=False):
    """The sums of records that share a day, and names. ``lines`` counts them, ``failed`` those that ended in failure, ``timed_out`` those whose time
    limit passed; a measure that the
    log does not have is None. ``passed`` says that the mapping passes over them, ``doubled`` that the same lines stand there before; ``silent`` are calls
    that say no tokens, in a log that has them. ``took`` are the seconds of ``timed`` lines that stand for one call at most."""

    day: str | None
    environment: str
    host: str
    flow: str
    step: str
    feature: str
    model: str
    currency: str
    passed: bool
    lines: int
    failed: int
    doubled: bool = False
    calls: float | None = None
    tokens_in: float | None = None
    tokens_out: float | None = None
    tokens_cached: float | None = None
    tokens_reasoning: float | None = None
    characters: float | None = None
    images: float | None = None
    pages: float | None = None
    sound: float | None = None
    cost: Decimal | None = None
    duration: float | None = None
    meter: str = ""
    silent: float = 0.0
    timed_out: int = 0
    timed: int = 0
    took: float | None = None

    def units(self, unit: str) -> float:
        """How much of a unit of rate cards there is."""
        if unit == "input":
            return max(0.0, (self.tokens_in or 0.0) - (self.tokens_cached or 0.0))
        column = UNIT_COLUMNS.get(unit)
        return (getattr(self, column) or 0.0) if column is not None else 0.0


def sum_key(one: UsageSum) -> tuple[object, ...]:
    """By what sums are told apart, in an order that is always the same."""
    return tuple([getattr(one, name) or "" for name in KEYS]), one.passed, one.doubled, one.lines, str(one.cost)


def sums_of_usage(records: Any, kept: Sequence[str]) -> Any:
    """The expression that adds records up: one row for each combination of ``KEYS``. ``kept`` are the columns that the log has."""
    measures = {name: records[name].sum() for name in MEASURES if name in kept}
    refused = {f"refused_{name}": records[f"refused_{name}"].sum() for name in kept}
    if "tokens_in" in kept and "calls" in kept:
        measures["silent"] = records["calls"].sum(where=records["tokens_in"].isnull())
    if "duration" in kept:
        single = records["calls"].isnull() | (records["calls"] <= 1)
        measures |= {"timed": records["duration"].count(where=single), "took": records["duration"].sum(where=single)}
    return records.group_by([*KEYS, "passed", "doubled", "file"]).aggregate(
        lines=records.count(),
        failed=records["is_failed"].sum(),
        timed_out=records["is_late"].sum(),
        **measures,
        **refused,
    )


def days_with_doubled(records: Any) -> Any:
    """The expression for the days on which some lines are equal in every column of the log."""
    counted = records.group_by("day").aggregate(lines=records.count(), different=records["whole"].nunique())
    return counted.filter(counted.different < counted.lines).select("day")


def with_doubled(records: Any) -> Any:
    """The records with a mark at each line that stands there once more."""
    import ibis

    same = ibis.window(group_by=[records["whole"], records["day"]])
    return records.mutate(doubled=ibis.row_number().over(same) > 0)


def _lines_of_runs(records: Any) -> Any:
    """The lines of runs."""
    runs = records.filter(~records["passed"] & ~records["doubled"] & records["run"].notnull())
    return runs.select("environment", "flow", "day", id=runs["run"])


def runs_of_usage(records: Any, part: int = 0, parts: int = 1) -> Any:
    """The expression that counts runs by environment, flow and the day of their first line, with the days between it and their last line added
    up (``spans``): a run over midnight, or one that waits for a person, is one. Of very many runs it holds a part at a time."""
    lines = _lines_of_runs(records)
    if parts > 1:
        lines = lines.filter((lines["id"].hash() % parts + parts) % parts == part)
    by_run = lines.group_by(["environment", "flow", "id"]).aggregate(first=lines["day"].min(), last=lines["day"].max())
    return by_run.group_by(["environment", "flow", by_run["first"].name("day")]).aggregate(
        runs=by_run.count(), spans=by_run["last"].delta(by_run["first"], unit="day").sum()
    )


def runs_by_day_of_usage(records: Any, flows: Sequence[str]) -> Any:
    """The same for flows whose ids of runs begin anew on each day: a run is one on each of its days."""
    lines = _lines_of_runs(records)
    some = lines.filter(lines["flow"].isin(list(flows)))
    return some.group_by(["environment", "flow", "day"]).aggregate(runs=some["id"].nunique())


def flows_with_long_runs(rows: Sequence[Mapping[str, Any]]) -> list[str]:
    """Flows whose runs take four days or more in the mean."""
    return [flow for flow, (runs, days) in _days_of_flows(rows, "spans").items() if days >= _MANY_DAYS * runs]


def flows_with_ids_anew(rows: Sequence[Mapping[str, Any]], by_day: Sequence[Mapping[str, Any]]) -> list[str]:
    """Those of them whose runs have lines on most of these days: their ids are those of other runs again."""
    spans, days = _days_of_flows(rows, "spans"), _days_of_flows(by_day, "runs")
    return [flow for flow, (_, lines_on) in days.items() if 2 * lines_on > spans[flow][0] + spans[flow][1]]


def _days_of_flows(rows: Sequence[Mapping[str, Any]], column: str) -> dict[str, tuple[int, int]]:
    """Flow -> its runs, and the sum of a column."""
    found: dict[str, tuple[int, int]] = {}
    for row in rows:
        runs, days = found.get(row["flow"] or "", (0, 0))
        found[row["flow"] or ""] = runs + int(row["runs"]), days + int(row[column] or 0)
    return found


def hours_of_usage(records: Any) -> Any:
    """The expression that counts lines by flow and hour of the day."""
    timed = records.filter(~records["passed"] & ~records["doubled"] & records["time"].notnull())
    return timed.group_by(["flow", timed["time"].hour().name("hour")]).aggregate(lines=timed.count())


def usage_sum(row: dict[str, Any]) -> UsageSum:
    """A row of the answer as a record."""
    names: dict[str, Any] = {name: (row[name] or "").strip() for name in KEYS if name in NAMES}
    day = row["day"]
    measures: dict[str, Any] = {
        name: None if (value := row.get(name)) is None else float(value) for name in MEASURES if name != "cost"
    }
    measures["cost"] = row.get("cost")  # decimal
    return UsageSum(
        day=None if day is None else str(day)[:10],
        **names,
        passed=bool(row["passed"]),
        lines=int(row["lines"]),
        failed=int(row["failed"] or 0),
        doubled=bool(row["doubled"]),
        silent=float(row.get("silent") or 0.0),
        timed_out=int(row["timed_out"] or 0),
        timed=int(row.get("timed") or 0),
        took=row.get("took"),
        **measures,
    )
