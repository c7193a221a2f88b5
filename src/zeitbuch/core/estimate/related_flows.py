# What is asked of a few flows need not be worked out for all: the figures of a flow hang on those that it calls and that call it, and where
# hosts bill by meters on all that run there.
"""Flows on which the figures of others hang."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date

from zeitbuch.core.graph.components import components
from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.rate_card import RateCard


def groups_of_calls(flows: Sequence[Flow]) -> list[list[int]]:
    """The places of flows, together where they call each other, near or far."""
    places: dict[str, int] = {}
    called: list[tuple[int, str]] = []
    for place, flow in enumerate(flows):
        places.setdefault(flow.id, place)
        places.setdefault(flow.name, place)
        called += [(place, step.calls) for step in flow.steps if step.calls]
    pairs = [(place, places[name]) for place, name in called if name in places]
    return [list(group) for group in components(range(len(flows)), pairs + [(other, place) for place, other in pairs])]


def related_flows(flows: Sequence[Flow], wanted: Collection[str], card: RateCard | None) -> Sequence[Flow]:
    """The flows, in their order, that the figures of those with the ``wanted`` ids hang on: themselves, what they call and what calls them,
    near or far, and all that a host of the rate card may run, since it bills them together. All without any wanted."""
    if not wanted:
        return flows
    hosted = {place for place, flow in enumerate(flows) if _may_be_hosted(card, flow)}
    found: set[int] = set()
    for group in groups_of_calls(flows):
        if not hosted.isdisjoint(group) or any(flows[place].id in wanted for place in group):
            found.update(group)
    return flows if len(found) == len(flows) else [flows[place] for place in sorted(found)]


def _may_be_hosted(card: RateCard | None, flow: Flow) -> bool:
    """Whether a host of a rate card runs a flow, on whatever day."""
    if card is None:
        return False
    return any(part.takes_flow(flow, part.since or date.min) for host in card.host for part in host.flows)
