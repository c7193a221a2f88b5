# From two estates to what changed: match, judge, and say of each flow whether it means the same. Wording of values is done
# by the judges, look is left to writers, figures to change_cost.
"""Typed changes between two versions of an estate."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.judging.flow import judge_flow, judge_triggers, judge_variables
from zeitbuch.core.diff.judging.links import judge_links
from zeitbuch.core.diff.judging.pairing import FlowPairing
from zeitbuch.core.diff.judging.rights import judge_rights
from zeitbuch.core.diff.judging.steps import judge_steps
from zeitbuch.core.graph import phrases
from zeitbuch.core.model.canonical import Ids, canonical_form
from zeitbuch.core.model.records import Content, Estate, Flow, Origin
from zeitbuch.core.model.secret_labels import align_secrets

from .change_types import CHANGE_KINDS
from .consequence import with_concerns
from .flow_matching import FlowMatching, FlowPair, match_flows, told_once
from .matching import match_steps
from .records import Change, EstateChanges, FlowChanges
from .reorganisation import packages_changed, splits_and_merges


def _without_stamps(flow: Flow) -> Flow:
    """The flow without time stamps and what else stands only at its head: the cheap part of its canonical form."""
    return structs.replace(flow, id="", version="", created="", changed="", format="", secrets=(), content=Content())


def _without_places(flow: Flow) -> Flow:
    """The flow without the places of its boxes."""
    return structs.replace(
        flow,
        triggers=tuple([structs.replace(trigger, position=None) for trigger in flow.triggers]),
        steps=tuple([structs.replace(step, position=None) for step in flow.steps]),
    )


def same_meaning(old: Flow, new: Flow) -> bool:
    """Whether two versions mean the same without any id renamed."""
    first, second = _without_stamps(old), _without_stamps(new)
    return (
        first == second
        or _without_places(first) == _without_places(second)
        or structs.replace(canonical_form(old), id="") == structs.replace(canonical_form(new), id="")
    )


def flow_changes(old: Flow, new: Flow, flows: dict[str, str] | None = None) -> FlowChanges | None:
    """What changed in a flow, or None when it means the same. ``flows`` are renewed ids of other flows."""
    new = align_secrets(old, new)
    if same_meaning(old, new):
        return None
    matching = match_steps(old, new)
    pair = FlowPairing(old, new, matching, flows)
    if structs.replace(canonical_form(pair.old), id="") == structs.replace(canonical_form(new), id=""):
        return None  # other ids, and nothing else
    judge_flow(pair)
    judge_triggers(pair)
    judge_steps(pair)
    judge_links(pair)
    judge_variables(pair)
    judge_rights(pair)
    found = pair.found
    if not found:
        # Every field of meaning is worded by a judge; this says so rather than nothing if one is ever missed.
        row = CHANGE_KINDS["other setting"]
        found = [Change("other setting", row.topic, row.weight, "the flow", "differs in a part that has no wording")]
    return FlowChanges(
        new.id, new.title, "changed", tuple(found), old.id, renewed=matching.renewed, ids=_ids_of_flow(pair.ids, old),
        old_origin=old.origin, new_origin=new.origin,
    )  # fmt: skip


def _ids_of_flow(ids: Ids, old: Flow) -> Ids:
    """The ids that concern one flow."""
    named = {old.id, *[step.calls for step in old.steps]}
    return structs.replace(ids, flows={key: value for key, value in ids.flows.items() if key in named})


def versions_of(found: EstateChanges, matching: FlowMatching) -> list[tuple[Flow | None, Flow | None]]:
    """For each result its flow in both versions; None where it was not there."""

    def key(id: str, name: str, origin: Origin | None) -> tuple[str, str, str]:
        return id, name, str(origin)

    def of(flow: Flow) -> tuple[str, str, str]:
        return key(flow.id, flow.title, flow.origin)

    sides: dict[tuple[str, tuple[str, str, str]], tuple[Flow | None, Flow | None]] = {
        **{("changed", of(flow_pair.new)): (flow_pair.old, flow_pair.new) for flow_pair in matching.pairs},
        **{("removed", of(flow)): (flow, None) for flow in matching.removed},
        **{("added", of(flow)): (None, flow) for flow in matching.added},
    }
    return [
        sides[
            flow_changes.status,
            key(
                flow_changes.id,
                flow_changes.name,
                flow_changes.old_origin if flow_changes.status == "removed" else flow_changes.new_origin,
            ),
        ]
        for flow_changes in found.flows
    ]


def _whole_flow_change(flow: Flow, status: str) -> FlowChanges:
    """A flow that came or went."""
    kind = f"flow {status}"
    about = "; ".join(phrases.triggers_list(flow))
    row = CHANGE_KINDS[kind]
    old, new = ("", about) if status == "added" else (about, "")
    places = (None, flow.origin) if status == "added" else (flow.origin, None)
    change = Change(
        kind, row.topic, row.weight, "the flow", old, new, old_origin=places[0], new_origin=places[1]
    )  # fmt: skip
    return FlowChanges(
        flow.id, flow.title, status, (change,), flow.id if status == "removed" else "",  # type: ignore[arg-type]
        old_origin=places[0], new_origin=places[1],
    )  # fmt: skip


def compare_pair(pair: FlowPair, matching: FlowMatching) -> FlowChanges | None:
    """The changes of a matched pair, with how it was matched."""
    found = flow_changes(pair.old, pair.new, matching.ids)
    if found is None:
        return None
    found = structs.replace(found, matched=pair.by, confidence=pair.confidence, rival=pair.rival)
    return with_concerns(found, pair.old, pair.new)


def estate_changes(old: Estate, new: Estate, matching: FlowMatching | None = None) -> EstateChanges:
    """All changes of meaning between two versions of an estate, in the order of the new one; removed flows first."""
    matching = matching or match_flows(old.flows, new.flows)
    by_new: dict[int, FlowChanges] = {}
    unchanged, renumbered = 0, matching.renumbered()
    for pair in matching.pairs:
        one = compare_pair(pair, matching)
        if one is None:
            unchanged += 1
        else:
            by_new[id(pair.new)] = structs.replace(one, renumbered=told_once(pair, renumbered))
    for flow in matching.added:
        by_new[id(flow)] = with_concerns(_whole_flow_change(flow, "added"), None, flow)
    gone = [with_concerns(_whole_flow_change(flow, "removed"), flow, None) for flow in matching.removed]
    found = [*gone, *[by_new[id(flow)] for flow in new.flows if id(flow) in by_new]]
    moved = packages_changed(old, new, matching)
    found = _with_moved_flows(found, matching, moved)
    unchanged -= sum(id(flow_pair.new) not in by_new and id(flow_pair.new) in moved for flow_pair in matching.pairs)
    return EstateChanges(tuple(splits_and_merges(found, matching)), unchanged, renumbered)


def _with_moved_flows(found: list[FlowChanges], matching: FlowMatching, moved: dict[int, Change]) -> list[FlowChanges]:
    """The list with flows that moved between packages: told with their other changes, or by themselves."""
    if not moved:
        return found
    mapping = {
        (flow_changes.id, flow_changes.name): index
        for index, flow_changes in enumerate(found)
        if flow_changes.status == "changed"
    }
    for pair in matching.pairs:
        change = moved.get(id(pair.new))
        if change is None:
            continue
        place = mapping.get((pair.new.id, pair.new.title))
        if place is not None:
            found[place] = structs.replace(found[place], changes=(change, *found[place].changes))
        else:
            found.append(
                FlowChanges(
                    pair.new.id, pair.new.title, "changed", (change,), pair.old.id, pair.by, pair.confidence,
                    old_origin=pair.old.origin, new_origin=pair.new.origin,
                )
            )  # fmt: skip
    return found
