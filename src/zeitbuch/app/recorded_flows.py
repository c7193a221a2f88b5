# A flow as a version of the book has it: read from the bytes that were recorded, with the files that belong to them, as the sources are.
"""Flows of recorded versions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from zeitbuch.book.lines import state_name
from zeitbuch.book.records import Version
from zeitbuch.book.selection import find_snapshot
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.dialects.rules import has_files_beside
from zeitbuch.readers.input.sources import Held

from .session import Session
from .sources import recorded_files

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading


def flow_of_version(session: Session, reading: Reading, version: Version) -> tuple[Estate, Flow] | None:
    """The flow as it was recorded, with those beside it in its file; None for one that is pruned or no more read."""
    if not reading.packed([version.hash]):
        return None
    held = Held(f"{state_name(version.line, version.snapshot)}:{version.file}", reading.content_of(version.hash))
    estate = session.estate_of([held], _files_around(session, version, reading))
    fits = [flow for flow in estate.flows if flow.id == version.id and _member_of(flow) in (None, version.member)]
    return (estate, fits[0]) if fits else None


def flows_of_versions(session: Session, reading: Reading, versions: Sequence[Version]) -> dict[tuple[int, int], Flow]:
    """Flows as they were recorded, by key and number of their version, all read together; those that are pruned or no more read are left out."""
    if has_files_beside(session.dialects):  # what a file means depends on the others of its snapshot
        found = ((version, flow_of_version(session, reading, version)) for version in versions)
        return {(version.flow, version.number): one[1] for version, one in found if one is not None}
    contents = reading.contents(version.hash for version in versions)
    names = {version.hash: f"{state_name(version.line, version.snapshot)}:{version.file}" for version in versions}
    held = [Held(names[key], data) for key, data in contents.items()]
    by_place = {
        (flow.origin.source, flow.id, flow.origin.member or ""): flow
        for flow in session.estate_of(held, []).flows
        if flow.origin is not None
    }
    places = ((version, (names[version.hash], version.id, version.member)) for version in versions)
    return {(version.flow, version.number): by_place[place] for version, place in places if place in by_place}


def _member_of(flow: Flow) -> str | None:
    return (flow.origin.member or "") if flow.origin is not None else None


def _files_around(session: Session, version: Version, reading: Reading) -> list[Held]:
    """The files of the snapshot of a version, where what a file means may depend on others."""
    if not has_files_beside(session.dialects):
        return []
    return recorded_files(reading, find_snapshot(reading.snapshots(version.line), str(version.snapshot)))
