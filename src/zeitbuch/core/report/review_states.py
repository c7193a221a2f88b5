# Whether a flow may be taken for reviewed: which roles its house wants, and what became of each signature. A signature that no more holds says
# why.
"""States of reviews."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Literal

from msgspec import Struct

from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.records import Effect, Flow
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words, join_words

RoleState = Literal["open", "valid", "with changes", "stale", "expired", "refused"]
# The worst first: a flow is what the worst of its roles is.
ROLE_STATES: tuple[RoleState, ...] = ("refused", "stale", "expired", "open", "with changes", "valid")
NOT_SETTLED: tuple[RoleState, ...] = tuple(state for state in ROLE_STATES if state != "valid")


DEFAULT_ROLES = ("owner", "auditor")


class RoleRule(Struct, frozen=True, forbid_unknown_fields=True):
    """``[[review.rule]]`` of the workspace: one more role for flows of a folder or owner (patterns with ``*``), or with an effect."""

    role: str
    flow: str = "*"
    folder: str = "*"
    owner: str = "*"
    effect: Effect | Literal[""] = ""

    def asks_for(self, flow: Flow) -> bool:
        """Whether a flow needs the role."""
        owned = self.owner == "*" or any(pattern_fits(self.owner, name) for name in flow.owners)
        acts = not self.effect or any(step.effect == self.effect and step.enabled for step in flow.steps)
        return (
            owned
            and acts
            and pattern_fits(self.flow, flow.id, flow.name)
            and pattern_fits(self.folder, flow.folder or "-")
        )


class ReviewRules(Struct, frozen=True, forbid_unknown_fields=True):
    """``[review]`` of the workspace: the roles that sign every flow, further ones for some, what a role signs, in a sentence,
    and the public keys of people (lines of OpenSSH, PEM, or files with such): who has one signs with it."""

    roles: tuple[str, ...] = DEFAULT_ROLES
    rule: list[RoleRule] = []
    sentences: dict[str, str] = {}
    keys: dict[str, tuple[str, ...]] = {}

    def roles_for(self, flow: Flow) -> list[str]:
        """The roles that sign a flow."""
        more = [rule.role for rule in self.rule if rule.asks_for(flow)]
        return list(dict.fromkeys([*self.roles, *more]))


class RoleReview(Struct, frozen=True):
    """One role of one flow: its state, who signed and when, why it does not hold (what changed), the mark of the key it was signed with, and
    the number of its entry in the chain."""

    role: str
    state: RoleState
    by: str = ""
    at: str = ""
    until: str = ""
    note: str = ""
    why: tuple[str, ...] = ()
    key: str = ""
    entry: int = 0


class FlowReview(Struct, frozen=True):
    """The review of one flow; ``recorded`` is the version that it is signed against, 0 for a flow that is not in the book; ``since`` the
    day (YYYY-MM-DD) on which this very state was recorded, empty where the sources have another."""

    id: str
    name: str
    state: RoleState
    roles: tuple[RoleReview, ...]
    recorded: int = 0
    since: str = ""


class ReviewStatus(Struct, frozen=True):
    """`review status --format json`; ``names_alone`` signatures stand there without a key."""

    flows: tuple[FlowReview, ...]
    wrong: tuple[str, ...] = ()
    names_alone: int = 0


def worst_state(roles: Iterable[RoleReview]) -> RoleState:
    """The state of a flow."""
    found = {one.state for one in roles}
    return next((state for state in ROLE_STATES if state in found), "valid")


def review_sheet(status: ReviewStatus) -> Sheet:
    """One row a flow and role."""
    columns = (
        Column("flow", "flow"), Column("id", "id", rank=3), Column("role", "role"), Column("state", "state"), Column("by", "by"),
        Column("at", "signed", rank=1), Column("until", "until", rank=2), Column("why", "changed since", "list", least=30),
        Column("note", "said", rank=2), Column("key", "key", rank=4),
    )  # fmt: skip
    rows = tuple(
        (
            flow.name,
            flow.id,
            one.role,
            one.state,
            one.by,
            one.at[:10],
            one.until,
            list(one.why),
            one.note,
            f"{one.key[:15]}…" if one.key else "",
        )
        for flow in status.flows
        for one in flow.roles
    )
    return Sheet(columns, rows, notes=(status_words(status.flows), *_alone_words(status), *status.wrong))


def _alone_words(status: ReviewStatus) -> list[str]:
    """What names alone are worth."""
    if not status.names_alone:
        return []
    be = "is a name" if status.names_alone == 1 else "are names"
    return [
        f"{count_words(status.names_alone, 'signature')} {be} alone: whoever may write to the book may have typed them."
    ]


def status_words(flows: Sequence[FlowReview]) -> str:
    """'19 flows: 17 valid, 1 stale, 1 open.'"""
    counts = [(state, sum(flow.state == state for flow in flows)) for state in reversed(ROLE_STATES)]
    said = join_words([f"{number} {state}" for state, number in counts if number])
    return f"{count_words(len(flows), 'flow')}: {said or 'none'}."


def open_flows(status: ReviewStatus, states: Collection[RoleState] = NOT_SETTLED) -> list[str]:
    """Sentences about what keeps a gate shut."""
    return [
        f"{flow.name}: {one.role}: {one.state}" + (f" ({'; '.join(one.why[:3])})" if one.why else "")
        for flow in status.flows
        for one in flow.roles
        if one.state in states
    ]


def lapsed_signatures(status: ReviewStatus) -> list[str]:
    """Sentences about signatures that no more hold, and those that refuse; that none is there yet is no fault of a page."""
    return open_flows(status, ("refused", "stale", "expired"))
