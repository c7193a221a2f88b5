# What follows from the changes and is what the owner asks for: what the flow may do outside now, and which acts no person
# approves any more. No edits of their own: they follow from those of others.
"""Changes of rights and approvals."""

from __future__ import annotations

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
    held = [step for step in pair.old.steps if step.kind == "approve" and step.enabled and step.id in pair.new_steps]
    acts = [step for step in pair.new.steps if step.effect in _ACTS and step.id in pair.old_steps and step.enabled]
    if not held or not acts:
        return
    before, after = Reachability(Graph(pair.old)), Reachability(Graph(pair.new))
    for approval in held:
        if not pair.new_steps[approval.id].enabled or pair.new_steps[approval.id].kind != "approve":
            continue
        freed: list[Step] = [
            act
            for act in acts
            if approval.id in before.always_before(act.id) and approval.id not in after.always_before(act.id)
        ]
        if freed:
            names = join_words([quote_name(step.title) for step in freed])
            pair.add_change(
                "approval bypassed",
                quote_name(pair.new_steps[approval.id].title),
                f"always before {names}",
                "not always",
                at=(approval.origin, pair.new_steps[approval.id].origin),
                step=approval.id,
            )
