# How long single lines took. Means of sums say nothing of the slow ones, so that this is asked of the lines themselves, with the names of
# the log made those of the estate before: a step that was renamed has one P90, not two.
"""Durations of steps."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date
from typing import Any, NamedTuple

from msgspec import Struct

_SLOW = 0.9


class StepPlace(NamedTuple):
    """Names as the log has them (without blanks around), the flow and step of the estate that they mean, and its time limit in seconds."""

    flow_name: str
    step_name: str
    model_name: str
    flow: str
    step: str
    limit: float | None


class TimedDays(NamedTuple):
    """Which lines are asked for: from day to day (both included; None: as far as the log goes), without these environments."""

    first: date | None = None
    last: date | None = None
    not_production: Sequence[str] = ()


class StepTimes(Struct, frozen=True):
    """How long lines of a step took, in seconds: how many say it, their mean, the time within which nine of ten were done, and how many took
    as long as the step's time limit (None: it has none)."""

    flow: str
    step: str
    lines: int
    mean: float
    p90: float | None
    at_limit: int | None = None


def table_of_places(places: Iterable[StepPlace]) -> Any:
    """Places as a table (Arrow)."""
    import pyarrow as pa

    held = [*places]
    kinds = (*[pa.string()] * 5, pa.float64())
    columns = [pa.array([row[place] for row in held], kind) for place, kind in enumerate(kinds)]
    return pa.table(columns, names=list(StepPlace._fields))


def times_of_usage(records: Any, keys: Any, asked: TimedDays, exact: bool) -> Any:
    """The expression for the durations of steps; ``keys`` is the table of their places. Lines that stand for several calls say nothing of one. ``exact`` holds all durations in
    memory; otherwise P90 is an approximation."""
    import ibis

    shown = records.filter(
        ~records["passed"],
        ~records["doubled"],
        records["duration"].notnull(),
        records["calls"].isnull() | (records["calls"] <= 1),
    )
    if asked.not_production:
        outside = [name.casefold() for name in asked.not_production]
        shown = shown.filter(~shown["environment"].fill_null("").strip().lower().isin(outside))
    if asked.first is not None:
        shown = shown.filter(shown["day"] >= ibis.date(asked.first.isoformat()))
    if asked.last is not None:
        shown = shown.filter(shown["day"] <= ibis.date(asked.last.isoformat()))
    named = shown.select(
        **{f"{side}_name": shown[side].fill_null("").strip() for side in ("flow", "step", "model")},
        duration=shown["duration"],
    )
    joined = named.inner_join(keys, ["flow_name", "step_name", "model_name"])
    took = joined["duration"]
    return joined.group_by(["flow", "step"]).aggregate(
        lines=joined.count(),
        mean=took.mean(),
        p90=took.quantile(_SLOW) if exact else took.approx_quantile(_SLOW),
        limits=joined["limit"].count(),
        at_limit=ibis.ifelse((took >= joined["limit"]).fill_null(False), 1, 0).sum(),
    )


def step_times(row: dict[str, Any]) -> StepTimes:
    """A row of the answer as a record."""
    return StepTimes(
        row["flow"],
        row["step"],
        int(row["lines"]),
        float(row["mean"]),
        float(row["p90"]),
        int(row["at_limit"]) if row["limits"] else None,
    )
