# The book as its owner sees it: snapshots, and versions of a flow with what each would cost today.
"""Recorded snapshots and versions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.book.history_tables import estate_sheet, feed_sheet, flow_sheet
from zeitbuch.book.lines import line_name, split_state, state_name
from zeitbuch.book.notes import NOTE_KIND, add_note
from zeitbuch.book.records import Mark, Version
from zeitbuch.book.selection import find_snapshot, find_version, flow_versions
from zeitbuch.book.store import Book, Reading
from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.model.sheet import Column, Sheet, with_notes
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
        line = session.line
        snapshots, versions = reading.snapshots(line), reading.versions(line=line)
        notes = reading.entries(NOTE_KIND, line)
        others = [line_name(other) for other in reading.lines() if other != line]
        if not flow:
            return with_notes(estate_sheet(snapshots, versions, notes), _other_lines(others))
        costs = (lambda version: _cost_today(session, version, reading, today)) if today is not None else None
        return flow_sheet(flow_versions(versions, flow), snapshots, costs, notes)


def list_since(session: Session, key: str) -> Sheet:
    """What happened to flows since a snapshot (@N, @latest, @DATE; @LINE:N of another line): one row a version."""
    line, key = split_state(key.removeprefix("@"), session.line)
    with Book(session.book).reading() as reading:
        snapshots = reading.snapshots(line)
        first = find_snapshot(snapshots, key, line)
        later = [entry for entry in snapshots if entry.number > first.number]
        versions = sorted(reading.versions(line=line), key=lambda version: (version.flow, version.number))
        return feed_sheet(versions, first, later)


def _other_lines(others: list[str]) -> list[str]:
    return [f"The book has other lines: {', '.join(others)} (--line NAME)."] if others else []


def list_lines(session: Session) -> Sheet:
    """The lines of the book, with what each holds."""
    with Book(session.book).reading() as reading:
        rows = []
        for line in reading.lines():
            snapshots, versions = reading.snapshots(line), reading.versions(line=line)
            last = {version.flow: version for version in versions}
            living = sum(version.status != "removed" for version in last.values())
            rows.append((line_name(line), len(snapshots), living, snapshots[0].at, snapshots[-1].at))
        columns = (
            Column("line", "line"),
            Column("snapshots", "snapshots", "count"),
            Column("flows", "flows", "count"),
            Column("first", "first"),
            Column("last", "last"),
        )
        return Sheet(columns, tuple(rows))


def add_history_note(session: Session, what: str, *, at: str, who: str, text: str, mark: Mark) -> str:
    """A note or mark on a snapshot (@N) or on a version of a flow (FLOW@N); says what it stands at. Raises ZeitbuchError when
    there is none."""
    name, _, key = what.rpartition("@")
    line, key = split_state(key, session.line)
    with Book(session.book).writing() as writing:
        snapshots = writing.snapshots(line)
        version = find_version(flow_versions(writing.versions(line=line), name), key, snapshots) if name else None
        snapshot = find_snapshot(snapshots, str(version.snapshot) if version is not None else key, line)
        head = writing.head()
        at = max(at, head.at) if head is not None else at
        add_note(writing, snapshot, at=at, who=who, text=text, mark=mark, version=version)
        return f"{version.name}@{version.number}" if version is not None else state_name(line, snapshot.number)


def _cost_today(session: Session, version: Version, reading: Reading, basis: EstimateBasis) -> list[object]:
    """What a run and a month of a version cost today, by itself; None where that is not known."""
    from zeitbuch.core.diff.change_cost import Costing  # a list without figures needs none of it

    if not reading.packed([version.hash]):
        return [None, None]  # pruned
    held = Held(f"{state_name(version.line, version.snapshot)}:{version.file}", reading.content_of(version.hash))
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
    return recorded_files(reading, find_snapshot(reading.snapshots(version.line), str(version.snapshot)))
