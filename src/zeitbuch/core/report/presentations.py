# What commands hand to writers: a result with the ways in which it can be shown. Light on purpose: every command needs this, and
# none needs what the others compute.
"""Results with what writers need of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct

from zeitbuch.core.model.sheet import Sheet

if TYPE_CHECKING:
    from zeitbuch.core.actuals.records import Reconciled
    from zeitbuch.core.diff.clones import ClonesResult
    from zeitbuch.core.diff.records import EstateChanges, FlowChanges
    from zeitbuch.core.estimate.records import Driver, EstateEstimate
    from zeitbuch.core.pricing.rate_card import RateCard
    from zeitbuch.core.report.change_tables import DiffResult

    from .blocks import Page
    from .change_maps import Maps


class SheetResult(Struct, frozen=True):
    """Tables without a type of their own, as JSON (`estimate --why`): one object a row."""

    title: str
    rows: tuple[dict[str, Any], ...]
    notes: tuple[str, ...] = ()

    @classmethod
    def of(cls, sheet: Sheet) -> SheetResult:
        keys = [column.key for column in sheet.columns]
        return cls(sheet.title, tuple(dict(zip(keys, row, strict=True)) for row in sheet.rows), sheet.notes)


class TableResult(Struct, frozen=True):
    """What a command tells as a table: ``kind`` and ``body`` of its JSON, and the table itself, with all columns (True) or
    with those that people want."""

    kind: str
    body: Any
    sheet: Callable[[bool], Sheet]


class PageResult(Struct, frozen=True):
    """What a command tells as a page of blocks: ``kind`` and ``body`` of its JSON, and the page."""

    kind: str
    body: Any
    page: Page


class BodyResult(Struct, frozen=True):
    """What a command tells in words of its own: ``kind`` and ``body`` of its JSON."""

    kind: str
    body: Any


class ChangesReport(Struct, frozen=True):
    """A comparison of two versions, with the maps of a changed flow where there are both versions of it."""

    body: DiffResult
    changes: EstateChanges
    maps: Callable[[FlowChanges], Maps | None]


class ClonesReport(Struct, frozen=True):
    """Near-identical flows, branches, steps and prompts."""

    body: ClonesResult
    kind: str = "clones"


class FlowDocument(Struct, frozen=True):
    """One page of the documents, with what draws its map: as SVG within a page (True) or as a file of its own, as a PNG, or as a page of
    its own to search, fold and click."""

    page: Page
    map: Callable[[bool], str] | None = None
    picture: Callable[[], bytes] | None = None
    map_page: Callable[[], str] | None = None


ChartKind = Literal["flows", "runs", "drivers", "months"]


class ChartData(Struct, frozen=True):
    """What a chart shows: an estimate (flows, runs), what moves it (drivers), or estimates of consecutive months."""

    kind: ChartKind
    estimate: EstateEstimate | None = None
    drivers: tuple[Driver, ...] = ()
    months: tuple[EstateEstimate, ...] = ()
    per: str = "month"
    currency: str = ""
    card: RateCard | None = None


class UsageChart(Struct, frozen=True):
    """Usage beside the estimate, by day."""

    reconciled: Reconciled


def sheet_result(sheet: Sheet) -> TableResult:
    """A table without a type of its own."""
    return TableResult("sheet", SheetResult.of(sheet), lambda full: sheet)
