# Flows that were split, merged, or moved from one package to another.
"""Splits, merges and moves of whole flows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec import structs

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Estate, Flow, Step
from zeitbuch.core.model.words import join_words

from .change_types import CHANGE_KINDS
from .flow_matching import FlowMatching, FlowPair
from .records import Change, FlowChanges

MORE = 1.5  # times as many steps as the removed flow had, in what is to hold it and others
ENOUGH = 0.6  # share of a flow's named steps that must have come from (or gone to) the other flow


def step_signature(step: Step) -> tuple[str, str, str]:
    """What tells a step in another flow: kind, operation, name."""
    return step.kind, step.operation, step.name.casefold()


def shared_steps(part: Sequence[Step], whole: Sequence[Step]) -> float:
    """Share of the named steps of ``part`` that stand in ``whole`` too."""
    named = Counter(step_signature(step) for step in part if step.name and step.kind != "note")
    if not named:
        return 0.0
    there = Counter(step_signature(step) for step in whole)
    return sum(min(number, there[key]) for key, number in named.items()) / sum(named.values())


def _package_name(flow: Flow) -> str | None:
    """The name of the package that a flow came in, without its folders."""
    origin = flow.origin
    return (
        origin.source.replace("\\", "/").rsplit("/", 1)[-1]
        if origin is not None and origin.member is not None
        else None
    )


def packages_changed(old: Estate, new: Estate, matching: FlowMatching) -> dict[int, Change]:
    """By the identity of the new flow: a move to another package, where the old package is still there or the new one was
    already. A package that was only named anew is no move."""
    before, after = {_package_name(flow) for flow in old.flows}, {_package_name(flow) for flow in new.flows}
    found: dict[int, Change] = {}
    row = CHANGE_KINDS["flow moved"]
    for pair in matching.pairs:
        first, second = _package_name(pair.old), _package_name(pair.new)
        if first is None or second is None or first == second or (first not in after and second not in before):
            continue
        found[id(pair.new)] = Change(
            "flow moved", row.topic, row.weight, "the flow's package", first, second,
            old_origin=pair.old.origin, new_origin=pair.new.origin,
        )  # fmt: skip
    return found


def splits_and_merges(found: list[FlowChanges], matching: FlowMatching) -> list[FlowChanges]:
    """The list with splits told on the flow that was split, merges on the flow that took the others in."""
    places: dict[tuple[str, str, str], int] = {(c.status, c.id, c.name): index for index, c in enumerate(found)}
    telling = _Telling(found, places)
    changed = [pair for pair in matching.pairs if ("changed", pair.new.id, pair.new.title) in places]
    for pair, flows in _flows_split_off(matching, changed):
        names = join_words([quote_name(flow.title) for flow in flows])
        telling.tell("changed", pair.new, "flow split", "one flow", f"part of it is now {names}")
        for flow in flows:
            telling.tell("added", flow, "flow split", f"part of {quote_name(pair.old.title)}", "a flow of its own")
    for flow in matching.removed:
        _tell_removed(telling, flow, matching, changed)
    return found


class _Telling:
    """Adds changes to the flows of a list, found by status, id and name."""

    def __init__(self, found: list[FlowChanges], places: dict[tuple[str, str, str], int]) -> None:
        self.found, self.places = found, places

    def tell(self, status: str, flow: Flow, kind: str, old: str, new: str) -> None:
        """One more change of a flow."""
        _move_change(self.found, self.places[status, flow.id, flow.title], kind, old, new)

    def tell_merge(self, removed: Flow, status: str, into: Flow) -> None:
        """A removed flow that another one holds now."""
        self.tell("removed", removed, "flows merged", "a flow of its own", f"part of {quote_name(into.title)}")
        self.tell(status, into, "flows merged", "", f"holds what was {quote_name(removed.title)}")


def _flows_split_off(matching: FlowMatching, changed: list[FlowPair]) -> list[tuple[FlowPair, list[Flow]]]:
    """Changed flows with the added ones that took steps out of them."""
    taken: dict[int, list[Flow]] = {}
    for flow in matching.added:
        for index, pair in enumerate(changed):
            lost = [step for step in pair.old.steps if shared_steps([step], pair.new.steps) < 1]
            if len(lost) > 1 and shared_steps(flow.steps, lost) >= ENOUGH:
                taken.setdefault(index, []).append(flow)
                break
    return [(changed[index], flows) for index, flows in taken.items()]


def _tell_removed(telling: _Telling, removed: Flow, matching: FlowMatching, changed: list[FlowPair]) -> None:
    """Where the steps of a removed flow have gone: into several flows, into a changed one, into an added one."""
    parts = [flow for flow in matching.added if shared_steps(flow.steps, removed.steps) >= ENOUGH]
    if len(parts) > 1:
        names = join_words([quote_name(flow.title) for flow in parts])
        telling.tell("removed", removed, "flow split", "one flow", f"now {names}")
        return
    for pair in changed:
        come = [step for step in pair.new.steps if shared_steps([step], pair.old.steps) < 1]
        if len(come) > 1 and shared_steps(removed.steps, come) >= ENOUGH:
            telling.tell_merge(removed, "changed", pair.new)
            return
    # What holds hardly more than the removed one did is no merge of several.
    into = [
        flow
        for flow in matching.added
        if shared_steps(removed.steps, flow.steps) >= ENOUGH and len(flow.steps) >= MORE * len(removed.steps)
    ]
    if len(into) == 1:
        telling.tell_merge(removed, "added", into[0])


def _move_change(found: list[FlowChanges], at: int, kind: str, old: str, new: str) -> None:
    row = CHANGE_KINDS[kind]
    flow = found[at]
    change = Change(
        kind, row.topic, row.weight, "the flow", old, new, old_origin=flow.old_origin, new_origin=flow.new_origin
    )
    found[at] = structs.replace(flow, changes=(change, *flow.changes))
