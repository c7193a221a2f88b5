# The end of the first sheet: what each role signs, in a sentence, and what became of the signatures that there are. A signature that no more holds is
# told with what changed since, and its line is free again.
"""The sign-off of a sheet."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from zeitbuch.core.model.words import join_words

from .blocks import Block, Bullets, Heading, Paragraph, Signatures, SignLine
from .review_states import DEFAULT_ROLES, FlowReview, RoleReview

SENTENCES = {
    "owner": "I have read this and answer for it.",
    "auditor": "I have held this against the export.",
}
VERDICT_WORDS = {"valid": "approved", "with changes": "approved with changes", "refused": "refused"}
_MOST_CHANGES = 12


def sign_off_blocks(fingerprint: str, review: FlowReview | None, sentences: Mapping[str, str]) -> list[Block]:
    """The heading, what is to be said of earlier signatures, and the lines to sign; ``sentences`` are those of the house, by role."""
    roles: Sequence[RoleReview] = (
        review.roles if review is not None else [RoleReview(role, "open") for role in DEFAULT_ROLES]
    )
    lines = tuple(_line_of(one, sentences) for one in roles)
    return [Heading(2, "Sign-off", "sign-off"), *_earlier(roles), Signatures(fingerprint, lines)]


def _line_of(one: RoleReview, sentences: Mapping[str, str]) -> SignLine:
    said = sentences.get(one.role) or SENTENCES.get(one.role) or "I have read this and agree to it."
    if one.state not in VERDICT_WORDS:
        return SignLine(one.role, said)
    until = f", until {one.until}" if one.until else ""
    return SignLine(
        one.role,
        said,
        one.by,
        one.at[:10],
        f"{VERDICT_WORDS[one.state]}{until}",
        "in the book, with a key" if one.key else "in the book",
    )


def _earlier(roles: Sequence[RoleReview]) -> Iterator[Block]:
    """Notes of signatures that hold, and signatures that hold no more, each with what changed; what several say alike once."""
    for one in roles:
        if one.state in VERDICT_WORDS and one.note:
            yield Paragraph(f"Said by {one.by} as {one.role}: {one.note}")
    for one in roles:
        if one.state == "expired":
            yield Paragraph(f"The signature of {one.by} as {one.role}, of {one.at[:10]}, held until {one.until}.")
        elif one.state == "open" and one.why:
            yield Bullets(one.why) if len(one.why) > 1 else Paragraph(one.why[0])
    gone: dict[tuple[str, ...], list[RoleReview]] = {}
    for one in roles:
        if one.state == "stale":
            gone.setdefault(one.why, []).append(one)
    for why, those in gone.items():
        signers = join_words([f"{one.by} as {one.role} on {one.at[:10]}" for one in those])
        yield Paragraph(f"Signed by {signers}. Since then:")
        more = [f"{len(why) - _MOST_CHANGES:,} more changes"] if len(why) > _MOST_CHANGES else []
        yield Bullets((*why[:_MOST_CHANGES], *more))
