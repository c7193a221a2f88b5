# Which acts no person approves any more: those that an approval no longer comes before, and those that one that is gone leaves without
# anybody. Two opposite edits may take the same approval away: where its way leads now is said with it.
"""Approvals that are lost or passed by."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import structs

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words
from zeitbuch.core.passes.reachability import Reachability

from .pairing import FlowPairing
from .paths import lead_words, ways_instead

_ACTS = ("send", "delete", "spend", "write")


def judge_approvals(pair: FlowPairing) -> None:
    """Approvals that still stand and no longer come before an act, and what acts those that are gone leave without anybody."""
    held = [step for step in pair.old.steps if step.kind == "approve" and step.enabled]
    acts = [step for step in pair.new.steps if step.effect in _ACTS and step.id in pair.old_steps and step.enabled]
    if not held:
        return
    before, after = Reachability(Graph(pair.old)), Reachability(Graph(pair.new))
    asking = {step.id for step in pair.new.steps if step.kind == "approve" and step.enabled}
    # What is not reached any more happens no more: nobody has to approve it.
    unreached = set(after.unreachable)
    for approval in held:
        behind = [act for act in acts if approval.id in before.always_before(act.id)]
        other = pair.new_steps.get(approval.id)
        if other is not None and other.id in asking:
            if other.id in unreached and approval.id not in before.unreachable:
                _tell_not_asked(pair, approval, other, after)
                continue
            freed = [act for act in behind if act.id not in unreached and other.id not in after.always_before(act.id)]
            if freed:
                _tell_bypassed(pair, approval, other, freed)
            continue
        ways = ways_instead(pair, approval)
        here = _acts_without(pair.new, [link.target for link in ways], asking)
        reached = before.steps_after(approval.id)
        freed = [
            act
            for act in acts
            if act.id not in unreached
            and (act in behind or (act.id in here and act.id in reached))
            and not asking & set(after.always_before(act.id))
        ]
        partly = set().union(*[after.steps_after(one) for one in asking])
        said = [*lead_words(pair, ways), *_freed_words(pair, freed, set(here), partly)]
        still = set(_acts_without(pair.new, [link.target for link in ways], set()))
        gone = [act for act in acts if act.id in reached and act.id not in still and act not in freed] if ways else []
        follow = "no longer follows it" if len(gone) == 1 else "no longer follow it"
        said += [f"{join_words([quote_name(act.title) for act in gone])} {follow}"] if gone else []
        _tell_lost(pair, approval, said)


def _tell_bypassed(pair: FlowPairing, approval: Step, other: Step, freed: list[Step]) -> None:
    names = join_words([quote_name(step.title) for step in freed])
    places = (approval.origin, other.origin)
    where = quote_name(other.title)
    pair.add_change("approval bypassed", where, f"always before {names}", "not always", at=places, step=approval.id)


def _tell_not_asked(pair: FlowPairing, approval: Step, other: Step, after: Reachability) -> None:
    """An approval that stands there and to which nothing leads any more: what stood behind it and still happens is not approved."""
    ways = ways_instead(pair, approval)
    here = _acts_without(pair.new, [link.target for link in ways], set())
    acts = [step for step in pair.new.steps if step.effect in _ACTS and step.enabled and step.id in here]
    acts = [step for step in acts if step.id in pair.old_steps and step.id not in after.unreachable]
    remarks = lead_words(pair, ways)
    if acts:
        remarks.append(f"{join_words([quote_name(act.title) for act in acts])} without it")
    places = (approval.origin, other.origin)
    pair.add_change(
        "approval bypassed", quote_name(other.title), "asked", "nothing leads to it any more",
        at=places, remarks=tuple(remarks), step=approval.id,
    )  # fmt: skip


def _acts_without(flow: Flow, starts: Iterable[str], asking: set[str]) -> list[str]:
    """The steps that are reached from some without anybody being asked on the way, and those inside them."""
    onward: dict[str, list[str]] = {}
    for link in flow.links:
        if link.role != "attach":
            onward.setdefault(link.source, []).append(link.target)
    for step in flow.steps:
        if step.scope is not None:
            onward.setdefault(step.scope, []).append(step.id)
    found: dict[str, None] = {}
    work = list(starts)
    while work:
        one = work.pop()
        if one not in found and one not in asking:
            found[one] = None
            work += onward.get(one, [])
    return list(found)


def _freed_words(pair: FlowPairing, freed: list[Step], here: set[str], partly: set[str]) -> list[str]:
    """The acts that nobody approves now: on the way that the approval stood on, or since nothing leads to them any more; ``partly``:
    what some other approval still leads to."""
    arriving = {link.target for link in pair.new.links if link.role != "attach"}
    loose = [act for act in freed if act.id not in arriving and act.scope is not None and act.id not in here]
    rest = [act for act in freed if act not in loose]
    said = []
    for words, some in (
        ("nobody approves {} any more", [act for act in rest if act.id not in partly]),
        ("{} is reached without an approval too", [act for act in rest if act.id in partly]),
    ):
        if some:
            said.append(words.format(join_words([quote_name(act.title) for act in some])))
    for act in loose:
        scope = quote_name(pair.new_names.get(act.scope or "", ""))
        said.append(
            f"nothing leads to {quote_name(act.title)} any more: it begins with {scope}, and nobody approves it"
        )
    return said


def _tell_lost(pair: FlowPairing, approval: Step, said: list[str]) -> None:
    """With the change that took an approval away."""
    for place, change in enumerate(pair.found):
        if change.type == "approval removed" and change.step == approval.id:
            pair.found[place] = structs.replace(change, remarks=(*change.remarks, *said))
            return
