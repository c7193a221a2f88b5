# Which flows a snapshot changes: those of files that were added, changed or removed are held against what the book has of them.
# A flow whose file cannot be read keeps its last version, and the snapshot says so.
"""The versions of a snapshot."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from zeitbuch.book.records import Body, Entry, EstateCosts, File, Version, storable
from zeitbuch.core.diff.estate_changes import estate_changes
from zeitbuch.core.diff.flow_matching import FlowMatching, match_flows
from zeitbuch.core.diff.records import EstateChanges, FlowChanges
from zeitbuch.core.estimate.records import FlowEstimate
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.dialects.rules import has_files_beside
from zeitbuch.readers.input.git import PREFIX, Made, last_changes
from zeitbuch.readers.input.sources import STDIN, STDIN_NAME, Held, name_of

from .record_figures import estimate_today, figures_of_estate, plain_amount
from .session import Session
from .unreadable import Place, part_unreadable, unread_places

if TYPE_CHECKING:
    from zeitbuch.book.store import Writing

_LONG = 300  # letters of a one-line summary
Named = Sequence[tuple[str, "str | Held"]]  # inputs with their names in the book


class Unreadable(NamedTuple):
    """A flow whose file could not be read: its key in the book, and the file."""

    flow: int
    file: str
    name: str


class NewVersions(NamedTuple):
    """What a snapshot adds: versions of flows, the figures of the estate, and the flows that could not be read."""

    versions: list[Version]
    estimated: EstateCosts
    unreadable: tuple[Unreadable, ...]


class Basis(NamedTuple):
    """What the figures of a snapshot rest on: the month (YYYY-MM), and the paths of a rate card and of assumptions."""

    month: str
    rates: str = ""
    assumptions: str = ""


class Before(NamedTuple):
    """The line as it is before a snapshot: its name, its snapshots, the files of the last one."""

    line: str
    snapshots: list[Entry]
    files: list[File]

    def unreadable(self) -> dict[int, str]:
        """The flows that the last snapshot could not read, with the files that held them."""
        if not self.snapshots:
            return {}
        return dict(msgspec.json.decode(self.snapshots[-1].body, type=Body).unreadable)


def make_versions(
    session: Session, writing: Writing, before: Before, files: list[File], inputs: Named, basis: Basis
) -> NewVersions:
    """The versions that a snapshot adds, and what the estate costs now."""
    estate = session.estate_of([one for _, one in inputs])
    place = _PlaceOfFlows(inputs, files)
    fresh, gone = _moved_hashes(session, before, files)
    new = [flow for flow in estate.flows if place.hash_of(flow) in fresh]
    resting = {flow.id for flow in estate.flows if place.hash_of(flow) not in fresh}
    keys = _Keys(writing.versions(line=before.line), writing.top_flow())
    old = _flows_before(session, writing, before, gone, keys, resting)
    unread = {(place.names.get(name, name), member) for name, member in unread_places(session.problems)}
    places: dict[int, Place] = {id(flow): (file, flow.origin.member if flow.origin else None) for flow, file in old}
    kept, lost = part_unreadable([flow for flow, _ in old], new, lambda flow: places[id(flow)], unread)
    matching = match_flows(kept, new)
    found = estate_changes(Estate(tuple(kept)), Estate(tuple(new)), matching)
    result = estimate_today(session, estate, *basis)
    figures = {id(f): e for f, e in zip(estate.flows, result.flows, strict=True)} if result is not None else {}
    number = before.snapshots[-1].number + 1 if before.snapshots else 1
    made = _changes_by_git(inputs, {place.file_of(flow) for flow in new})
    maker = _VersionMaker(before.line, number, place, figures, result.currency if result is not None else "", made)
    versions = _versions_of_changes(maker, new, found, keys) + _renumbered(maker, matching, found, keys)
    return NewVersions(versions, figures_of_estate(result), tuple(_unreadable_rows(lost, places, keys)))


def _changes_by_git(inputs: Named, files: set[str]) -> dict[str, Made]:
    """Who changed files of a revision last, and when, by their names in the book."""
    found: dict[str, Made] = {}
    by_source: dict[str, dict[str, str]] = {}
    for name, one in inputs:
        if name in files and not isinstance(one, str) and one.name.startswith(PREFIX):
            source, _, path = one.name.rpartition(":")
            by_source.setdefault(source, {})[path] = name
    for source, names in by_source.items():
        found |= {names[path]: made for path, made in last_changes(source, names).items()}
    return found


def _moved_hashes(session: Session, before: Before, files: list[File]) -> tuple[set[str], set[str]]:
    """The contents that were added, and those that are no longer there; what could not be read is looked at again."""
    had, have = Counter(file.hash for file in before.files), Counter(file.hash for file in files)
    if has_files_beside(session.dialects):
        # A file that rests may hold a flow that changed: what belongs to it is in another.
        return set(have), set(had)
    again = set(before.unreadable().values())
    waiting = {file.hash for file in before.files if file.name in again}
    return set(have - had) | waiting, set(had - have) | waiting


def _flows_before(
    session: Session, writing: Writing, before: Before, gone: set[str], keys: _Keys, resting: set[str]
) -> list[tuple[Flow, str]]:
    """The flows of files that are no longer as they were, with their files, from the bytes in the book; of those that could not be
    read in the last snapshot the last version that could."""
    lost = [file for file in before.files if file.hash in gone]
    flows = _flows_of_files(session, writing, lost)
    found = [(flow, flow.origin.source if flow.origin is not None else "") for flow in flows]
    read = {flow.id for flow, _ in found} | resting
    where, names = before.unreadable(), {file.name for file in lost}
    # Books of form 1 do not say what could not be read: it shows by what is missing in a file.
    waiting = [
        (row, where.get(row.flow, row.file))
        for row in keys.living()
        if row.id not in read and (row.flow in where or row.file in names)
    ]
    return found + _last_readable(session, writing, before, waiting)


def _last_readable(
    session: Session, writing: Writing, before: Before, waiting: list[tuple[Version, str]]
) -> list[tuple[Flow, str]]:
    """Flows as their last versions say, with the files that should hold them."""
    found: list[tuple[Flow, str]] = []
    for entry in before.snapshots if waiting else ():
        then = [(row, file) for row, file in waiting if row.snapshot == entry.number]
        files = [File(*pair) for pair in dict.fromkeys((row.file, row.hash) for row, _ in then)]
        around = writing.files(entry) if files and has_files_beside(session.dialects) else ()
        by_id = {flow.id: flow for flow in _flows_of_files(session, writing, files, around)}
        found += [(by_id[row.id], file) for row, file in then if row.id in by_id]
    return found


def _flows_of_files(
    session: Session, writing: Writing, files: Sequence[File], around: Sequence[File] = ()
) -> list[Flow]:
    """The flows of files from the bytes in the book; files that belong to them may be ``around``."""
    contents = writing.contents(file.hash for file in (*around, *files))
    reader = session.make_reader()
    reader.hold_inputs(Held(file.name, contents[file.hash]) for file in (*around, *files) if file.hash in contents)
    return list(reader.flows_of(Held(file.name, contents[file.hash]) for file in files if file.hash in contents))


def _unreadable_rows(lost: Iterable[Flow], places: dict[int, Place], keys: _Keys) -> Iterable[Unreadable]:
    for flow in lost:
        row = keys.find_living(flow.id, flow.title)
        if row is not None:
            yield Unreadable(row.flow, places[id(flow)][0], flow.title)


def _versions_of_changes(maker: _VersionMaker, new: list[Flow], found: EstateChanges, keys: _Keys) -> list[Version]:
    by_new = {(flow.id, flow.title, str(flow.origin)): flow for flow in new}
    made: list[Version] = []
    for change in found.flows:
        if change.status == "removed":
            row = keys.find_living(change.id, change.name)
            if row is not None:
                made.append(maker.removal(keys.next_number(row.flow), change, row))
            continue
        flow = by_new[change.id, change.name, str(change.new_origin)]
        if change.status == "changed":
            row = keys.find_living(change.old_id or change.id, change.name)
        else:
            row = keys.find_removed(change.id)
        made.append(maker.version(keys.next_number(row.flow if row else None), change, flow))
    return made


def _renumbered(maker: _VersionMaker, matching: FlowMatching, found: EstateChanges, keys: _Keys) -> list[Version]:
    """Versions of flows that only have other ids: by the new ones they are looked for from now on."""
    told = {(change.id, change.name, str(change.new_origin)) for change in found.flows}
    made: list[Version] = []
    for pair in matching.pairs:
        old, new = pair.old, pair.new
        row = keys.find_living(old.id, old.title) if old.id != new.id else None
        if row is not None and (new.id, new.title, str(new.origin)) not in told:
            change = FlowChanges(new.id, new.title, "changed", (), old.id)
            version = maker.version(keys.next_number(row.flow), change, new)
            summary = storable(f"id: {old.id} → {new.id}")
            made.append(msgspec.structs.replace(version, status="renumbered", summary=summary))
    return made


class _PlaceOfFlows:
    """In which file of the snapshot a flow stands."""

    def __init__(self, inputs: Named, files: list[File]) -> None:
        self.names = {name_of(one): name for name, one in inputs}
        self.hashes = {file.name: file.hash for file in files}

    def file_of(self, flow: Flow) -> str:
        """The name of the file in the book."""
        source = flow.origin.source if flow.origin is not None else ""
        return self.names.get(STDIN if source == STDIN_NAME else source, source)

    def hash_of(self, flow: Flow) -> str:
        """The hash of the file; empty when the snapshot has no such file."""
        return self.hashes.get(self.file_of(flow), "")


class _Keys:
    """Which flow of the book a flow is, and the number of its next version."""

    def __init__(self, rows: list[Version], top: int) -> None:
        self.last: dict[int, Version] = {}
        for row in rows:  # by flow and number
            self.last[row.flow] = row
        self.top = top

    def living(self) -> list[Version]:
        """The last versions of the flows that are there."""
        return [version for version in self.last.values() if version.status != "removed"]

    def find_living(self, id: str, name: str) -> Version | None:
        """The last version of a flow that is there, by its id and then its name."""
        fit = [version for version in self.living() if version.id == storable(id)]
        return next((version for version in fit if version.name == storable(name)), fit[0] if fit else None)

    def find_removed(self, id: str) -> Version | None:
        """The last version of a flow that was removed."""
        return next((row for row in self.last.values() if row.id == storable(id) and row.status == "removed"), None)

    def next_number(self, flow: int | None) -> tuple[int, int]:
        """The key of a flow, a new one without any, and the number of its next version."""
        if flow is None:
            self.top += 1
            return self.top, 1
        return flow, self.last[flow].number + 1


class _VersionMaker(NamedTuple):
    """Makes the versions of one snapshot of a line."""

    line: str
    snapshot: int
    place: _PlaceOfFlows
    figures: dict[int, FlowEstimate]
    currency: str
    changed: dict[str, Made]

    def removal(self, key: tuple[int, int], change: FlowChanges, last: Version) -> Version:
        """The version that says a flow was removed; its bytes are those of the one before."""
        return self._bare(key, change, last.file, last.member, last.hash)

    def version(self, key: tuple[int, int], change: FlowChanges, flow: Flow) -> Version:
        """A version of a flow that is there, with its figures."""
        member = flow.origin.member or "" if flow.origin is not None else ""
        made = self._bare(key, change, self.place.file_of(flow), member, self.place.hash_of(flow))
        last = self.changed.get(made.file)
        made = msgspec.structs.replace(
            made,
            fingerprint=fingerprint(flow),
            author=storable(last.author) if last is not None else "",
            edited=storable(flow.changed or (last.at if last is not None else "")),
        )
        figures = self.figures.get(id(flow))
        if figures is None:
            return made
        month = figures.cost_month  # of models: what meters take depends on all flows
        return msgspec.structs.replace(
            made,
            calls=figures.calls,
            run=plain_amount(figures.with_called.amount) if self.currency else None,
            month=plain_amount(month.amount) if self.currency and month is not None else None,
            currency=self.currency,
            unpriced=storable(", ".join(figures.with_called.unknown)),
        )

    def _bare(self, key: tuple[int, int], change: FlowChanges, file: str, member: str, hash: str) -> Version:
        return Version(
            flow=key[0], number=key[1], snapshot=self.snapshot, id=storable(change.id), name=storable(change.name),
            status=change.status, fingerprint="", file=storable(file), member=storable(member), hash=hash,
            summary=storable(summary_of(change)), line=self.line,
        )  # fmt: skip


def summary_of(one: FlowChanges) -> str:
    """The changes of a flow on one line."""
    from zeitbuch.core.report.change_tables import change_line

    parts = [change_line(change) for change in one.changes]
    text = parts[0] if parts else ""
    for index, part in enumerate(parts[1:], 2):
        if len(text) + len(part) > _LONG:
            return f"{text}; and {len(parts) - index + 1} more"
        text = f"{text}; {part}"
    return text if len(text) <= _LONG else text[: _LONG - 1] + "…"
