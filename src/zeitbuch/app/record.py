# Recording: which files are new, which flows changed by that, what a run of them costs now; all within the one transaction
# that writes it.
"""Taking a snapshot."""

from __future__ import annotations

import hashlib
import os
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from zeitbuch.book.last_snapshot import last_snapshot
from zeitbuch.book.records import File, Version, manifest, sha256, storable
from zeitbuch.core.model.problems import InputFaults, Problem, fail
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.input.sources import Held, Input, load_input, name_below
from zeitbuch.readers.reading.file_hashes import FileHashes

from .session import Session
from .sources import name_in_state

if TYPE_CHECKING:
    from zeitbuch.book.records import Entry
    from zeitbuch.book.store import Book, Writing

    from .record_versions import NewVersions


class Taken(Struct, frozen=True):
    """What a `record` did: the snapshot of a line, how many files came, changed or went, the versions of flows, the names of flows
    whose file could not be read, whether anything was ``new``, whether its note was ``noted`` all the same, and the hash of the
    last entry (``head``), which is to be kept elsewhere."""

    snapshot: int
    at: str
    files: int
    fresh: int
    gone: int
    versions: tuple[Version, ...]
    new: bool = True
    line: str = ""
    unreadable: tuple[str, ...] = ()
    noted: bool = False
    head: str = ""


class RecordRequest(Struct, frozen=True):
    """What is said of a snapshot: when the state was as it is (as it stands in the book; ``at_asked`` where somebody named the
    time), who took it and why, in which ``line`` of the book; ``rates`` and ``assumptions`` are paths for the figures; with ``strict``
    nothing is recorded where something could not be read."""

    at: str
    by: str
    note: str = ""
    at_asked: bool = False
    rates: str = ""
    assumptions: str = ""
    line: str = ""
    strict: bool = False


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
    last = last_snapshot(session.book, request.line)
    # Notes are entries of their own; what could not be read is looked at again, it may be readable by now.
    if last is not None and not (request.note or last.unreadable) and last.files == sha256(manifest(files)):
        return Taken(last.number, last.at, len(files), 0, 0, (), new=False, line=request.line, head=last.head)
    from zeitbuch.book.place import open_book

    return write_snapshot(session, open_book(session.book, create=True), inputs, files, contents, request)


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
        found.append((storable(name.replace(os.sep, "/")), one))
    return _with_own_names(found)


def _with_own_names(found: list[tuple[str, str | Held]]) -> list[tuple[str, str | Held]]:
    """No two inputs have one name: of two sources that hold a file of the same name, the second is told apart."""
    seen: Counter[str] = Counter()
    named: list[tuple[str, str | Held]] = []
    for name, one in found:
        seen[name] += 1
        named.append((name if seen[name] == 1 else f"source-{seen[name]}/{name}", one))
    return named


def _name_within(sources: Sequence[str], one: Held) -> str:
    if one.path:  # it was fetched from an address
        return name_below(sources[0] if len(sources) == 1 else "", one.name)
    name = name_in_state(one.name)
    is_path = len(sources) == 1 and sources[0].startswith("git:") and sources[0].count(":") > 1
    inside = sources[0].split(":", 2)[2] if is_path else ""
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
    """Write a snapshot, or nothing when the last one holds the same files (a note is kept all the same). Raises ZeitbuchError for what
    ``strict`` refuses."""
    from .record_versions import Basis, Before, make_versions  # with all that reads, compares and estimates

    with book.writing() as writing:
        snapshots = writing.snapshots(request.line)
        before = Before(request.line, snapshots, writing.files(snapshots[-1]) if snapshots else [])
        resting = bool(snapshots) and manifest(before.files) == manifest(files)
        if resting and not before.unreadable():
            return _nothing_new(writing, snapshots[-1], len(files), request)
        at = _moment_after_last(request.at, snapshots, request.at_asked)
        fresh = Counter(file.hash for file in files) - Counter(file.hash for file in before.files)
        missing = [name for name in fresh if name not in contents]
        contents = {**contents, **_read_missing(session, inputs, files, missing)}
        basis = Basis(request.at[:7], request.rates, request.assumptions)
        made = make_versions(session, writing, before, files, inputs, basis)
        if not snapshots and not made.versions and any(one.severity == "error" for one in session.problems):
            # Nothing at all could be read: a snapshot would say that there is nothing.
            raise InputFaults(session.problems)
        if request.strict:
            _refuse_unread(session, [one.name for one in made.unreadable])
        unreadable = tuple([(one.flow, one.file) for one in made.unreadable])
        if resting and not made.versions and dict(unreadable) == before.unreadable():
            return _nothing_new(writing, snapshots[-1], len(files), request)
        writing.put_contents([contents[name] for name in fresh])
        entry = writing.add_snapshot(
            files, made.versions, at, request.by, request.note, made.estimated, request.line, unreadable
        )
    return _taken(entry, before.files, files, sum(fresh.values()), made)


def _taken(entry: Entry, before: list[File], files: list[File], fresh: int, made: NewVersions) -> Taken:
    """What a recording says of itself."""
    gone = {file.name for file in before} - {file.name for file in files}
    names = tuple([one.name for one in made.unreadable])
    return Taken(
        entry.number, entry.at, len(files), fresh, len(gone), tuple(made.versions),
        line=entry.line, unreadable=names, head=entry.hash,
    )  # fmt: skip


def _nothing_new(writing: Writing, last: Entry, files: int, request: RecordRequest) -> Taken:
    """The last snapshot stands; a note is kept beside it."""
    from zeitbuch.book.notes import add_note

    if request.note:
        add_note(writing, last, at=max(request.at, last.at), who=request.by, text=request.note)
    head = writing.head()
    return Taken(
        last.number, last.at, files, 0, 0, (), new=False, line=request.line, noted=bool(request.note),
        head=head.hash if head is not None else "",
    )  # fmt: skip


def _refuse_unread(session: Session, names: Sequence[str]) -> None:
    """With --strict nothing is recorded where something could not be read."""
    errors = sum(problem.severity == "error" for problem in session.problems)
    if not errors and not names:
        return
    held = f"; they held {count_words(len(names), 'flow')} ({', '.join(names[:3])})" if names else ""
    raise fail(
        "record-unread",
        f"expected exports that can all be read (--strict), found {count_words(errors or len(names), 'place')} that cannot{held}: nothing was recorded",
        "mend or fetch them again; without --strict such flows keep their last version",
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
