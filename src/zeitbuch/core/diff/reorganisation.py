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
from .matching import FlowMatching
from .records import Change, FlowChanges

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
    by_key = {
        (flow_changes.status, flow_changes.id, flow_changes.name): index for index, flow_changes in enumerate(found)
    }
    changed = [
        flow_pair for flow_pair in matching.pairs if ("changed", flow_pair.new.id, flow_pair.new.title) in by_key
    ]
    taken: dict[int, list[Flow]] = {}
    for flow in matching.added:
        for index, pair in enumerate(changed):
            lost = [step for step in pair.old.steps if shared_steps([step], pair.new.steps) < 1]
            if len(lost) > 1 and shared_steps(flow.steps, lost) >= ENOUGH:
                taken.setdefault(index, []).append(flow)
                break
    for index, flows in taken.items():
        pair = changed[index]
        names = join_words([quote_name(flow.title) for flow in flows])
        _move_change(
            found,
            by_key["changed", pair.new.id, pair.new.title],
            "flow split",
            "one flow",
            f"part of it is now {names}",
        )
        for f in flows:
            _move_change(
                found,
                by_key["added", f.id, f.title],
                "flow split",
                f"part of {quote_name(pair.old.title)}",
                "a flow of its own",
            )
    for gone in matching.removed:
        into = [flow for flow in matching.added if shared_steps(gone.steps, flow.steps) >= ENOUGH]
        parts = [flow for flow in matching.added if shared_steps(flow.steps, gone.steps) >= ENOUGH]
        if len(parts) > 1:
            names = join_words([quote_name(flow.title) for flow in parts])
            _move_change(found, by_key["removed", gone.id, gone.title], "flow split", "one flow", f"now {names}")
            continue
        for pair in changed:
            come = [step for step in pair.new.steps if shared_steps([step], pair.old.steps) < 1]
            if len(come) > 1 and shared_steps(gone.steps, come) >= ENOUGH:
                _move_change(
                    found,
                    by_key["removed", gone.id, gone.title],
                    "flows merged",
                    "a flow of its own",
                    f"part of {quote_name(pair.new.title)}",
                )
                _move_change(
                    found,
                    by_key["changed", pair.new.id, pair.new.title],
                    "flows merged",
                    "",
                    f"holds what was {quote_name(gone.title)}",
                )
                break
        else:
            if len(into) == 1:
                _move_change(
                    found,
                    by_key["removed", gone.id, gone.title],
                    "flows merged",
                    "a flow of its own",
                    f"part of {quote_name(into[0].title)}",
                )
                _move_change(
                    found,
                    by_key["added", into[0].id, into[0].title],
                    "flows merged",
                    "",
                    f"holds what was {quote_name(gone.title)}",
                )
    return found


def _move_change(found: list[FlowChanges], at: int, kind: str, old: str, new: str) -> None:
    row = CHANGE_KINDS[kind]
    flow = found[at]
    change = Change(
        kind, row.topic, row.weight, "the flow", old, new, old_origin=flow.old_origin, new_origin=flow.new_origin
    )
    found[at] = structs.replace(flow, changes=(change, *flow.changes))
