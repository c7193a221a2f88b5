# Month after month: how volume, prices and hosts move the bill over a year.
"""Estimates of consecutive months."""

from __future__ import annotations

from .estimate import EstateEstimate
from .estimate_sheet import money_words
from .sheet import Column, Sheet
from .volume import Month, month_text


def months_from(month: Month, count: int = 12) -> list[str]:
    """'2026-11' and the months after it; an average month of a year begins with January."""
    year, number = month[0], month[1] or 1
    return [month_text((year + (number - 1 + i) // 12, (number - 1 + i) % 12 + 1)) for i in range(count)]


def months_sheet(results: list[EstateEstimate]) -> Sheet:
    """One row a month."""
    unit = results[0].currency or "no rate card"
    columns = (
        Column("month", "month"), Column("runs", "runs", "count"), Column("calls", "calls", "count"), Column("models", "models", "money"),
        Column("meters", "meters", "money"), Column("fees", "fees", "money"), Column("all", f"{unit}/month", "money"),
    )  # fmt: skip
    rows = []
    for r in results:
        t = r.total
        whole = t.cost_month + t.meters_month + t.fees_month
        parts = [money_words(m) if m.unknown else m.amount for m in (t.cost_month, t.meters_month, t.fees_month, whole)]
        rows.append((r.month, t.runs, t.calls_month, *parts))
    missing = sorted({name for r in results for name in r.total.unknown_volume})
    said = (f"? runs: no volume is known for {', '.join(missing)}; they are left out",) if missing else ()
    return Sheet(columns, tuple(rows), title="Month by month", notes=said)
