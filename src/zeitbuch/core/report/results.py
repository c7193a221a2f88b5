# What the JSON output of each command holds, as types, so that their JSON Schemas are generated and not written.
"""Result types of the JSON outputs."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from zeitbuch.core.diff.records import FlowChanges
from zeitbuch.core.estimate.breakdown import GroupRow
from zeitbuch.core.estimate.proposals import Proposal
from zeitbuch.core.estimate.sensitivity import Driver
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.sheet import Sheet

from .inventory import Row, Totals


class NativeFile(Struct, frozen=True):
    """The native form: the model as YAML or JSON."""

    zeitbuch: int
    flows: tuple[Flow, ...]


class InventoryResult(Struct, frozen=True):
    """`inventory --format json`."""

    flows: tuple[Row, ...]
    totals: Totals


class DiffResult(Struct, frozen=True):
    """`diff --format json`. ``refused`` says why the exit status is 1, a sentence each."""

    changed: bool
    currency: str
    flows: tuple[FlowChanges, ...]
    unchanged: int
    refused: tuple[str, ...] = ()


class GroupsResult(Struct, frozen=True):
    """`estimate --by SIDE --format json`."""

    month: str
    currency: str
    by: str
    groups: tuple[GroupRow, ...]


class DriversResult(Struct, frozen=True):
    """`estimate --drivers --format json`."""

    per: str
    currency: str
    drivers: tuple[Driver, ...]


class ProposalsResult(Struct, frozen=True):
    """`compare --propose --format json`."""

    month: str
    currency: str
    proposals: tuple[Proposal, ...]


class SheetResult(Struct, frozen=True):
    """Tables without a type of their own, as JSON (`estimate --why`): one object a row."""

    title: str
    rows: tuple[dict[str, Any], ...]
    notes: tuple[str, ...] = ()

    @classmethod
    def of(cls, sheet: Sheet) -> SheetResult:
        keys = [c.key for c in sheet.columns]
        return cls(sheet.title, tuple(dict(zip(keys, row, strict=True)) for row in sheet.rows), sheet.notes)
