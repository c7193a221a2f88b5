# The estate as checks see it: what one flow cannot say by itself is worked out once, and only when a check asks for it.
"""The flows read together, and what is known around them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TypeVar

from msgspec import Struct

from zeitbuch.core.graph.exchanged_words import ExchangedWord, exchanged_words
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.pricing.rate_card import ModelRate, RateCard

from .near_prompts import near_prompts
from .parts import minute_of, shelf_key, store_of
from .records import Copied, EstateFacts, Limits, Person, UsageFact

Fact = TypeVar("Fact", Copied, UsageFact)


def _by_flow(facts: Iterable[Fact]) -> dict[str, list[Fact]]:
    found: dict[str, list[Fact]] = {}
    for one in facts:
        found.setdefault(one.flow, []).append(one)
    return found


class _Survey(Struct):
    """What one look at all flows tells: where each stands, by id and by name; whether any takes the faults of others, and which are named
    for that; what steps call, by place; whether any has several owners; store -> the models that fill it, and a step that does."""

    places: dict[str, int] = {}
    ids: list[str] = []
    has_handlers: bool = False
    handlers: set[str] = set()
    called: set[str] = set()
    calls: dict[int, list[str]] = {}
    several_owners: bool = False
    embedded_by: dict[str, dict[str, str]] = {}

    def add_flow(self, place: int, flow: Flow) -> None:
        self.ids.append(flow.id)
        for name in filter(None, (flow.id, flow.name)):
            self.places.setdefault(name, place)
        self.has_handlers = self.has_handlers or any([trigger.kind == "fault" for trigger in flow.triggers])
        self.handlers.update(flow.fault_handlers)
        self.several_owners = self.several_owners or len(flow.owners) > 1
        for step in flow.steps:
            if step.calls:
                self.called.add(step.calls)
                if step.enabled:
                    self.calls.setdefault(place, []).append(step.calls)
            store = store_of(step) if step.kind == "embed" and step.enabled else ""
            if store and step.model is not None and step.model.name:
                self.embedded_by.setdefault(shelf_key(flow, step), {}).setdefault(step.model.name, step.title)


class EstateView:
    """The flows read together, with the rate card where there is one, and what is known around them."""

    def __init__(self, flows: Iterable[Flow], card: RateCard | None = None, facts: EstateFacts | None = None) -> None:
        self.flows: Sequence[Flow] = flows if isinstance(flows, Sequence) else list(flows)
        self.card = card
        self.facts = facts or EstateFacts()
        self.limits: Limits = self.facts.limits

    def prepare(self) -> None:
        """Works out what the checks of single flows ask of the estate: once, before its flows are shared out."""
        for name in ("named_handlers", "handler_titles", "called", "people"):
            getattr(self, name)

    @cached_property
    def _survey(self) -> _Survey:
        # Flows of a large estate are made anew whenever they are looked at: all that is asked of all is asked at once.
        found = _Survey()
        for place, flow in enumerate(self.flows):
            found.add_flow(place, flow)
        return found

    @property
    def places(self) -> dict[str, int]:
        """Where flows stand, by id and by name."""
        return self._survey.places

    def flow_named(self, name: str | None) -> Flow | None:
        """The flow with this id or name; None for no name."""
        place = self.places.get(name) if name else None
        return None if place is None else self.flows[place]

    def _ids_of(self, names: Iterable[str]) -> list[str]:
        """The ids of the flows with these ids or names, of those that were read."""
        return [self._survey.ids[self.places[name]] for name in names if name in self.places]

    @property
    def has_handlers(self) -> bool:
        """Whether any flow takes the faults of others."""
        return self._survey.has_handlers

    @cached_property
    def named_handlers(self) -> set[str]:
        """The flows that others name for their faults, by id."""
        return set(self._ids_of(self._survey.handlers))

    @cached_property
    def handler_titles(self) -> list[str]:
        """What the flows are called that others name for their faults."""
        return [flow.title for key in self.named_handlers if (flow := self.flow_named(key)) is not None]

    @cached_property
    def called(self) -> set[str]:
        """The flows that some step calls, by id."""
        return set(self._ids_of(self._survey.called))

    @cached_property
    def _calls(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for place, names in self._survey.calls.items():
            called = self._ids_of(names)
            if called:
                found[self._survey.ids[place]] = list(dict.fromkeys(called))
        return found

    def circle_of(self, flow_id: str) -> list[str]:
        """The shortest circle of calls through a flow and others, from it on; empty for none."""
        ways = [[flow_id]] if flow_id in self._calls else []
        seen = {flow_id}
        for way in ways:
            for called in self._calls.get(way[-1], ()):
                if called == flow_id and len(way) > 1:
                    return way
                if called not in seen:
                    seen.add(called)
                    ways.append([*way, called])
        return []

    @property
    def names_several_owners(self) -> bool:
        """Whether some flow has more than one owner."""
        return self._survey.several_owners

    @cached_property
    def people(self) -> dict[str, Person]:
        """The people by their names and addresses."""
        return {key.casefold(): person for person in self.facts.people for key in (person.name, person.mail) if key}

    def has_left(self, name: str) -> bool:
        """Whether somebody is a person of the house who is no more there."""
        person = self.people.get(name.casefold())
        return person is not None and person.left

    def rate_of(self, step: Step) -> ModelRate | None:
        """What the rate card says of the model of a step; None without a card, a name or a row."""
        name = step.model.name if step.model is not None else None
        return self.card.rate_of(name) if self.card is not None and name else None

    @cached_property
    def copied(self) -> dict[str, list[Copied]]:
        """What copies still say of their originals, by flow."""
        return _by_flow(self.facts.copied)

    @cached_property
    def alike(self) -> dict[str, list[Copied]]:
        """Flows that do what another does, by flow."""
        return _by_flow(self.facts.alike)

    @cached_property
    def usage_facts(self) -> dict[str, list[UsageFact]]:
        """What usage logs say, by flow."""
        return _by_flow(self.facts.usage)

    @cached_property
    def near_prompts(self) -> dict[str, list[tuple[Step, str, str]]]:
        """Steps whose prompt differs from another by a word or two, by flow."""
        return near_prompts(self.flows)

    @property
    def embedded_by(self) -> dict[str, dict[str, str]]:
        """Store -> the models that fill it, and a step that does."""
        return self._survey.embedded_by

    @cached_property
    def same_minute(self) -> dict[str, list[str]]:
        """Minute of a schedule -> the flows with model calls that it starts."""
        found: dict[str, list[str]] = {}
        for flow in self.flows:
            if flow.state in ("off", "draft") or not any(step.kind in AI_KINDS for step in flow.steps):
                continue
            for minute in {minute_of(trigger) for trigger in flow.triggers} - {""}:
                found.setdefault(minute, []).append(flow.title)
        return found

    @cached_property
    def differing_words(self) -> dict[str, list[ExchangedWord]]:
        """Words that one flow writes and another waits for in another spelling, by the flow that waits."""
        found: dict[str, list[ExchangedWord]] = {}
        for one in exchanged_words(self.flows):
            for reader in one.readers if one.near else ():
                found.setdefault(reader, []).append(one)
        return found
