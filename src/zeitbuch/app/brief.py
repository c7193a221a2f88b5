# What a writing assistant may see, and what comes of what it sends back. The key of a brief lies in the house: in a file until the draft is back, then in the
# book.
"""The use cases of `brief`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from zeitbuch.book.drafts import Draft, Taken, add_draft, drafts_of
from zeitbuch.book.place import open_book
from zeitbuch.book.records import Version, sha256
from zeitbuch.book.selection import find_version, flow_versions
from zeitbuch.core.checks.records import Person
from zeitbuch.core.graph.flow_calls import titles_of
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.core.report.blocks import Page
from zeitbuch.core.report.brief.brief import (
    BriefKey,
    DraftState,
    FlowDraft,
    brief_of,
    number_in,
    sorted_key,
    without_number,
)
from zeitbuch.core.report.brief.placeholders import filled_in, taken_out, unknown_placeholders
from zeitbuch.core.report.review_states import FlowReview
from zeitbuch.readers.config.house_notes import blocks_of_text
from zeitbuch.readers.config.name_lists import name_lists
from zeitbuch.readers.config.people import people_of

from .document import DocumentFacts, DocumentMaker
from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading

FOLDER = "briefs"
LONGEST_DRAFT = 100_000  # letters


class DraftRequest(Struct, frozen=True):
    """A draft that is brought in: its text and where it came from, the file of its key (empty: the one that its number names), by whom and at which
    moment (RFC 3339)."""

    text: str
    source: str
    key: str = ""
    by: str = ""
    at: str = ""


def make_brief(session: Session, estate: Estate, flow: Flow, prompts: bool) -> tuple[Page, BriefKey]:
    """The brief of a flow and its key. Raises ZeitbuchError where the names of people cannot be told."""
    maker = DocumentMaker([flow], None, DocumentFacts(estate))
    people, problems = people_of(session.workspace)
    session.problems += problems
    return brief_of(
        flow, maker.sheet_facts(flow), name_lists(), names_of_people(people), prompts, _called_titles(estate, flow)
    )


def _called_titles(estate: Estate, flow: Flow) -> dict[str, str]:
    wanted = {step.calls.casefold() for step in flow.steps if step.calls}
    return {key: title for key, title in titles_of(estate.flows).items() if key in wanted}


def names_of_people(people: Sequence[Person]) -> list[str]:
    """Names and addresses of the people of the house."""
    return [word for person in people for word in (person.name, person.mail) if word]


def key_path(session: Session, number: str) -> str:
    """Where the key of a brief lies."""
    return session.workspace.path_from_here(f"{FOLDER}/{number}.key.json")


def key_bytes(key: BriefKey) -> bytes:
    """The file of a key."""
    ordered = msgspec.structs.replace(key, placeholders=dict(sorted_key(key.placeholders)))
    return msgspec.json.format(msgspec.json.encode(ordered), indent=2) + b"\n"


def take_draft(session: Session, estate: Estate, request: DraftRequest) -> str:
    """Takes the text that was drafted from a brief into the book; says what was taken. Raises ZeitbuchError for a text of no brief, a key that is
    not there, and a flow that is not in the book."""
    if not request.text.strip() or len(request.text) > LONGEST_DRAFT:
        found = "an empty one" if not request.text.strip() else f"{len(request.text):,} letters"
        raise fail("brief", f"{request.source}: expected a text of at most {LONGEST_DRAFT:,} letters, found {found}")
    key = _key_of(session, request)
    unknown = unknown_placeholders(request.text, key.placeholders)
    if unknown:
        words = f"expected placeholders of the brief {key.number}, found {', '.join(unknown[:6])}: left as they stand"
        hint = "they are of another brief, or invented: correct the text and bring it in again"
        session.problems.append(Problem("brief-draft", "warning", words, Origin(request.source), hint))
    flow = next((one for one in estate.flows if one.id == key.flow), None)
    if flow is None or fingerprint(flow) != key.fingerprint:
        words = f"expected the flow as it was when the brief {key.number} was made, found {'it changed' if flow else 'none'}"
        hint = "the draft is shown as one of an earlier state; make a new brief for the present one"
        session.problems.append(Problem("brief-draft", "warning", words, Origin(request.source), hint))
    raw = key_bytes(key)
    draft = Draft(
        "take", 0, key.fingerprint, key.number, taken_out(without_number(request.text), key.placeholders), sha256(raw)
    )
    version = _add(session, key.flow, draft, raw, request)
    return f"{version.name}: taken as a draft, not reviewed, of the state {key.fingerprint[:16]}, by {request.by}"


def drop_draft(session: Session, name: str, by: str, at: str) -> str:
    """Takes the draft of a flow away from its pages; it stays in the chain. Raises ZeitbuchError where there is none."""
    with open_book(session.book).reading() as reading:
        version = _version_of(session, reading, name)
        if version.flow not in drafts_of(reading.entries(line=session.line)):
            raise fail("brief", f"expected a draft of '{version.name}', found none")
    _add(session, name, Draft("drop", 0, version.fingerprint), b"", DraftRequest("", "", by=by, at=at))
    return f"{version.name}: the draft is dropped by {by}"


def _add(session: Session, name: str, draft: Draft, key: bytes, request: DraftRequest) -> Version:
    with open_book(session.book).writing() as writing:
        version = _version_of(session, writing, name)
        head = writing.head()
        at = max(request.at, head.at) if head is not None else request.at
        made = msgspec.structs.replace(draft, flow=version.flow)
        add_draft(writing, made, key, at=at, who=request.by, version=version)
    return version


def _version_of(session: Session, reading: Reading, name: str) -> Version:
    own = flow_versions(reading.versions(line=session.line), name)
    return find_version(own, "latest", reading.snapshots(session.line))


def _key_of(session: Session, request: DraftRequest) -> BriefKey:
    """The key that a draft asks for."""
    number = number_in(request.text)
    if not number and not request.key:
        raise fail(
            "brief",
            f"{request.source}: expected the number of its brief (‘Brief 0123456789abcdef’), found none",
            "write the line that stands at the head of the brief, or name its key with --key FILE",
        )
    place = request.key or key_path(session, number)
    try:
        key = msgspec.json.decode(Path(place).read_bytes(), type=BriefKey)
    except OSError as error:
        raise fail(
            "brief",
            f"{request.source}: expected the key of the brief {number}, found none at {place} ({error.strerror})",
            "the key was written when the brief was made: name it with --key FILE, or make the brief again",
        ) from None
    except msgspec.MsgspecError as error:
        raise fail("brief", f"{place}: expected the key of a brief, found: {error}") from None
    if number and key.number != number:
        raise fail("brief", f"{place}: expected the key of the brief {number}, found that of {key.number}")
    return key


def drafts_by_flow(session: Session, estate: Estate, reviews: Mapping[str, FlowReview]) -> dict[str, FlowDraft]:
    """The draft of each flow (by id) that has one; what became of it follows from the ``reviews`` (by id). None without a book; what is wrong with
    one is told where signatures are looked at."""
    try:
        with open_book(session.book).reading() as reading:
            drafts = drafts_of(reading.entries(line=session.line))
            if not drafts:
                return {}
            keys = {version.id: version.flow for version in reading.versions(line=session.line)}
            wanted = [(flow, drafts[keys[flow.id]]) for flow in estate.flows if keys.get(flow.id) in drafts]
            contents = reading.contents(one.draft.key for _, one in wanted)
            return {flow.id: _shown(flow, one, contents, reviews.get(flow.id)) for flow, one in reversed(wanted)}
    except ZeitbuchError:
        return {}


def _shown(flow: Flow, one: Taken, contents: Mapping[str, bytes], review: FlowReview | None) -> FlowDraft:
    """A draft with its names, and what became of it."""
    state, signed = _state_of(flow, one, review)
    raw = contents.get(one.draft.key)
    key = msgspec.json.decode(raw, type=BriefKey).placeholders if raw is not None else {}
    blocks = blocks_of_text(filled_in(one.draft.text, key))
    return FlowDraft(blocks, one.who, one.at[:10], state, signed)


def _state_of(flow: Flow, one: Taken, review: FlowReview | None) -> tuple[DraftState, tuple[str, ...]]:
    """A draft is reviewed by whoever signed its state after it was there, as long as that signature holds."""
    if fingerprint(flow) != one.draft.fingerprint:
        return "earlier", ()
    roles = review.roles if review is not None else ()
    signed = tuple(role.by for role in roles if role.state == "valid" and role.entry > one.seq)
    return ("reviewed" if signed else "draft"), signed
