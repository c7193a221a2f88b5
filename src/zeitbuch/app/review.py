# Reviews: who signs what, and whether it still holds. What is signed is a recorded version; what is asked is whether the sources still are it.
"""The use cases of `review`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct, structs

from zeitbuch.book.place import open_book
from zeitbuch.book.records import Version
from zeitbuch.book.reviews import (
    Review,
    Signed,
    Verdict,
    add_review,
    reviews_of,
    sealed_statement,
    standing_by_flow,
    standing_signatures,
    statement_of,
)
from zeitbuch.book.seals import key_mark, make_seal, seal_fault
from zeitbuch.book.selection import find_version, flow_versions
from zeitbuch.core.diff.flow_matching import SURE, match_flows
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.review_states import FlowReview, ReviewStatus, RoleReview, worst_state

from .recorded_flows import flow_of_version
from .review_judging import Judge, RightsAround, changes_since, rights_around, standing_flows
from .review_keys import key_refusal, keys_of
from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading


class SignRequest(Struct, frozen=True):
    """What is signed: a flow (id or name; FLOW@N for a version), by whom, in which role, with which verdict, until when, and what is
    said to it; ``today`` is YYYY-MM-DD, ``at`` the moment (RFC 3339), ``key`` the file of a key to sign with."""

    flow: str
    by: str
    role: str
    verdict: Verdict = "approved"
    until: str = ""
    note: str = ""
    today: str = ""
    at: str = ""
    key: str = ""


def sign_flow(session: Session, estate: Estate, request: SignRequest) -> str:
    """Signs a recorded version; says what was signed. Raises ZeitbuchError for a role that the flow does not need, a person who has signed
    it in another role, and a flow whose sources are no more what was recorded."""
    if request.until and request.until <= request.today:
        raise fail(
            "review",
            f"expected a day after today ({request.today}) for --until, found {request.until}",
            "name a later day",
        )
    with open_book(session.book).reading() as reading:
        version, review = _review_to_sign(session, reading, estate, request)
    if request.key:  # before the book is held: somebody may have to type a pass phrase
        seal = make_seal(statement_of(review, request.by, request.note, request.at), request.key, request.at)
        review = structs.replace(review, seal=seal)
    refusal = key_refusal(keys_of(session), request.by, review.seal)
    if refusal:
        raise fail(
            "review",
            f"expected a signature with a key of {request.by}, found {refusal}",
            "sign with --key FILE; [review.keys] of the workspace names the keys",
        )
    with open_book(session.book).writing() as writing:
        if _review_to_sign(session, writing, estate, request)[1] != structs.replace(review, seal=None):
            raise fail(
                "review", "expected the book as it was when the key signed, found another", "look at it, and sign again"
            )
        add_review(writing, review, at=_moment(writing, request.at), who=request.by, note=request.note, version=version)
    return f"{version.name}@{version.number}: signed as {request.role} by {request.by}, {request.verdict}, fingerprint {version.fingerprint[:16]}{_key_words(review)}"


def _key_words(review: Review) -> str:
    return f", with the key {key_mark(review.seal.key)}" if review.seal is not None else ""


def _review_to_sign(session: Session, reading: Reading, estate: Estate, request: SignRequest) -> tuple[Version, Review]:
    """The version that is signed, and what is signed of it. Raises ZeitbuchError where it cannot be."""
    version = _version_of(session, reading, request.flow)
    flow = _present(estate, version)
    if flow is None or fingerprint(flow) != version.fingerprint:
        found = "another state in the sources" if flow is not None else "no such flow in the sources"
        raise fail(
            "review",
            f"expected the sources of '{version.name}' as version {version.number} has them, found {found}",
            "record them first: zeitbuch record",
        )
    _refuse_roles(session, flow, request)
    _refuse_same_person(reviews_of(reading.entries(line=session.line)), version, request)
    return version, Review(
        "sign",
        version.flow,
        version.number,
        version.fingerprint,
        request.role,
        request.verdict,
        request.until,
        rights_around(estate, flow),
    )


def add_act(session: Session, request: SignRequest, act: str) -> str:
    """Withdraws the signature of a role, or asks for one. Raises ZeitbuchError for a signature that is not there."""
    with open_book(session.book).writing() as writing:
        version = _version_of(session, writing, request.flow)
        standing = standing_signatures(reviews_of(writing.entries(line=session.line)), version.flow)
        mine = [
            one for one in standing if one.review.role == request.role and one.review.fingerprint == version.fingerprint
        ]
        if act == "withdraw" and not mine:
            raise fail(
                "review",
                f"expected a signature of '{version.name}' as {request.role}, found none",
                "`zeitbuch review status` lists them",
            )
        made = Review(
            "withdraw" if act == "withdraw" else "request",
            version.flow,
            version.number,
            version.fingerprint,
            request.role,
        )
        add_review(writing, made, at=_moment(writing, request.at), who=request.by, note=request.note, version=version)
    done = "withdrawn" if act == "withdraw" else "asked for"
    return f"{version.name}@{version.number}: the signature as {request.role} is {done} by {request.by}"


def review_status(session: Session, estate: Estate, today: str) -> ReviewStatus:
    """What became of the signatures of every flow of the sources."""
    with open_book(session.book).reading() as reading:
        entries = reading.entries(line=session.line)
        reviews = reviews_of(entries)
        days = {entry.number: entry.at[:10] for entry in entries if entry.kind == "snapshot"}
        versions = reading.versions(line=session.line)
        last = {version.flow: version for version in versions}
        keys = {version.id: version for version in last.values() if version.status != "removed"}
        standing_of = standing_by_flow(reviews)
        signed = [version for version in keys.values() if standing_of.get(version.flow)]
        followed, asked = _versions_of_other_ids(session, reading, estate, keys, signed)
        keys |= followed
        rules = session.workspace.review
        mine = [standing_of.get(keys[flow.id].flow, []) if flow.id in keys else [] for flow in estate.flows]
        flows = standing_flows(estate.flows, [rules.roles_for(flow) for flow in estate.flows], mine)
        since = changes_since(session, reading, versions, flows)
    judge = Judge(RightsAround(estate), keys_of(session), since, today)
    found = []
    for one in flows:
        roles = tuple(judge.role_of(one, role) for role in one.roles)
        if one.flow.id in asked:
            roles = tuple(structs.replace(role, why=(asked[one.flow.id],)) for role in roles)
        version = keys.get(one.flow.id)
        day = days.get(version.snapshot, "") if version is not None and version.fingerprint == one.present else ""
        number = version.number if version is not None else 0
        found.append(FlowReview(one.flow.id, one.flow.title, worst_state(roles), roles, number, day))
    return ReviewStatus(tuple(found), names_alone=names_alone(found))


def reviews_by_flow(session: Session, estate: Estate, today: str) -> dict[str, FlowReview]:
    """The review of each flow (by id), for its sheet. Without a book, or with one that cannot be read, which is told, all roles are open."""
    try:
        return {one.id: one for one in review_status(session, estate, today).flows}
    except ZeitbuchError as error:
        if error.problem.code != "book-none":
            session.problems.append(structs.replace(error.problem, severity="warning"))
    rules = session.workspace.review
    return {
        flow.id: FlowReview(
            flow.id, flow.title, "open", tuple(RoleReview(role, "open") for role in rules.roles_for(flow))
        )
        for flow in estate.flows
    }


def _versions_of_other_ids(
    session: Session, reading: Reading, estate: Estate, keys: Mapping[str, Version], signed: Sequence[Version]
) -> tuple[dict[str, Version], dict[str, str]]:
    """Signed versions whose id is no more in the sources, by the id that their flow has now; where the match is in doubt, what is asked
    instead: a signature follows nobody at a guess."""
    present = {flow.id for flow in estate.flows}
    new = [flow for flow in estate.flows if flow.id not in keys]
    lost = [version for version in signed if version.id not in present]
    if not new or not lost:
        return {}, {}
    recorded = [(version, found[1]) for version in lost if (found := flow_of_version(session, reading, version))]
    versions = {id(flow): version for version, flow in recorded}
    followed: dict[str, Version] = {}
    asked: dict[str, str] = {}
    for pair in match_flows([flow for _, flow in recorded], new).pairs:
        version = versions[id(pair.old)]
        if pair.confidence >= SURE:
            followed[pair.new.id] = version
        else:
            asked[pair.new.id] = (
                f"{quote_name(version.name)} of the id {version.id}, which was signed, is no more in the sources; whether this is it is sure to "
                f"{pair.confidence:.0%} only: record it, or sign it anew"
            )
    return followed, asked


def verify_reviews(session: Session) -> tuple[str, ...]:
    """What is wrong with the chain that the signatures stand in, and with the signatures that were made with keys."""
    from zeitbuch.book.verify import verify_book

    book = open_book(session.book)
    wrong = list(verify_book(book).wrong)
    with book.reading() as reading:
        reviews = reviews_of(reading.entries(line=session.line))
    seen: dict[bytes, int] = {}
    for one in reviews:
        seal = one.review.seal
        if seal is None:
            continue
        statement = sealed_statement(one)
        fault = seal_fault(statement, seal)
        if not fault and statement in seen:  # not by the signature: one text has many that fit
            fault = f"it is that of entry {seen[statement]} once more"
        seen.setdefault(statement, one.seq)
        if fault:
            wrong.append(f"entry {one.seq}: the signature of {one.who} as {one.review.role}: {fault}")
    return tuple(wrong)


def names_alone(flows: Sequence[FlowReview]) -> int:
    """How many signatures stand there by name alone."""
    return sum(bool(one.by) and not one.key for flow in flows for one in flow.roles)


def _version_of(session: Session, reading: Reading, text: str) -> Version:
    name, _, key = text.rpartition("@")
    line = session.line
    own = flow_versions(reading.versions(line=line), name or key)
    return find_version(own, key if name else "latest", reading.snapshots(line))


def _present(estate: Estate, version: Version) -> Flow | None:
    return next((flow for flow in estate.flows if flow.id == version.id), None)


def _refuse_roles(session: Session, flow: Flow, request: SignRequest) -> None:
    roles = session.workspace.review.roles_for(flow)
    if request.role not in roles:
        raise fail(
            "review",
            f"expected one of the roles {', '.join(roles)} for '{flow.title}', found '{request.role}'",
            "[review] of the workspace names them",
        )


def _refuse_same_person(reviews: Sequence[Signed], version: Version, request: SignRequest) -> None:
    """Two roles are two persons."""
    for one in standing_signatures(reviews, version.flow):
        same = one.who.casefold() == request.by.casefold()
        if same and one.review.fingerprint == version.fingerprint and one.review.role != request.role:
            words = f"expected another person than {one.who}, who has signed '{version.name}' as {one.review.role}, found the same"
            raise fail("review", words, "two roles are signed by two persons")


def _moment(writing: Reading, at: str) -> str:
    head = writing.head()
    return max(at, head.at) if head is not None else at
