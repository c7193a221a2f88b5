# What becomes of the lines of a log, before anything is held against them.
"""Records of a tried mapping."""

from __future__ import annotations

from decimal import Decimal

from msgspec import Struct

from .matching import Kind
from .part_days import PartDay


class ColumnUse(Struct, frozen=True):
    """What became of one column of the records: where it comes from, what it sums up to (measures), how many values were of no use."""

    name: str
    column: str
    total: str
    refused: int


class NameUse(Struct, frozen=True):
    """One name of the log: of what sort, its lines and cost, how it is known in the estate, and as what."""

    sort: str
    name: str
    lines: int
    cost: Decimal | None
    kind: Kind
    meant: str


class UsageTrial(Struct, frozen=True):
    """What becomes of the lines of a log: how many there are, were passed over and could not be read; its days, columns and names, and the days that
    it has a part of."""

    files: tuple[str, ...]
    lines: int
    passed: int
    rejected: int
    first_day: str
    last_day: str
    days: int
    columns: tuple[ColumnUse, ...]
    names: tuple[NameUse, ...]
    zone: str = "UTC"
    part_days: tuple[PartDay, ...] = ()
