# Two versions that set out from one: what only one of them changed, what both changed alike, and where they contradict each other. Two
# changes meet where they touch the same field, the same arrow, or a step that one of them takes out.
"""Changes of two versions since their common base."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

from msgspec import Struct

from zeitbuch.core.model.outcomes import case_name
from zeitbuch.core.model.records import Estate, Flow, Link

from .edits import Edit
from .estate_changes import estate_changes, same_meaning, versions_of
from .flow_matching import match_flows
from .records import Change, FlowChanges

Side = Literal["only ours", "only theirs", "both alike", "conflict"]
SIDES: tuple[Side, ...] = ("conflict", "only ours", "only theirs", "both alike")
Spot = tuple[str, str, str]  # the part, its id in the base, the field (* for all of it)


class MetChange(Struct, frozen=True):
    """One change of a flow since the base, by one side or by both."""

    state: Side
    flow: str
    id: str
    ours: Change | None = None
    theirs: Change | None = None


class ThreeWay(Struct, frozen=True):
    """`diff --base --format json`: conflicts first."""

    changes: tuple[MetChange, ...]


class _Changed(Struct):
    """One flow as a side has it: its changes since the base (None: unchanged), and the flow (None: removed)."""

    changes: FlowChanges
    flow: Flow | None


def compare_three(base: Estate, ours: Estate, theirs: Estate) -> ThreeWay:
    """What each side changed since the base."""
    first, second = _changes_by_base(base, ours), _changes_by_base(base, theirs)
    found: list[MetChange] = []
    for key in dict.fromkeys((*first, *second)):
        one, other = first.get(key), second.get(key)
        if one is None or other is None:
            side: Side = "only ours" if one is not None else "only theirs"
            changed = one if one is not None else other
            assert changed is not None
            found += [_met(side, changed.changes, change) for change in _made_changes(changed.changes)]
        else:
            found += _meet(one, other)
    found.sort(key=lambda met: SIDES.index(met.state))
    return ThreeWay(tuple(found))


def _met(state: Side, flow: FlowChanges, change: Change) -> MetChange:
    return MetChange(
        state,
        flow.name,
        flow.id,
        change if state != "only theirs" else None,
        change if state == "only theirs" else None,
    )


def _changes_by_base(base: Estate, side: Estate) -> dict[str, _Changed]:
    """The flows that a side changed, by their id in the base; those that it added by their own."""
    matching = match_flows(base.flows, side.flows)
    found = estate_changes(base, side, matching)
    return {
        (old.id if old is not None else f"+{changes.id}"): _Changed(changes, new)
        for changes, (old, new) in zip(found.flows, versions_of(found, matching), strict=True)
    }


def _made_changes(flow: FlowChanges) -> list[Change]:
    """The changes that somebody made; what only follows from them (rights) would be told twice."""
    made = [change for change in flow.changes if change.edits]
    return made or list(flow.changes)


Touching = tuple[Change, set[Spot]]  # a change, and what it touches


def _meet(one: _Changed, other: _Changed) -> Iterable[MetChange]:
    """The changes of a flow that both sides changed."""
    if one.flow is None or other.flow is None or one.changes.status == "added":
        return [_meet_whole(one, other)]
    ours, theirs = _touching(one.changes), _touching(other.changes)
    alike = _alike(ours, theirs)
    name, id = one.changes.name, one.changes.id
    found = [MetChange("both alike", name, id, ours[mine][0], theirs[n][0]) for mine, n in alike.items()]
    met: set[int] = set()
    for place, (change, spots) in enumerate(ours):
        if place in alike:
            continue
        against = [n for n, (_, second) in enumerate(theirs) if n not in alike.values() and _do_meet(spots, second)]
        found += [MetChange("conflict", name, id, change, theirs[n][0]) for n in against]
        found += [] if against else [_met("only ours", one.changes, change)]
        met |= set(against)
    done = met | set(alike.values())
    return found + [_met("only theirs", other.changes, change) for n, (change, _) in enumerate(theirs) if n not in done]


def _touching(flow: FlowChanges) -> list[Touching]:
    return [(change, _spots_of(change, flow)) for change in _made_changes(flow)]


def _alike(ours: list[Touching], theirs: list[Touching]) -> dict[int, int]:
    """Places of changes that both sides made alike, each of theirs once."""
    found: dict[int, int] = {}
    for place, (change, _) in enumerate(ours):
        fits = [n for n, (other, _) in enumerate(theirs) if n not in found.values() and _is_same(change, other)]
        if fits:
            found[place] = fits[0]
    return found


def _meet_whole(one: _Changed, other: _Changed) -> MetChange:
    """A flow that a side removed, or that both added."""
    alike = (one.flow is None and other.flow is None) or (
        one.flow is not None and other.flow is not None and same_meaning(one.flow, other.flow)
    )
    return MetChange(
        "both alike" if alike else "conflict",
        one.changes.name,
        one.changes.id,
        one.changes.changes[0],
        other.changes.changes[0],
    )


def _is_same(one: Change, other: Change) -> bool:
    return (one.type, one.where, one.old, one.new, one.remarks) == (
        other.type, other.where, other.old, other.new, other.remarks,
    )  # fmt: skip


def _spots_of(change: Change, flow: FlowChanges) -> set[Spot]:
    """What a change touches, by the ids of the base."""
    back = {new: old for old, new in flow.ids.parts.items()}
    return {spot for edit in change.edits for spot in _spots_of_edit(edit, back)}


def _spots_of_edit(edit: Edit, back: Mapping[str, str]) -> Iterable[Spot]:
    if edit.part == "link":
        for link in (edit.old, edit.new):
            if isinstance(link, Link):
                case = case_name(link) if link.role == "case" else ""
                yield "link", back.get(link.source, link.source), f"{link.role} {case}"
                # An arrow needs both its ends.
                yield "end", back.get(link.source, link.source), ""
                yield "end", back.get(link.target, link.target), ""
        return
    whole = edit.op != "set" and not edit.field
    yield edit.part, back.get(edit.id, edit.id), "*" if whole else edit.field


def _do_meet(first: set[Spot], second: set[Spot]) -> bool:
    """Whether two changes touch the same."""
    if any(spot in second for spot in first if spot[0] != "end"):
        return True
    return any(
        part == "step" and field == "*" and any(other[1] == key and other[0] in ("step", "end") for other in rest)
        for spots, rest in ((first, second), (second, first))
        for part, key, field in spots
    )
