# What follows from the changes and is what the owner asks for: what the flow may do outside now. No edits of their own: they follow from
# those of others.
"""Changes of rights."""

from __future__ import annotations

from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.words import join_words

from .approvals import judge_approvals
from .pairing import FlowPairing

_ORDER = ("read", "write", "send", "delete", "spend")


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
    judge_approvals(pair)
