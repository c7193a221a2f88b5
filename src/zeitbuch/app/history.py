# The book as its owner sees it: snapshots, and versions of a flow with what each would cost today.
"""Recorded snapshots and versions."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.book.history_tables import estate_sheet, feed_sheet, flow_sheet
from zeitbuch.book.lines import line_name, split_state, state_name
from zeitbuch.book.notes import NOTE_KIND, add_note
from zeitbuch.book.place import open_book
from zeitbuch.book.records import Mark, Version
from zeitbuch.book.selection import find_snapshot, find_version, flow_versions
from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.model.sheet import Column, Sheet, with_notes

from .recorded_flows import flow_of_version
from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading
    from zeitbuch.core.checks.records import CheckFinding
    from zeitbuch.core.model.records import Estate, Flow

    from .basis import EstimateBasis


def list_history(session: Session, flow: str = "", today: EstimateBasis | None = None, day: str = "") -> Sheet:
    """The snapshots of the book, or the versions of one flow (id or name, now or once); with ``today`` what each version would
    cost on that basis, and what the checks of the ``day`` (YYYY-MM-DD) find in it and not in the one before, too."""
    with open_book(session.book).reading() as reading:
        line = session.line
        snapshots, versions = reading.snapshots(line), reading.versions(line=line)
        notes = reading.entries(NOTE_KIND, line)
        others = [line_name(other) for other in reading.lines() if other != line]
        if not flow:
            return with_notes(estate_sheet(snapshots, versions, notes), _other_lines(others))
        now = _VersionsToday(session, reading, today, day).columns if today is not None else None
        return flow_sheet(flow_versions(versions, flow), snapshots, now, notes)


def list_since(session: Session, key: str) -> Sheet:
    """What happened to flows since a snapshot (@N, @latest, @DATE; @LINE:N of another line): one row a version."""
    line, key = split_state(key.removeprefix("@"), session.line)
    with open_book(session.book).reading() as reading:
        snapshots = reading.snapshots(line)
        first = find_snapshot(snapshots, key, line)
        later = [entry for entry in snapshots if entry.number > first.number]
        versions = sorted(reading.versions(line=line), key=lambda version: (version.flow, version.number))
        return feed_sheet(versions, first, later)


def _other_lines(others: list[str]) -> list[str]:
    return [f"The book has other lines: {', '.join(others)} (--line NAME)."] if others else []


def list_lines(session: Session) -> Sheet:
    """The lines of the book, with what each holds."""
    with open_book(session.book).reading() as reading:
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
    with open_book(session.book).writing() as writing:
        snapshots = writing.snapshots(line)
        version = find_version(flow_versions(writing.versions(line=line), name), key, snapshots) if name else None
        snapshot = find_snapshot(snapshots, str(version.snapshot) if version is not None else key, line)
        head = writing.head()
        at = max(at, head.at) if head is not None else at
        add_note(writing, snapshot, at=at, who=who, text=text, mark=mark, version=version)
        return f"{version.name}@{version.number}" if version is not None else state_name(line, snapshot.number)


class _VersionsToday:
    """What versions of a flow are by today's rates and checks, one after the other."""

    def __init__(self, session: Session, reading: Reading, basis: EstimateBasis, day: str) -> None:
        self.session, self.reading, self.basis, self.day = session, reading, basis, day
        self.before: list[CheckFinding] | None = None

    def columns(self, version: Version) -> list[object]:
        """The cost of a run and a month, and the findings that came and went; None where that is not known."""
        found = flow_of_version(self.session, self.reading, version)
        if found is None:
            return [None, None, None]
        estate, flow = found
        return [*self._cost(estate, flow), self._findings(estate, flow)]

    def _cost(self, estate: Estate, flow: Flow) -> list[object]:
        from zeitbuch.core.diff.change_cost import Costing  # a list without figures needs none of it

        basis = self.basis
        if basis.card is None:
            return [None, None]
        figures = Costing.of(estate, basis.card, basis.assumptions, "", basis.counters).figures_of(flow)
        return [money_words(money) if money is not None else None for money in (figures.run, figures.month)]

    def _findings(self, estate: Estate, flow: Flow) -> list[str]:
        """'+1 high (placeholder-text)', '−1 low (zone-missing)'; of the first version all that there are."""
        from .diff_findings import finding_marks, findings_of_flow

        found = findings_of_flow(self.session, estate, flow, self.basis, self.day)
        told = finding_marks(self.before or [], found)
        self.before = found
        return told
