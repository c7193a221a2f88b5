# Reviews: who signs what, and whether it still holds. What is signed is a recorded version; what is asked is whether the sources still are it.
"""The use cases of `review`."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct, structs

from zeitbuch.book.records import Version
from zeitbuch.book.reviews import (
    Review,
    Signed,
    Verdict,
    add_review,
    reviews_of,
    sealed_statement,
    standing_signatures,
    statement_of,
)
from zeitbuch.book.seals import key_mark, make_seal, seal_fault
from zeitbuch.book.selection import find_version, flow_versions
from zeitbuch.book.store import Book, Reading
from zeitbuch.book.verify import verify_book
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.diff.flow_matching import SURE, match_flows
from zeitbuch.core.graph.flow_calls import calls_of, service_name
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.change_tables import change_line
from zeitbuch.core.report.review_states import FlowReview, ReviewStatus, RoleReview, RoleState, worst_state

from .recorded_flows import flow_of_version
from .review_keys import key_refusal, keys_of
from .session import Session


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
    with Book(session.book).reading() as reading:
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
    with Book(session.book).writing() as writing:
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
    with Book(session.book).writing() as writing:
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
    with Book(session.book).reading() as reading:
        reviews = reviews_of(reading.entries(line=session.line))
        versions = reading.versions(line=session.line)
        last = {version.flow: version for version in versions}
        keys = {version.id: version for version in last.values() if version.status != "removed"}
        signed = [version for version in keys.values() if standing_signatures(reviews, version.flow)]
        followed, asked = _versions_of_other_ids(session, reading, estate, keys, signed)
        keys |= followed
        rules = session.workspace.review
        listed = keys_of(session)
        found = []
        with session.progress(len(estate.flows), "looking") as advance:
            for place, flow in enumerate(estate.flows):
                version = keys.get(flow.id)
                judge = _Judge(session, reading, estate, flow, version, versions, listed)
                standing = standing_signatures(reviews, version.flow) if version is not None else []
                roles = tuple(judge.role_of(role, standing, today) for role in rules.roles_for(flow))
                if flow.id in asked:
                    roles = tuple(structs.replace(one, why=(asked[flow.id],)) for one in roles)
                found.append(
                    FlowReview(flow.id, flow.title, worst_state(roles), roles, version.number if version else 0)
                )
                advance(place)
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
    book = Book(session.book)
    wrong = list(verify_book(book).wrong)
    with book.reading() as reading:
        reviews = reviews_of(reading.entries(line=session.line))
    seen: dict[str, int] = {}
    for one in reviews:
        seal = one.review.seal
        if seal is None:
            continue
        fault = seal_fault(sealed_statement(one), seal)
        if not fault and seal.signature in seen:
            fault = f"it is that of entry {seen[seal.signature]} once more"
        seen.setdefault(seal.signature, one.seq)
        if fault:
            wrong.append(f"entry {one.seq}: the signature of {one.who} as {one.review.role}: {fault}")
    return tuple(wrong)


def names_alone(flows: Sequence[FlowReview]) -> int:
    """How many signatures stand there by name alone."""
    return sum(bool(one.by) and not one.key for flow in flows for one in flow.roles)


class _Judge:
    """Judges the signatures of one flow."""

    def __init__(
        self,
        session: Session,
        reading: Reading,
        estate: Estate,
        flow: Flow,
        version: Version | None,
        versions: Sequence[Version],
        keys: Mapping[str, Collection[str]],
    ) -> None:
        self.session, self.reading, self.estate, self.keys = session, reading, estate, keys
        self.flow, self.version, self.versions = flow, version, versions
        self.present = fingerprint(flow)

    def role_of(self, role: str, standing: Sequence[Signed], today: str) -> RoleReview:
        """The state of a role: of the signature of this very state, else of the last of another."""
        mine = [one for one in standing if one.review.role == role]
        fits = [one for one in mine if one.review.fingerprint == self.present]
        one = fits[-1] if fits else mine[-1] if mine else None
        if one is None:
            return RoleReview(role, "open")
        refusal = key_refusal(self.keys, one.who, one.review.seal)
        if refusal:
            return RoleReview(
                role, "open", why=(f"signed for {one.who} with {refusal}: [review.keys] asks for a key of theirs",)
            )
        state, why = self._judge(one, bool(fits), today)
        mark = key_mark(one.review.seal.key) if one.review.seal is not None else ""
        return RoleReview(role, state, one.who, one.at, one.review.until, one.note, why, mark)

    def _judge(self, one: Signed, fits: bool, today: str) -> tuple[RoleState, tuple[str, ...]]:
        since = () if fits else self._changes_since(one.review)
        if since:
            return "stale", since
        if one.review.verdict == "refused":
            return "refused", ()
        if one.review.until and one.review.until <= today:
            return "expired", ()
        wider = sorted(set(rights_around(self.estate, self.flow)) - set(one.review.rights))
        if wider:
            return "stale", tuple(f"a flow that it calls may now {right}" for right in wider)
        return ("with changes" if one.review.verdict == "with-changes" else "valid"), ()

    def _changes_since(self, review: Review) -> tuple[str, ...]:
        """What changed since a version, in the words of `diff`; nothing where only ids did."""
        version = next((one for one in self.versions if one.flow == review.flow and one.number == review.version), None)
        recorded = flow_of_version(self.session, self.reading, version) if version is not None else None
        if recorded is None:
            return ("the version that was signed is no more in the book, or can no more be read",)
        found = flow_changes(recorded[1], self.flow)
        return tuple(change_line(change) for change in found.changes) if found is not None else ()


def rights_around(estate: Estate, flow: Flow) -> tuple[str, ...]:
    """What the flows that a flow calls, and those that they call, may do outside: 'send through Office mail'."""
    by_id = {one.id: one for one in estate.flows}
    nexts: dict[str, list[str]] = {}
    for call in calls_of(estate):
        if call.how in ("subflow", "tool", "webhook") and call.target:
            nexts.setdefault(call.source, []).append(call.target)
    work, seen = list(nexts.get(flow.id, [])), {flow.id}
    found: set[str] = set()
    while work:
        key = work.pop()
        if key in seen or key not in by_id:
            continue
        seen.add(key)
        work += nexts.get(key, [])
        called = by_id[key]
        found |= {
            _right_words(called, step.effect, step.connection)
            for step in called.steps
            if step.enabled and step.effect not in ("none", "read")
        }
    return tuple(sorted(found))


def _right_words(flow: Flow, effect: str, connection: str | None) -> str:
    return f"{effect} through {service_name(flow, connection)}" if connection else effect


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
