# What checks look at: a flow with its graph and ways, worked out once and only when asked for, and the estate around it.
"""Flows and estates as checks see them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Any

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Binding, Flow, Ref, Step, Trigger
from zeitbuch.core.passes.reachability import Reachability, Read
from zeitbuch.core.pricing.rate_card import RateCard

TESTING = frozenset({"test", "testing", "dev", "development", "staging", "sandbox", "local"})
STANDARDS = frozenset({"bpmn", "arazzo", "serverless", "agent-spec"})
ACTS = frozenset({"send", "spend", "delete"})  # what reaches people or money, or cannot be taken back
WRITES = ACTS | {"write"}
ATTENDED = frozenset({"manual", "chat", "form"})  # somebody is there when a run begins


class EstateView:
    """The flows read together, with the rate card where there is one."""

    def __init__(self, flows: Iterable[Flow], card: RateCard | None = None) -> None:
        self.flows = list(flows)
        self.card = card
        self.by_name: dict[str, Flow] = {}
        for flow in self.flows:
            self.by_name.setdefault(flow.id, flow)
            self.by_name.setdefault(flow.name, flow)

    @cached_property
    def has_handlers(self) -> bool:
        """Whether any flow takes the faults of others."""
        return any(trigger.kind == "fault" for flow in self.flows for trigger in flow.triggers)


class FlowView:
    """One flow, and the estate it belongs to."""

    def __init__(self, flow: Flow, estate: EstateView) -> None:
        self.flow = flow
        self.estate = estate

    @cached_property
    def graph(self) -> Graph:
        """The steps as a graph."""
        return Graph(self.flow)

    @cached_property
    def ways(self) -> Reachability:
        """What runs before what."""
        return Reachability(self.graph)

    @property
    def steps(self) -> Iterator[Step]:
        """The steps that are switched on."""
        return (step for step in self.flow.steps if step.enabled)

    @property
    def parts(self) -> list[Step | Trigger]:
        """The triggers, and the steps that are switched on."""
        return [*self.flow.triggers, *self.steps]

    @property
    def all_parts(self) -> list[Step | Trigger]:
        """Triggers and steps, on or off."""
        return [*self.flow.triggers, *self.flow.steps]

    @property
    def is_testing(self) -> bool:
        """Whether the flow says that it is none of production."""
        return self.flow.environment.casefold() in TESTING

    @property
    def is_of_standard(self) -> bool:
        """Whether the flow is written in an open standard, which has no words for owners and declares more than a flow uses."""
        return self.flow.format in STANDARDS

    @property
    def is_unattended(self) -> bool:
        """Whether runs begin without a person: some trigger is on, and none waits for one."""
        kinds = {trigger.kind for trigger in self.flow.triggers if trigger.enabled}
        return bool(kinds) and not kinds & ATTENDED and kinds != {"call"}

    @cached_property
    def approvals_before(self) -> dict[str, bool]:
        """Step -> whether a person always approves before it; of a tool, before its agent."""
        asking = {step.id for step in self.flow.steps if step.kind == "approve" and step.enabled}
        if not asking:
            return {}
        return {step.id: bool(asking & set(self.ways.always_before(step.id))) for step in self.flow.steps}

    def is_approved(self, step: Step) -> bool:
        """Whether a person approves before a step, always, or within the flow that it calls."""
        called = self.estate.by_name.get(step.calls) if step.calls else None
        asks = called is not None and any(one.kind == "approve" and one.enabled for one in called.steps)
        return asks or self.approvals_before.get(step.id, False)

    @cached_property
    def texts(self) -> list[tuple[Step | Trigger, str, str]]:
        """The texts that are used in a run: where, what each is, and the text."""
        return [(part, what, text) for part in self.parts for what, text in texts_of(part)]

    @cached_property
    def all_text(self) -> str:
        """All these texts in one: most flows have nothing that a check looks for, and one look says so."""
        return "\n".join([text for _, _, text in self.texts])

    @cached_property
    def bits(self) -> dict[str, int]:
        """A bit for each trigger and step."""
        return {part.id: 1 << place for place, part in enumerate(self.all_parts)}

    @cached_property
    def maybe_before(self) -> dict[str, int]:
        """Bits of all that any way leads from to a step, back links and scopes included: what is not among them never runs before it. A
        wide answer that is had at once; ``ways`` has the exact one."""
        bits = self.bits
        edges = [(link.source, link.target) for link in self.flow.links]
        edges += [(link.target, link.source) for link in self.flow.links if link.role == "attach"]
        for step in self.flow.steps:
            if step.scope is not None:
                edges += [(step.scope, step.id), (step.id, step.scope)]
        edges = [(source, target) for source, target in edges if source in bits and target in bits]
        found = dict.fromkeys(bits, 0)
        moved = True
        while moved:
            moved = False
            for source, target in edges:
                mask = found[target] | found[source] | bits[source]
                if mask != found[target]:
                    found[target], moved = mask, True
        return found

    @cached_property
    def maybe_unreached(self) -> bool:
        """Whether some step may be one that no trigger leads to."""
        begun = sum(self.bits[trigger.id] for trigger in self.flow.triggers)
        return any(not self.maybe_before[step.id] & begun for step in self.steps if step.kind != "note")

    @cached_property
    def doubtful_reads(self) -> list[Read]:
        """Values taken from steps that are not there, or that no way leads from; empty for nearly all flows."""
        for part, ref in self.used_refs:
            if ref.step is not None and not self.bits.get(ref.step, 0) & self.maybe_before.get(part.id, 0):
                return self.ways.reads
        return []

    @cached_property
    def used_refs(self) -> list[tuple[Step | Trigger, Ref]]:
        """Every reference of a step or trigger that is switched on."""
        parts: list[Step | Trigger] = [*self.steps, *[trigger for trigger in self.flow.triggers if trigger.enabled]]
        found = [(part, ref) for part in parts for ref in _refs_of(part)]
        by_id = {step.id: step for step in self.flow.steps}
        return found + [
            (by_id[link.source], ref) for link in self.flow.links if link.source in by_id for ref in link.refs
        ]


def _refs_of(part: Step | Trigger) -> Iterator[Ref]:
    for one in part.inputs:
        yield from one.refs
    if isinstance(part, Trigger):
        return
    yield from part.refs
    for record in (part.repeat, part.approval, part.pause):
        if record is not None:
            yield from record.refs
    for prompt in part.model.prompts if part.model is not None else ():
        yield from prompt.refs


def texts_of(part: Step | Trigger) -> Iterator[tuple[str, str]]:
    """The texts of a step or trigger that are used in a run, with what each is; notes and names are not."""
    for one in part.inputs:
        yield from ((f"input {one.name}", text) for text in _texts_in(one.value))
    if isinstance(part, Step) and part.model is not None:
        yield from ((f"{prompt.role} prompt", prompt.text) for prompt in part.model.prompts)
    if part.condition:
        yield "condition", part.condition


def _texts_in(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for item in value.values():
            yield from _texts_in(item)
    elif isinstance(value, list | tuple):
        for item in value:
            yield from _texts_in(item)


def fixed_inputs(part: Step | Trigger) -> Iterator[tuple[Binding, str]]:
    """Inputs that are a fixed text."""
    for one in part.inputs:
        if one.decided == "fixed" and isinstance(one.value, str):
            yield one, one.value
