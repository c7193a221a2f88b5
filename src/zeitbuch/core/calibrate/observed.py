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
    timed_out: Floats
    took: Floats  # seconds of `timed` lines
    timed: Floats

    def total(self, column: str, first: int = 0) -> float:
        """The sum of a column from a day on."""
        return float(self.by_day[column][first:].sum()) if column in self.by_day else 0.0


class FlowSeen(Struct):
    """A flow on the D days that the log covers. ``runs`` by day, None where it does not tell; ``all_runs``: also those without a model
    call. ``by_pass``: what is counted as calls are passes of steps, of a log that knows no calls."""

    days: list[date]
    runs: Floats | None
    all_runs: bool
    by_step: bool
    groups: dict[str, GroupSeen]
    by_pass: bool = False

    @property
    def calls(self) -> Floats:
        """Model calls of all groups by day."""
        return sum((group.by_day["calls"] for group in self.groups.values()), np.zeros(len(self.days)))


def flow_seen(case: FlowCase, days: Sequence[date], are_passes: bool = False) -> FlowSeen | None:
    """The observations of a flow; None where the log has no line of it, or lines that tell no calls, and are no passes of steps either
    (``are_passes``)."""
    lines = [one for day in days for one in case.lines.get(day, ())]
    by_pass = are_passes and not case.tells_calls(days) and all(one.step for one in lines)
    if not lines or not (by_pass or case.tells_calls(days)):
        return None
    place = {day: number for number, day in enumerate(days)}
    by_step = any(one.step for one in lines)
    groups: dict[str, GroupSeen] = {}
    for one in lines:
        key = one.step if by_step else one.model
        if key not in groups:
            groups[key] = GroupSeen(key, {}, *[np.zeros(len(days)) for _ in range(6)])
        group = groups[key]
        _add_line(group, one, place, len(days))
    runs = np.array([case.runs.get(day, 0.0) for day in days]) if case.runs is not None else None
    if by_pass:
        for seen in groups.values():
            seen.by_day["calls"] = seen.lines
    return FlowSeen(list(days), runs, case.all_runs, by_step, groups, by_pass)


def _add_line(group: GroupSeen, one: Placed, place: dict[date, int], days: int) -> None:
    assert one.day is not None
    at = place[one.day]
    group.lines[at] += one.sum.lines
    group.failed[at] += one.sum.failed
    group.silent[at] += one.sum.silent
    group.timed_out[at] += one.sum.timed_out
    group.took[at] += one.sum.took or 0.0
    group.timed[at] += one.sum.timed
    for column in COUNTED:
        value = getattr(one.sum, column)
        if value is not None:
            group.by_day.setdefault(column, np.zeros(days))[at] += value
