# A flow as a version of the book has it: read from the bytes that were recorded, with the files that belong to them, as the sources are.
"""Flows of recorded versions."""

from __future__ import annotations

from zeitbuch.book.lines import state_name
from zeitbuch.book.records import Version
from zeitbuch.book.selection import find_snapshot
from zeitbuch.book.store import Reading
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.dialects.rules import has_files_beside
from zeitbuch.readers.input.sources import Held

from .session import Session
from .sources import recorded_files


def flow_of_version(session: Session, reading: Reading, version: Version) -> tuple[Estate, Flow] | None:
    """The flow as it was recorded, with those beside it in its file; None for one that is pruned or no more read."""
    if not reading.packed([version.hash]):
        return None
    held = Held(f"{state_name(version.line, version.snapshot)}:{version.file}", reading.content_of(version.hash))
    estate = session.estate_of([held], _files_around(session, version, reading))
    fits = [flow for flow in estate.flows if flow.id == version.id and _member_of(flow) in (None, version.member)]
    return (estate, fits[0]) if fits else None


def _member_of(flow: Flow) -> str | None:
    return (flow.origin.member or "") if flow.origin is not None else None


def _files_around(session: Session, version: Version, reading: Reading) -> list[Held]:
    """The files of the snapshot of a version, where what a file means may depend on others."""
    if not has_files_beside(session.dialects):
        return []
    return recorded_files(reading, find_snapshot(reading.snapshots(version.line), str(version.snapshot)))
