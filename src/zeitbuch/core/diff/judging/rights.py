# What follows from the changes and is what the owner asks for: what the flow may do outside now. No edits of their own: they follow from
# those of others. A flow may do what a run comes to: a block that is switched on, or a way that leads on, may give it a right as a new step does.
"""Changes of rights."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.records import Change
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.records import Flow, Link, Step
from zeitbuch.core.model.words import join_words

from .approvals import ACTS, judge_approvals
from .pairing import FlowPairing

_ORDER = ("read", "write", "send", "delete", "spend")


# Changes of these may let a run come to other steps, or let steps do something else.
_TOPICS = frozenset({"trigger", "step", "link", "failure", "rights"})


def effects_of(flow: Flow, running: frozenset[str]) -> list[str]:
    """What the steps of a flow that some run comes to may do outside."""
    held = {step.effect for step in flow.steps if step.id in running}
    return [name for name in _ORDER if name in held]


def judge_rights(pair: FlowPairing) -> None:
    """Rights of the whole flow, and approvals that no longer come before an act."""
    if _TOPICS.isdisjoint([change.topic for change in pair.found]):
        return
    gained = _tell_gained(pair)
    before, after = pair.running
    old, new = effects_of(pair.old, before), effects_of(pair.new, after)
    entry = (pair.old.origin, pair.new.origin)
    if old != new:
        more = [EFFECTS[name].verb for name in new if name not in old]
        less = [EFFECTS[name].verb for name in old if name not in new]
        words = [join_words([EFFECTS[name].verb for name in side]) or "nothing" for side in (old, new)]
        if more:
            pair.add_change(
                "rights widened", "the flow", words[0], words[1], at=entry, remarks=(f"now {join_words(more)}", *gained)
            )
            gained = ()
        else:
            pair.add_change(
                "rights narrowed", "the flow", words[0], words[1], at=entry, remarks=(f"no longer {join_words(less)}",)
            )
    if gained:
        pair.add_change("rights widened", "the flow", at=entry, remarks=gained)
    judge_approvals(pair)


def _tell_gained(pair: FlowPairing) -> tuple[str, ...]:
    """Acts that stood there as they do now and that no run came to: told with the change that lets runs come to them, which weighs more
    then; where none is known to, what is to be told is given back."""
    ran, running = pair.running
    fresh = running - ran
    acts = [step for step in pair.new.steps if step.id in fresh and step.effect in ACTS]
    acts = [step for step in acts if (old := pair.old_steps.get(step.id)) and old.enabled and old.effect == step.effect]
    if not acts:
        return ()
    said = f"{join_words([f'{quote_name(step.title)} ({EFFECTS[step.effect].verb})' for step in acts])} may run now"
    place = _place_of_cause(pair, acts, fresh)
    if place is None:
        return (said,)
    change = pair.found[place]
    pair.found[place] = structs.replace(change, weight="risk", remarks=(*change.remarks, said))
    return ()


def _place_of_cause(pair: FlowPairing, acts: list[Step], fresh: frozenset[str]) -> int | None:
    """Where the change stands that lets runs come to some acts: a block around them or their agent that is switched on, a way that leads
    there, or the only change that can."""
    places = [place for place, change in enumerate(pair.found) if change.topic in _TOPICS]
    graph = pair.graphs[1]
    around = {key for step in acts for key in (*graph.scope_path(step.id), *graph.hosts_of(step.id))}
    found = [place for place in places if pair.found[place].type == "enabled" and pair.found[place].step in around]
    found = found or [place for place in places if _leads_to(pair.found[place], fresh)]
    found = found or (places if len(places) == 1 else [])
    return found[0] if found else None


def _leads_to(change: Change, steps: frozenset[str]) -> bool:
    return any(isinstance(edit.new, Link) and edit.new.target in steps for edit in change.edits)
