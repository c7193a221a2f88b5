# What follows from the changes and is what the owner asks for: what the flow may do outside now, and which acts no person
# approves any more. No edits of their own: they follow from those of others.
"""Changes of rights and approvals."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words
from zeitbuch.core.passes.reachability import Reachability

from .pairing import FlowPairing

_ORDER = ("read", "write", "send", "delete", "spend")
_ACTS = ("send", "delete", "spend", "write")


def effects_of(flow: Flow) -> list[str]:
    """What the switched-on steps of a flow may do outside."""
    held = {step.effect for step in flow.steps if step.enabled}
    return [name for name in _ORDER if name in held]


def judge_rights(pair: FlowPairing) -> None:
    """Rights of the whole flow, and approvals that no longer come before an act."""
    old, new = effects_of(pair.old), effects_of(pair.new)
    entry = (pair.old.origin, pair.new.origin)
    if old != new:
        more = [EFFECTS[name].verb for name in new if name not in old]
        less = [EFFECTS[name].verb for name in old if name not in new]
        words = [join_words([EFFECTS[name].verb for name in side]) or "nothing" for side in (old, new)]
        if more:
            pair.add_change(
                "rights widened", "the flow", words[0], words[1], at=entry, remarks=(f"now {join_words(more)}",)
            )
        else:
            pair.add_change(
                "rights narrowed", "the flow", words[0], words[1], at=entry, remarks=(f"no longer {join_words(less)}",)
            )
    _judge_approvals(pair)


def _judge_approvals(pair: FlowPairing) -> None:
    """Approvals that still stand and no longer come before an act, and what acts those that are gone leave without anybody."""
    held = [step for step in pair.old.steps if step.kind == "approve" and step.enabled]
    acts = [step for step in pair.new.steps if step.effect in _ACTS and step.id in pair.old_steps and step.enabled]
    if not held or not acts:
        return
    before, after = Reachability(Graph(pair.old)), Reachability(Graph(pair.new))
    # What is not reached any more happens no more: nobody has to approve it.
    unreached = set(after.unreachable)
    acts = [act for act in acts if act.id not in unreached]
    for approval in held:
        freed = [
            act
            for act in acts
            if approval.id in before.always_before(act.id) and approval.id not in after.always_before(act.id)
        ]
        other = pair.new_steps.get(approval.id)
        if other is not None and other.enabled and other.kind == "approve":
            if freed:
                _tell_bypassed(pair, approval, other, freed)
            continue
        asked = {step.id for step in pair.new.steps if step.kind == "approve" and step.enabled}
        freed = [
            act
            for act in acts
            if approval.id in before.always_before(act.id) and not asked & set(after.always_before(act.id))
        ]
        if freed:
            _tell_unasked(pair, approval, freed)


def _tell_bypassed(pair: FlowPairing, approval: Step, other: Step, freed: list[Step]) -> None:
    names = join_words([quote_name(step.title) for step in freed])
    places = (approval.origin, other.origin)
    where = quote_name(other.title)
    pair.add_change("approval bypassed", where, f"always before {names}", "not always", at=places, step=approval.id)


def _tell_unasked(pair: FlowPairing, approval: Step, freed: list[Step]) -> None:
    """With the change that took an approval away: the acts that no person approves now."""
    names = join_words([quote_name(step.title) for step in freed])
    for place, change in enumerate(pair.found):
        if change.type == "approval removed" and change.step == approval.id:
            said = f"nobody approves {names} any more"
            pair.found[place] = structs.replace(change, remarks=(*change.remarks, said))
            return
