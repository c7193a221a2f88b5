# Notes of the house follow what they were written to: a flow that has another id, a step that the builder numbered anew. Where the book does not
# have the version that had the old id, or the match is in doubt, the note is shown as left over, never at a guess.
"""Gathering notes for documents."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import structs

from zeitbuch.book.place import open_book
from zeitbuch.book.records import Version
from zeitbuch.core.diff.matching import match_steps
from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.report.house_notes import HouseNote
from zeitbuch.readers.config.house_notes import notes_of_folder

from .recorded_flows import flow_of_version
from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading

LEAST_PAIR = 0.5  # from where on a note follows its step
SURE_PAIR = 0.9  # from where on nothing is said of a doubt


def notes_of_house(session: Session, flows: Sequence[Flow], named: str, whole: bool) -> dict[str, list[HouseNote]]:
    """The notes of the folder ``named``, else of that of the workspace; none where neither names one."""
    own = session.workspace.notes
    folder = named or (session.workspace.path_from_here(own) if own else "")
    return gather_notes(session, flows, folder, whole) if folder else {}


def gather_notes(session: Session, flows: Sequence[Flow], folder: str, whole: bool) -> dict[str, list[HouseNote]]:
    """The notes of a folder by the id that their flow has now. That a flow is not there is a problem where ``flows`` are the whole
    workspace; of a part nobody can say."""
    notes, problems = notes_of_folder(folder)
    session.problems += problems
    if not notes:
        return {}
    by_id = {flow.id: flow for flow in flows}
    found: dict[str, list[HouseNote]] = {}
    for note in _followed(session, by_id, notes):
        if note.flow in by_id:
            found.setdefault(note.flow, []).append(note)
        elif whole:
            words = f"expected notes to a flow of the sources, found '{note.flow}'"
            hint = "correct the id; if the flow has another id now, record it, and the note follows: zeitbuch record"
            session.problems.append(Problem("notes-place", "warning", words, Origin(note.file, line=note.line), hint))
    return found


def _step_named(flow: Flow, name: str) -> str | None:
    """The id of the step that a note names: by its id, or by a title that no other has."""
    if any(step.id == name for step in flow.steps):
        return name
    titled = [step.id for step in flow.steps if step.title.casefold() == name.casefold()]
    return titled[0] if len(titled) == 1 else None


def _settled(by_id: dict[str, Flow], note: HouseNote) -> HouseNote | None:
    """A note that needs no look into the book, at the id of its step: its flow and step are there."""
    flow = by_id.get(note.flow)
    if flow is None or note.version:
        return None
    step = _step_named(flow, note.name) if note.place == "step" else note.name
    return structs.replace(note, name=step) if step is not None else None


def _followed(session: Session, by_id: dict[str, Flow], notes: Sequence[HouseNote]) -> list[HouseNote]:
    """Notes with the ids that their flows and steps have now."""
    done = {place: known for place, note in enumerate(notes) if (known := _settled(by_id, note)) is not None}
    if len(done) == len(notes):
        return list(done.values())
    try:
        with open_book(session.book).reading() as reading:
            trail = _Trail(session, reading, by_id)
            return [done.get(place) or trail.follow(note) for place, note in enumerate(notes)]
    except ZeitbuchError as error:
        if error.problem.code != "book-none":
            raise
        return [done.get(place) or _without_book(by_id, note) for place, note in enumerate(notes)]


def _without_book(by_id: dict[str, Flow], note: HouseNote) -> HouseNote:
    """A note that only a book could place: its ids are those of a version that nobody has."""
    flow = by_id.get(note.flow)
    return _unfound(note, flow) if flow is not None and note.place == "step" else note


class _Trail:
    """Looks old ids up in the book."""

    def __init__(self, session: Session, reading: Reading, by_id: dict[str, Flow]) -> None:
        self.session, self.reading, self.by_id = session, reading, by_id
        self.versions = reading.versions(line=session.line)
        self.read: dict[tuple[int, int], Flow | None] = {}

    def follow(self, note: HouseNote) -> HouseNote:
        """The note with the present ids, or as it was where they cannot be told."""
        keys = {version.flow for version in self.versions if version.id == note.flow}
        own = [version for version in self.versions if version.flow in keys]
        present = next((version.id for version in reversed(own) if version.id in self.by_id), note.flow)
        flow = self.by_id.get(present)
        note = structs.replace(note, flow=present)
        if note.place != "step" or flow is None:
            return note
        versions = [version for version in own if not note.version or version.number == note.version]
        for version in reversed(versions):
            old = self._flow_of(version)
            step = _step_named(old, note.name) if old is not None else None
            if old is not None and step is not None:
                return _moved(note, step, old, flow)
        return _unfound(note, flow)

    def _flow_of(self, version: Version) -> Flow | None:
        """A flow as it was recorded, read once."""
        key = (version.flow, version.number)
        if key not in self.read:
            there = version.status != "removed"
            found = flow_of_version(self.session, self.reading, version) if there else None
            self.read[key] = found[1] if found is not None else None
        return self.read[key]


def _moved(note: HouseNote, step: str, old: Flow, new: Flow) -> HouseNote:
    """A note at the step that its own has become."""
    pair = next((pair for pair in match_steps(old, new).steps if pair.old == step), None)
    if pair is None or pair.confidence < LEAST_PAIR:
        return _unfound(note, new)
    title = next(one.title for one in new.steps if one.id == pair.new)
    same = note.name == pair.new or note.name.casefold() == title.casefold()
    return structs.replace(note, name=pair.new, was="" if same else note.name, sure=pair.confidence >= SURE_PAIR)


def _unfound(note: HouseNote, flow: Flow) -> HouseNote:
    """A note whose step is gone, under a name that none of the steps has now."""
    taken = _step_named(flow, note.name) is not None
    return structs.replace(note, name=f"{note.name} (version {note.version})") if taken else note
