# What two versions changed since the one they set out from, as a table: what contradicts comes first.
"""The table of a comparison three ways."""

from __future__ import annotations

from collections import Counter

from zeitbuch.core.diff.three_way import SIDES, MetChange, ThreeWay
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words

from .change_tables import SIGN, change_line, change_places


def three_way_sheet(found: ThreeWay) -> Sheet:
    """One row a change, or a pair of changes that meet."""
    columns = (
        Column("state", "state"),
        Column("flow", "flow"),
        Column("id", "id", rank=3),
        Column("ours", "ours"),
        Column("theirs", "theirs"),
        Column("place_ours", "where in ours", rank=3),
        Column("place_theirs", "where in theirs", rank=3),
    )
    return Sheet(columns, tuple(_row(met) for met in found.changes), notes=(three_way_summary(found),))


def _row(met: MetChange) -> tuple[object, ...]:
    sides = (met.ours, met.theirs)
    words = [f"{SIGN[change.weight]} {change_line(change)}" if change is not None else "" for change in sides]
    if met.state == "both alike":
        words[1] = "the same"
    places = [change_places(change) if change is not None else "" for change in sides]
    return (met.state, met.flow, met.id, *words, *places)


def three_way_summary(found: ThreeWay) -> str:
    """'2 conflicts, 3 changes only ours, 1 only theirs, 4 both alike.'"""
    counts = Counter(met.state for met in found.changes)
    if not found.changes:
        return "Neither side changed anything since the base."
    parts = [f"{counts[side]} {side}" for side in SIDES[1:] if counts[side]]
    return ", ".join([count_words(counts["conflict"], "conflict"), *parts]) + "."
