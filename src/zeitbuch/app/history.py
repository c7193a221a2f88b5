# The book as its owner sees it: snapshots, and versions of a flow with what each would cost today.
"""Recorded snapshots and versions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.book.history_tables import estate_sheet, flow_sheet
from zeitbuch.book.records import Version
from zeitbuch.book.selection import find_snapshot, flow_versions
from zeitbuch.book.store import Book, Reading
from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.model.sheet import Sheet
from zeitbuch.readers.dialects.rules import has_files_beside
from zeitbuch.readers.input.sources import Held

from .session import Session
from .sources import recorded_files

if TYPE_CHECKING:
    from .basis import EstimateBasis


def list_history(session: Session, flow: str = "", today: EstimateBasis | None = None) -> Sheet:
    """The snapshots of the book, or the versions of one flow (id or name, now or once); with ``today`` what each version would
    cost on that basis, too."""
    with Book(session.book).reading() as reading:
        snapshots, versions = reading.snapshots(), reading.versions()
        if not flow:
            return estate_sheet(snapshots, versions)
        costs = (lambda version: _cost_today(session, version, reading, today)) if today is not None else None
        return flow_sheet(flow_versions(versions, flow), snapshots, costs)


def _cost_today(session: Session, version: Version, reading: Reading, basis: EstimateBasis) -> list[object]:
    """What a run and a month of a version cost today, by itself; None where that is not known."""
    from zeitbuch.core.diff.change_cost import Costing  # a list without figures needs none of it

    held = Held(f"@{version.snapshot}:{version.file}", reading.content_of(version.hash))
    estate = session.estate_of([held], _files_around(session, version, reading))
    flow = next(
        (
            flow
            for flow in estate.flows
            if flow.id == version.id and (flow.origin is None or (flow.origin.member or "") == version.member)
        ),
        None,
    )
    if flow is None or basis.card is None:
        return [None, None]
    figures = Costing.of(estate, basis.card, basis.assumptions, "", basis.counters).figures_of(flow)
    return [money_words(money) if money is not None else None for money in (figures.run, figures.month)]


def _files_around(session: Session, version: Version, reading: Reading) -> list[Held]:
    """The files of the snapshot of a version, where what a file means may depend on others."""
    if not has_files_beside(session.dialects):
        return []
    return recorded_files(reading, find_snapshot(reading.snapshots(), str(version.snapshot)))
