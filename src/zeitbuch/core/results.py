# What the JSON output of each command holds, as types, so that their JSON Schemas are generated and not written.
"""Result types of the JSON outputs."""

from __future__ import annotations

from msgspec import Struct

from .change_cost import CostChange
from .changes import FlowChanges
from .inventory import Row, Totals
from .model import Flow


class NativeFile(Struct, frozen=True):
    """The native form: the model as YAML or JSON."""

    zeitbuch: int
    flows: tuple[Flow, ...]


class InventoryResult(Struct, frozen=True):
    """`inventory --format json`."""

    flows: tuple[Row, ...]
    totals: Totals


class DiffResult(Struct, frozen=True):
    """`diff --format json`. ``cost`` has one entry for each flow when a rate card is at hand."""

    changed: bool
    currency: str
    flows: tuple[FlowChanges, ...]
    unchanged: int
    cost: tuple[CostChange, ...]
