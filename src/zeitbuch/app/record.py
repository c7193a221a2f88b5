# Recording: which files are new, which flows changed by that, what a run of them costs now; all within the one transaction
# that writes it.
"""Taking a snapshot."""

from __future__ import annotations

import hashlib
import os
from collections import Counter
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from msgspec import Struct

from zeitbuch.book.last_snapshot import last_snapshot
from zeitbuch.book.records import File, Version, manifest, sha256
from zeitbuch.core.diff.records import EstateChanges
from zeitbuch.core.model.problems import InputFaults, Problem, ZeitbuchError, fail
from zeitbuch.readers.dialects.rules import has_files_beside
from zeitbuch.readers.input.sources import STDIN, STDIN_NAME, Held, Input, load_input, name_of
from zeitbuch.readers.reading.file_hashes import FileHashes

from .session import Session
from .unreadable import Place, stood_in, unread_places

if TYPE_CHECKING:
    from zeitbuch.book.records import Entry, EstateCosts
    from zeitbuch.book.store import Book, Writing
    from zeitbuch.core.diff.records import FlowChanges
    from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
    from zeitbuch.core.model.records import Estate, Flow

_LONG = 300  # letters of a one-line summary


class Taken(Struct, frozen=True):
    """What a `record` did: the snapshot, how many files came, changed or went, and the versions of flows."""

    snapshot: int
    at: str
    files: int
    fresh: int
    gone: int
    versions: tuple[Version, ...]
    new: bool = True


class RecordRequest(Struct, frozen=True):
    """What is said of a snapshot: when the state was as it is (as it stands in the book; ``at_asked`` where somebody named the
    time), who took it and why; ``rates`` and ``assumptions`` are paths for the figures."""

    at: str
    by: str
    note: str = ""
    at_asked: bool = False
    rates: str = ""
    assumptions: str = ""


def record_snapshot(session: Session, sources: Sequence[str], request: RecordRequest) -> Taken:
    """A snapshot of the sources, or word that nothing is new. Raises ZeitbuchError when there is nothing to record or the book
    cannot be written."""
    inputs = named_inputs(session, sources, session.inputs(sources))
    files, contents = hash_files(session, inputs)
    if not files:
        if not session.problems:
            words, hint = "expected files to record, found none", "name the folder that holds the exports"
            session.problems.append(Problem("source-empty", "error", words, None, hint))
        raise InputFaults(session.problems)
    last = last_snapshot(session.book)
    if last is not None and last.files == sha256(manifest(files)):
        return Taken(last.number, last.at, len(files), 0, 0, (), new=False)
    from zeitbuch.book.store import Book  # the database library takes longer than finding that nothing changed

    return write_snapshot(session, Book(session.book, create=True), inputs, files, contents, request)


def named_inputs(session: Session, sources: Sequence[str], inputs: Sequence[Input]) -> list[tuple[str, str | Held]]:
    """Each input with its name in the book: within its source when there is one, else from the workspace's folder."""
    base = session.workspace.folder
    if len(sources) == 1 and os.path.isdir(sources[0]):  # noqa: PTH112
        base = sources[0]
    found: list[tuple[str, str | Held]] = []
    for one in inputs:
        if isinstance(one, Problem):
            session.problems.append(one)
            continue
        if isinstance(one, str):
            name = os.path.relpath(one, base) if one != "-" else "stdin.json"
        else:
            name = _name_within(sources, one)
        found.append((name.replace(os.sep, "/"), one))
    return found


def _name_within(sources: Sequence[str], one: Held) -> str:
    name = one.name.split(":", 2)[-1] if one.name.startswith("git:") else one.name.partition(":")[2]
    inside = sources[0].split(":", 2)[2] if len(sources) == 1 and sources[0].count(":") > 1 else ""
    if inside and name.startswith(inside.rstrip("/") + "/"):
        name = name[len(inside.rstrip("/")) + 1 :]
    return name


def hash_files(session: Session, inputs: Sequence[tuple[str, str | Held]]) -> tuple[list[File], dict[str, bytes]]:
    """The files with their hashes, and the bytes of those that were read for it."""
    states = FileHashes(session.cache)
    files: list[File] = []
    contents: dict[str, bytes] = {}
    for name, one in inputs:
        known = states.known_hash(one) if isinstance(one, str) else None
        if known is None:
            data = load_input(one, session.limits).data
            if isinstance(data, Problem):
                session.problems.append(data)
                continue
            known = hashlib.sha256(data or b"").hexdigest()
            contents[known] = data or b""
            if isinstance(one, str):
                states.put_hash(one, known)
        files.append(File(name, known))
    states.save_hashes()
    return files, contents


def write_snapshot(
    session: Session,
    book: Book,
    inputs: Sequence[tuple[str, str | Held]],
    files: list[File],
    contents: dict[str, bytes],
    request: RecordRequest,
) -> Taken:
    """Write a snapshot, or nothing when the last one holds the same files."""
    with book.writing() as writing:
        last = writing.snapshots()
        before = writing.files(last[-1]) if last else []
        if last and manifest(before) == manifest(files):
            return Taken(last[-1].number, last[-1].at, len(files), 0, 0, (), new=False)
        place = _moment_after_last(request.at, last, request.at_asked)
        had, have = Counter(file.hash for file in before), Counter(file.hash for file in files)
        fresh, gone = have - had, had - have
        missing = [name for name in fresh if name not in contents]
        contents = {**contents, **_read_missing(session, inputs, files, missing)}
        number = last[-1].number + 1 if last else 1
        versions, estimated = _make_versions(session, writing, before, files, inputs, fresh, gone, number, request)
        writing.put_contents([contents[name] for name in fresh])
        entry: Entry = writing.add_snapshot(files, versions, place, request.by, request.note, estimated)
    names = {file.name for file in before}
    return Taken(
        entry.number,
        place,
        len(files),
        sum(fresh.values()),
        len(names - {file.name for file in files}),
        tuple(versions),
    )


def _moment_after_last(at: str, last: list[Entry], asked: bool) -> str:
    """Time as the book has it never runs back, whatever a clock says."""
    if not last or at >= last[-1].at:
        return at
    if asked:
        raise fail(
            "option",
            f"expected a time after --at that is not before the last snapshot ({last[-1].at}), found {at}",
            "older states are recorded into a new book, oldest first",
        )
    return last[-1].at


def _read_missing(
    session: Session, inputs: Sequence[tuple[str, str | Held]], files: list[File], missing: list[str]
) -> dict[str, bytes]:
    """The bytes of files whose hash was known without reading them."""
    wanted, found = set(missing), {}
    by_name = dict(inputs)
    for file in files:
        if file.hash in wanted:
            data = load_input(by_name[file.name], session.limits).data
            if not isinstance(data, bytes) or hashlib.sha256(data).hexdigest() != file.hash:
                raise fail(
                    "book-moving",
                    f"{file.name}: expected a file that rests while it is recorded, found it changed",
                    "run it again",
                )
            found[file.hash] = data
    return found


def _make_versions(
    session: Session,
    writing: Writing,
    before: list[File],
    files: list[File],
    inputs: Sequence[tuple[str, str | Held]],
    fresh: Counter[str],
    gone: Counter[str],
    number: int,
    request: RecordRequest,
) -> tuple[list[Version], EstateCosts]:
    """The versions that a snapshot adds (flows of files that were added, changed or removed), and what the estate costs now."""
    from zeitbuch.core.diff.estate_changes import estate_changes
    from zeitbuch.core.diff.flow_matching import match_flows
    from zeitbuch.core.model.records import Estate

    if has_files_beside(session.dialects):
        # A file that rests may hold a flow that changed: what belongs to it is in another.
        fresh, gone = Counter(file.hash for file in files), Counter(file.hash for file in before)
    estate = session.estate_of([one for _, one in inputs])
    place = _PlaceOfFlows(inputs, files)
    new = [flow for flow in estate.flows if place.hash_of(flow) in fresh]
    keys = _Keys(writing.versions())
    old = _flows_of_lost_files(session, writing, [file for file in before if file.hash in gone])
    found = estate_changes(Estate(tuple(old)), Estate(tuple(new)), match_flows(old, new))
    back = _flows_read_again(session, writing, found, keys, {place.file_of(flow) for flow in new})
    if back:
        old += back
        found = estate_changes(Estate(tuple(old)), Estate(tuple(new)), match_flows(old, new))
    result = _estimate_today(session, estate, request)
    figures = {id(f): e for f, e in zip(estate.flows, result.flows, strict=True)} if result is not None else {}
    currency = result.currency if result is not None else ""
    unread = {(place.names.get(name, name), member) for name, member in unread_places(session.problems)}
    made = _versions_of_changes(number, new, found, keys, place, figures, currency, unread)
    return made, _figures_of_estate(result)


def _versions_of_changes(
    number: int,
    new: list[Flow],
    found: EstateChanges,
    keys: _Keys,
    place: _PlaceOfFlows,
    figures: dict[int, FlowEstimate],
    currency: str,
    unread: set[Place],
) -> list[Version]:
    by_new = {(flow.id, flow.title, str(flow.origin)): flow for flow in new}
    made: list[Version] = []
    for change in found.flows:
        if change.status == "removed":
            row = keys.find_living(change.id, change.name)
            if row is not None and not stood_in(unread, row.file, row.member or None):
                key = keys.next_number(row.flow)
                made.append(_make_version(key, number, change, None, row.file, row.member, row.hash))
            continue
        flow = by_new[change.id, change.name, str(change.new_origin)]
        if change.status == "changed":
            row = keys.find_living(change.old_id or change.id, change.name)
        else:
            row = keys.find_removed(change.id)
        key = keys.next_number(row.flow if row else None)
        file, member = place.file_of(flow), flow.origin.member or "" if flow.origin is not None else ""
        hash = place.hash_of(flow)
        made.append(_make_version(key, number, change, flow, file, member, hash, figures.get(id(flow)), currency))
    return made


class _PlaceOfFlows:
    """In which file of the snapshot a flow stands."""

    def __init__(self, inputs: Sequence[tuple[str, str | Held]], files: list[File]) -> None:
        self.names = {name_of(one): name for name, one in inputs}
        self.hashes = {file.name: file.hash for file in files}

    def file_of(self, flow: Flow) -> str:
        """The name of the file in the book."""
        source = flow.origin.source if flow.origin is not None else ""
        return self.names.get(STDIN if source == STDIN_NAME else source, source)

    def hash_of(self, flow: Flow) -> str:
        """The hash of the file; empty when the snapshot has no such file."""
        return self.hashes.get(self.file_of(flow), "")


def _flows_of_lost_files(
    session: Session, writing: Writing, lost: list[File], around: Sequence[File] = ()
) -> list[Flow]:
    """The flows of files that are no longer as they were, from the bytes in the book; files that belong to them may be ``around``."""
    contents = writing.contents(file.hash for file in (*around, *lost))
    reader = session.make_reader()
    reader.hold_inputs(Held(file.name, contents[file.hash]) for file in (*around, *lost) if file.hash in contents)
    return list(reader.flows_of(Held(file.name, contents[file.hash]) for file in lost if file.hash in contents))


def _flows_read_again(
    session: Session, writing: Writing, found: EstateChanges, keys: _Keys, files: set[str]
) -> list[Flow]:
    """The last versions of flows that seem added and are living in one of these files, which were read anew: the file could not be
    read in the snapshot before."""
    added = [keys.find_living(change.id, change.name) for change in found.flows if change.status == "added"]
    rows = [row for row in added if row is not None and row.file in files]
    flows: list[Flow] = []
    for entry in writing.snapshots() if rows else ():
        then = [row for row in rows if row.snapshot == entry.number]
        lost = [File(file, hash) for file, hash in dict.fromkeys((row.file, row.hash) for row in then)]
        around = writing.files(entry) if lost and has_files_beside(session.dialects) else ()
        names = {row.id for row in then}
        flows += [flow for flow in _flows_of_lost_files(session, writing, lost, around) if flow.id in names]
    return flows


class _Keys:
    """Which flow of the book a flow is, and the number of its next version."""

    def __init__(self, rows: list[Version]) -> None:
        self.last: dict[int, Version] = {}
        for row in rows:  # by flow and number
            self.last[row.flow] = row
        self.top = max(self.last, default=0)

    def find_living(self, id: str, name: str) -> Version | None:
        fit = [version for version in self.last.values() if version.id == id and version.status != "removed"]
        return next((version for version in fit if version.name == name), fit[0] if fit else None)

    def find_removed(self, id: str) -> Version | None:
        return next(
            (version for version in self.last.values() if version.id == id and version.status == "removed"), None
        )

    def next_number(self, flow: int | None) -> tuple[int, int]:
        if flow is None:
            self.top += 1
            return self.top, 1
        return flow, self.last[flow].number + 1


def _estimate_today(session: Session, estate: Estate, request: RecordRequest) -> EstateEstimate | None:
    """What the estate costs now. A rate card that cannot be read costs the figures, not the snapshot."""
    from .basis import load_basis
    from .estimate import estimate_means

    try:
        basis = load_basis(request.rates, request.assumptions, workspace=session.workspace, today=request.at[:7])
        return estimate_means(session, estate, basis)
    except ZeitbuchError as error:
        problem = error.problem
        said = f"{problem.message}; recorded without figures"
        session.problems.append(Problem(problem.code, "warning", said, problem.origin, problem.hint))
        return None


def _figures_of_estate(result: EstateEstimate | None) -> EstateCosts:
    from zeitbuch.book.records import EstateCosts

    if result is None:
        return EstateCosts()
    total = result.total
    month = total.cost_month + total.meters_month + total.fees_month
    return EstateCosts(
        total.calls_month, _plain_amount(month.amount) if result.currency else None, result.currency, ", ".join(month.unknown),
        len(total.unknown_volume),
    )  # fmt: skip


def _plain_amount(amount: Decimal) -> str:
    """An amount to the hundred-millionth: what is less is no money."""
    return format(round(amount, 8).normalize(), "f")


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


def _make_version(
    key: tuple[int, int],
    snapshot: int,
    one: FlowChanges,
    flow: Flow | None,
    file: str,
    member: str,
    hash: str,
    figures: FlowEstimate | None = None,
    currency: str = "",
) -> Version:
    from zeitbuch.core.model.fingerprint import fingerprint

    calls = run = month = None
    unpriced = ""
    if figures is not None:
        calls, unpriced = figures.calls, ", ".join(figures.with_called.unknown)
        run = _plain_amount(figures.with_called.amount) if currency else None
        month = _plain_amount(figures.cost_month.amount) if currency and figures.cost_month is not None else None
    return Version(
        flow=key[0], number=key[1], snapshot=snapshot, id=one.id, name=one.name, status=one.status,
        fingerprint=fingerprint(flow) if flow is not None else "", file=file, member=member, hash=hash,
        summary=summary_of(one), calls=calls, run=run, month=month, currency=currency, unpriced=unpriced,
    )  # fmt: skip
