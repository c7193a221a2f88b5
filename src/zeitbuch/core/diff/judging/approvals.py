# Which acts no person approves any more: those that an approval no longer comes before, and those that one that is gone leaves without
# anybody. Two opposite edits may take the same approval away: where its way leads now is said with it.
"""Approvals that are lost or passed by."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import structs

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words

from .pairing import FlowPairing
from .paths import lead_words, ways_instead

ACTS = ("send", "delete", "spend", "write")


def judge_approvals(pair: FlowPairing) -> None:
    """Approvals that still stand and no longer come before an act, and what acts those that are gone leave without anybody. An approval
    that no run came to approved nothing, and what no run comes to any more happens no more: nobody has to approve it."""
    if not any(step.kind == "approve" for step in pair.old.steps):
        return
    (ran, running), (before, after) = pair.running, pair.ways
    held = [step for step in pair.old.steps if step.kind == "approve" and step.id in ran]
    acts = [step for step in pair.new.steps if step.effect in ACTS and step.id in ran and step.id in running]
    asking = {step.id for step in pair.new.steps if step.kind == "approve" and step.id in running}
    for approval in held:
        behind = [act for act in acts if approval.id in before.always_before(act.id)]
        other = pair.new_steps.get(approval.id)
        if other is not None and other.kind == "approve" and other.enabled:
            if other.id not in asking:
                _tell_not_asked(pair, approval, other, behind, asking)
                continue
            freed = [act for act in behind if other.id not in after.always_before(act.id)]
            if freed:
                _tell_bypassed(pair, approval, other, freed)
            continue
        ways = ways_instead(pair, approval)
        here = _acts_without(pair.new, [link.target for link in ways], asking)
        reached = before.steps_after(approval.id)
        freed = [
            act
            for act in acts
            if (act in behind or (act.id in here and act.id in reached))
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


def _tell_not_asked(pair: FlowPairing, approval: Step, other: Step, behind: list[Step], asking: set[str]) -> None:
    """An approval that stands there and that no run comes to any more: what stood behind it and still happens is not approved."""
    (ran, running), (_, after) = pair.running, pair.ways
    ways = ways_instead(pair, approval)
    here = _acts_without(pair.new, [link.target for link in ways], set())
    left = {act.id for act in behind if not asking & set(after.always_before(act.id))} | set(here)
    acts = [step for step in pair.new.steps if step.effect in ACTS and step.id in left & ran & running]
    remarks = lead_words(pair, ways)
    if acts:
        remarks.append(f"{join_words([quote_name(act.title) for act in acts])} without it")
    places = (approval.origin, other.origin)
    pair.add_change(
        "approval bypassed", quote_name(other.title), "asked", _why_not_asked(pair, other),
        at=places, remarks=tuple(remarks), step=approval.id,
    )  # fmt: skip


def _why_not_asked(pair: FlowPairing, approval: Step) -> str:
    """Why no run comes to an approval of the new version."""
    graph, after = pair.graphs[1], pair.ways[1]
    around = [graph.steps[key] for key in graph.scope_path(approval.id) if key in graph.steps and key != approval.id]
    off = next((step for step in around if not step.enabled), None)
    if off is not None:
        return f"{quote_name(off.title)} around it is switched off"
    return "nothing leads to it any more" if approval.id in after.unreachable else "no run comes to it any more"


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
