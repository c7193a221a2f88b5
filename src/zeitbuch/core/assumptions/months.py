# Month after month: how volume, prices and hosts move the bill over a year.
"""Estimates of consecutive months."""

from __future__ import annotations

from .days import Month
from .volume import month_text


def months_from(month: Month, count: int = 12) -> list[str]:
    """'2026-11' and the months after it; an average month of a year begins with January."""
    year, number = month[0], month[1] or 1
    return [month_text((year + (number - 1 + index) // 12, (number - 1 + index) % 12 + 1)) for index in range(count)]
