# Two versions of an estate brought together, where that can be done honestly: no two changes meet, the edits of each side say all that it
# changed, and it is the same whichever side is taken first. Otherwise nothing is said, and people merge.
"""Merging two versions that set out from one."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.model.canonical import SAME, canonical_form
from zeitbuch.core.model.records import Estate, Flow

from .edits import Edit, apply_edits
from .estate_changes import flow_changes, same_meaning
from .three_way import compare_three


def merge_estates(base: Estate, ours: Estate, theirs: Estate) -> Estate | None:
    """Ours with what theirs changed; None where both contradict each other, or where it cannot be shown that nothing is lost. Boxes of
    flows that both changed stay where ours has them."""
    sides = [{flow.id: flow for flow in side.flows} for side in (base, ours, theirs)]
    if any(len(known) < len(side.flows) for known, side in zip(sides, (base, ours, theirs), strict=True)):
        return None  # ids that come twice name nothing
    if any(met.state == "conflict" for met in compare_three(base, ours, theirs).changes):
        return None
    was, mine, other = sides
    found: list[Flow] = []
    for key in dict.fromkeys((*mine, *other)):
        flow, first, second = was.get(key), mine.get(key), other.get(key)
        if flow is None:
            found.append(first or second)  # type: ignore[arg-type]  # one of them has the key
        elif first is not None and second is not None:
            merged = _merge_flows(flow, first, second)
            if merged is None:
                return None
            found.append(merged)
    return Estate(tuple(found))


def _merge_flows(base: Flow, ours: Flow, theirs: Flow) -> Flow | None:
    if _plain(theirs) == _plain(base):
        return ours
    if _plain(ours) == _plain(base):
        return theirs
    first, second = _edits_of(base, ours), _edits_of(base, theirs)
    if first is None or second is None:
        return None
    done = [edit for edit in second if edit not in first]  # what both did alike is done once
    merged = apply_edits(ours, done)
    turned = apply_edits(theirs, [edit for edit in first if edit not in second])
    return merged if canonical_form(merged) == canonical_form(turned) else None


def _plain(flow: Flow) -> Flow:
    """A flow without what any saving changes."""
    return structs.replace(flow, changed="", version="", origin=None)


def _edits_of(base: Flow, side: Flow) -> list[Edit] | None:
    """All that a side changed; None where its ids are others, or edits do not say it all."""
    found = flow_changes(base, side)
    if found is None:
        return [] if same_meaning(base, side) else None
    edits = [edit for change in found.changes for edit in change.edits]
    if found.ids.parts != SAME.parts or found.ids.connections != SAME.connections:
        return None
    made = apply_edits(base, edits)
    return (
        edits if structs.replace(canonical_form(made), id="") == structs.replace(canonical_form(side), id="") else None
    )
