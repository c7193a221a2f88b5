# A flow as the log has it, by day, in arrays: runs, and for each step (or model, where the log names no steps) calls, tokens, failures.
"""Observations of a flow."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.actuals.placing import Placed

Floats = NDArray[Any]
COUNTED = ("calls", "tokens_in", "tokens_out", "tokens_cached", "tokens_reasoning", "images", "pages", "sound")


class GroupSeen(Struct):
    """A step, or a model: what the log has of it on each day, arrays of shape (D,); columns that the log does not have are not there."""

    key: str
    by_day: dict[str, Floats]
    failed: Floats
    lines: Floats
    silent: Floats  # calls that say no tokens

    def total(self, column: str, first: int = 0) -> float:
        """The sum of a column from a day on."""
        return float(self.by_day[column][first:].sum()) if column in self.by_day else 0.0


class FlowSeen(Struct):
    """A flow on the D days that the log covers. ``runs`` by day, None where it does not tell; ``all_runs``: also those without a model
    call."""

    days: list[date]
    runs: Floats | None
    all_runs: bool
    by_step: bool
    groups: dict[str, GroupSeen]

    @property
    def calls(self) -> Floats:
        """Model calls of all groups by day."""
        return sum((group.by_day["calls"] for group in self.groups.values()), np.zeros(len(self.days)))


def flow_seen(case: FlowCase, days: Sequence[date]) -> FlowSeen | None:
    """The observations of a flow; None where the log has no line of it, or lines that tell no calls."""
    lines = [one for day in days for one in case.lines.get(day, ())]
    if not lines or not case.tells_calls(days):
        return None
    place = {day: number for number, day in enumerate(days)}
    by_step = any(one.step for one in lines)
    groups: dict[str, GroupSeen] = {}
    for one in lines:
        key = one.step if by_step else one.model
        group = groups.setdefault(
            key, GroupSeen(key, {}, np.zeros(len(days)), np.zeros(len(days)), np.zeros(len(days)))
        )
        _add_line(group, one, place, len(days))
    runs = np.array([case.runs.get(day, 0.0) for day in days]) if case.runs is not None else None
    return FlowSeen(list(days), runs, case.all_runs, by_step, groups)


def _add_line(group: GroupSeen, one: Placed, place: dict[date, int], days: int) -> None:
    assert one.day is not None
    at = place[one.day]
    group.lines[at] += one.sum.lines
    group.failed[at] += one.sum.failed
    group.silent[at] += one.sum.silent
    for column in COUNTED:
        value = getattr(one.sum, column)
        if value is not None:
            group.by_day.setdefault(column, np.zeros(days))[at] += value
