# Changes in the order in which an owner must look at them: first who may do what without being asked, then what reaches people or
# money, what happens when something fails, what models are told, what it costs, and the rest.
"""Changes by their consequence."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from msgspec import structs

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.model.records import Flow

from .change_types import CHANGE_KINDS, CONCERNS, Concern
from .records import Change, EstateChanges, FirstChange, FlowChanges

ACTS = frozenset({"send", "spend", "delete"})  # effects that reach people or money, or cannot be taken back
FIRST = 5
_WEIGHTS = ("risk", "meaning", "note")


def with_concerns(found: FlowChanges, old: Flow | None, new: Flow | None) -> FlowChanges:
    """The changes of a flow, each with what it concerns."""
    acting = {step.id for flow in (old, new) if flow is not None for step in flow.steps if step.effect in ACTS}
    # The old ids as the new version spells them.
    acting |= {found.ids.parts.get(id, id) for id in acting}
    asking = {step.id for flow in (old, new) if flow is not None for step in flow.steps if step.kind == "approve"}
    asking |= {found.ids.parts.get(id, id) for id in asking}
    return structs.replace(
        found, changes=tuple([structs.replace(one, concern=_concern_of(one, acting, asking)) for one in found.changes])
    )


def _concern_of(change: Change, acting: set[str], asking: set[str]) -> Concern:
    concern = CHANGE_KINDS[change.type].concern
    if change.step in asking and change.topic in ("step", "link") and change.weight == "risk":
        return "approvals and rights"
    if concern != "rest" or change.weight == "note":
        return concern
    whole = change.type in ("flow added", "flow removed", "state")
    return "people or money" if (acting if whole else change.step in acting) else "rest"


def _month_of(change: Change) -> Decimal:
    month: Money | None = change.share.month if change.share is not None else None
    return abs(month.amount) if month is not None else Decimal(0)


def _rank(change: Change) -> tuple[int, int, Decimal]:
    return CONCERNS.index(change.concern), _WEIGHTS.index(change.weight), -_month_of(change)


def _with_cost(change: Change) -> Change:
    """A change that concerns nothing else concerns cost where it moves it."""
    moves = change.share is not None and (_month_of(change) > 0 or change.share.run not in (None, Money()))
    return structs.replace(change, concern="cost") if change.concern == "rest" and moves else change


def in_order_of_consequence(found: EstateChanges) -> EstateChanges:
    """Flows and their changes, what matters most first; the changes to look at first apart."""
    flows = [
        structs.replace(flow, changes=tuple(sorted(map(_with_cost, flow.changes), key=_rank))) for flow in found.flows
    ]
    flows.sort(key=lambda flow: min([_rank(change) for change in flow.changes]))
    return structs.replace(found, flows=tuple(flows), first=first_changes(flows))


def first_changes(flows: Iterable[FlowChanges], most: int = FIRST) -> tuple[FirstChange, ...]:
    """The changes to look at first."""
    all_changes = [
        (_rank(change), FirstChange(flow.name, flow.id, change))
        for flow in flows
        for change in flow.changes
        if change.weight != "note"
    ]
    return tuple(one for _, one in sorted(all_changes, key=lambda pair: pair[0])[:most])
