# What became of each signature: whether it is of the state that the sources have, and if not, what changed since. What many signatures ask about is looked up
# once, and together: all recorded states are read in one go.
"""Judging signatures."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from zeitbuch.book.records import Version
from zeitbuch.book.reviews import Review, Signed
from zeitbuch.book.seals import key_mark
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.graph.flow_calls import calls_of, service_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.change_tables import change_line
from zeitbuch.core.report.review_states import RoleReview, RoleState

from .parallel_work import share_work
from .recorded_flows import flows_of_versions
from .review_keys import key_refusal
from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.store import Reading

_NO_MORE = ("the version that was signed is no more in the book, or can no more be read",)
Changes = dict[
    tuple[int, int, int], tuple[str, ...]
]  # place of the flow, key and number of the version -> what changed since


class Standing(Struct, frozen=True):
    """A flow of the sources: its place among them, its fingerprint, the roles it needs, and its signatures that nobody withdrew."""

    place: int
    flow: Flow
    present: str
    roles: tuple[str, ...]
    signed: tuple[Signed, ...]

    def chosen(self, role: str) -> tuple[Signed | None, bool]:
        """The signature of a role: of this very state, else the last of another, and whether it is of this state."""
        mine = [one for one in self.signed if one.review.role == role]
        fits = [one for one in mine if one.review.fingerprint == self.present]
        return (fits[-1], True) if fits else (mine[-1], False) if mine else (None, False)


def standing_flows(
    flows: Sequence[Flow], roles: Sequence[Sequence[str]], signed: Sequence[Sequence[Signed]]
) -> list[Standing]:
    """The flows with their roles and signatures, place by place."""
    rows = zip(flows, roles, signed, strict=True)
    return [
        Standing(place, flow, fingerprint(flow), tuple(own), tuple(mine))
        for place, (flow, own, mine) in enumerate(rows)
    ]


def changes_since(
    session: Session, reading: Reading, versions: Sequence[Version], flows: Sequence[Standing]
) -> Changes:
    """What changed since the versions that were signed in another state, in the words of `diff`; nothing where only ids did."""
    asked = list(dict.fromkeys((one.place, review.flow, review.version) for one in flows for review in _lapsed(one)))
    if not asked:
        return {}
    wanted = {(flow, number) for _, flow, number in asked}
    known = [version for version in versions if (version.flow, version.number) in wanted]
    recorded = flows_of_versions(session, reading, known)

    def look(places: range) -> list[tuple[str, ...]]:
        return [_change_lines(recorded.get(asked[at][1:]), flows[asked[at][0]].flow) for at in places]

    found: list[tuple[str, ...]] = []
    with session.progress(len(asked), "comparing") as advance:
        for part in share_work(look, len(asked)):
            found += part
            advance(len(found) - 1)
    return dict(zip(asked, found, strict=True))


def _lapsed(one: Standing) -> Iterator[Review]:
    for role in one.roles:
        signed, fits = one.chosen(role)
        if signed is not None and not fits:
            yield signed.review


def _change_lines(before: Flow | None, now: Flow) -> tuple[str, ...]:
    if before is None:
        return _NO_MORE
    found = flow_changes(before, now)
    return tuple(change_line(change) for change in found.changes) if found is not None else ()


class Judge:
    """Judges the signatures of flows."""

    def __init__(self, rights: RightsAround, keys: Mapping[str, Collection[str]], since: Changes, today: str) -> None:
        self.rights, self.keys, self.since, self.today = rights, keys, since, today

    def role_of(self, one: Standing, role: str) -> RoleReview:
        """The state of a role of a flow."""
        signed, fits = one.chosen(role)
        if signed is None:
            return RoleReview(role, "open")
        seal = signed.review.seal
        refusal = key_refusal(self.keys, signed.who, seal)
        if refusal:
            why = f"signed for {signed.who} with {refusal}: [review.keys] asks for a key of theirs"
            return RoleReview(role, "open", why=(why,))
        state, reasons = self._judge(one, signed.review, fits)
        mark = key_mark(seal.key) if seal is not None else ""
        return RoleReview(
            role, state, signed.who, signed.at, signed.review.until, signed.note, reasons, mark, signed.seq
        )

    def _judge(self, one: Standing, review: Review, fits: bool) -> tuple[RoleState, tuple[str, ...]]:
        since = () if fits else self.since[one.place, review.flow, review.version]
        if since:
            return "stale", since
        if review.verdict == "refused":
            return "refused", ()
        if review.until and review.until <= self.today:
            return "expired", ()
        wider = sorted(set(self.rights.of(one.flow)) - set(review.rights))
        if wider:
            return "stale", tuple(f"a flow that it calls may now {right}" for right in wider)
        return ("with changes" if review.verdict == "with-changes" else "valid"), ()


class RightsAround:
    """What the flows that a flow calls, and those that they call, may do outside: 'send through Office mail'. Who calls whom is looked up once;
    what no run comes to neither calls nor acts."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self._known: dict[str, frozenset[str]] = {}

    @cached_property
    def _flows(self) -> dict[str, list[Flow]]:
        found: dict[str, list[Flow]] = {}
        for flow in self.estate.flows:
            found.setdefault(flow.id, []).append(flow)
        return found

    def _running(self, key: str) -> frozenset[str]:
        """The steps of the flows with an id (of two with one id calls do not say whose they are) that some run comes to."""
        if key not in self._known:
            self._known[key] = frozenset().union(*[steps_that_may_run(Graph(flow)) for flow in self._flows[key]])
        return self._known[key]

    @cached_property
    def _nexts(self) -> dict[str, list[str]]:
        nexts: dict[str, list[str]] = {}
        for call in calls_of(self.estate):
            known = call.how in ("subflow", "tool", "webhook") and call.target
            if known and not self._running(call.source).isdisjoint(call.steps):
                nexts.setdefault(call.source, []).append(call.target)
        return nexts

    @cached_property
    def _rights(self) -> dict[str, set[str]]:
        called = {key for keys in self._nexts.values() for key in keys}
        return {
            flow.id: {
                _right_words(flow, step.effect, step.connection)
                for step in flow.steps
                if step.effect not in ("none", "read") and step.id in self._running(flow.id)
            }
            for flow in self.estate.flows
            if flow.id in called
        }

    def of(self, flow: Flow) -> tuple[str, ...]:
        """The rights around a flow, in order."""
        work, seen = list(self._nexts.get(flow.id, [])), {flow.id}
        found: set[str] = set()
        while work:
            key = work.pop()
            if key in seen:
                continue
            seen.add(key)
            work += self._nexts.get(key, [])
            found |= self._rights.get(key, set())
        return tuple(sorted(found))


def rights_around(estate: Estate, flow: Flow) -> tuple[str, ...]:
    """The rights around one flow."""
    return RightsAround(estate).of(flow)


def _right_words(flow: Flow, effect: str, connection: str | None) -> str:
    return f"{effect} through {service_name(flow, connection)}" if connection else effect
