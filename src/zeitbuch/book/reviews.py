# Who answers for a description: signatures, withdrawals and requests, each an entry of the chain. A signature is of a flow with a fingerprint, so
# that a moved box leaves it valid, a changed prompt does not, and a state that comes back has it again.
"""Reviews in the book."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Literal, NamedTuple, get_args

import msgspec
from msgspec import Struct, structs

from .records import Entry, Version, storable
from .seals import Seal

if TYPE_CHECKING:
    from .store import Writing

REVIEW_KIND = "review"
Act = Literal["sign", "withdraw", "request"]
Verdict = Literal["approved", "with-changes", "refused"]
VERDICTS: tuple[Verdict, ...] = get_args(Verdict)


class Review(Struct, frozen=True, omit_defaults=True):
    """What was done: to which flow (its key in the book) at which version and fingerprint, in which role, with which verdict, until when
    (YYYY-MM-DD; empty: no end), what the flows that it calls could do then, and the signature with a key, where there is one."""

    act: Act
    flow: int
    version: int
    fingerprint: str
    role: str
    verdict: Verdict | Literal[""] = ""
    until: str = ""
    rights: tuple[str, ...] = ()
    seal: Seal | None = None


class Signed(NamedTuple):
    """A review with who did it and when, and what they said."""

    review: Review
    who: str
    at: str
    note: str
    seq: int
    hash: str


def statement_of(review: Review, who: str, note: str, at: str) -> bytes:
    """The bytes that a key signs: the review without its seal, who, what was said and when, as JSON with sorted keys."""
    plain = structs.replace(review, seal=None)
    return msgspec.json.encode(
        {"at": at, "note": storable(note), "review": plain, "who": storable(who)}, order="sorted"
    )


def sealed_statement(one: Signed) -> bytes:
    """The bytes that the key of a signature signed; empty without one."""
    seal = one.review.seal
    return statement_of(one.review, one.who, one.note, seal.at) if seal is not None else b""


def add_review(writing: Writing, review: Review, *, at: str, who: str, note: str, version: Version) -> Entry:
    """One entry of the chain."""
    body = msgspec.json.encode(review, order="sorted").decode()
    return writing.append_entry(REVIEW_KIND, at, who, note, body, version.line)


def reviews_of(entries: Iterable[Entry]) -> list[Signed]:
    """The reviews among entries, in order."""
    return [
        Signed(msgspec.json.decode(entry.body, type=Review), entry.who, entry.at, entry.note, entry.seq, entry.hash)
        for entry in entries
        if entry.kind == REVIEW_KIND
    ]


def standing_by_flow(reviews: Iterable[Signed]) -> dict[int, list[Signed]]:
    """The signatures that nobody withdrew, by flow: of each role and fingerprint the last."""
    standing: dict[int, dict[tuple[str, str], Signed]] = {}
    for one in reviews:
        key = (one.review.role, one.review.fingerprint)
        if one.review.act == "sign":
            standing.setdefault(one.review.flow, {})[key] = one
        elif one.review.act == "withdraw":
            standing.get(one.review.flow, {}).pop(key, None)
    return {flow: list(found.values()) for flow, found in standing.items()}


def standing_signatures(reviews: Iterable[Signed], flow: int) -> list[Signed]:
    """The signatures of a flow that nobody withdrew."""
    return standing_by_flow(one for one in reviews if one.review.flow == flow).get(flow, [])
