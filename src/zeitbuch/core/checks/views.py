# What checks look at: a flow with its graph and ways, worked out once and only when asked for, and the estate around it.
"""Flows and estates as checks see them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Any

from zeitbuch.core.graph.exchanged_words import ExchangedWord, exchanged_words
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Binding, Flow, Link, Prompt, Ref, Step, Trigger
from zeitbuch.core.passes.reachability import Reachability, Read
from zeitbuch.core.pricing.rate_card import RateCard

from .near_prompts import near_prompts
from .records import Copied, EstateFacts, Limits, Person

TESTING = frozenset({"test", "testing", "dev", "development", "staging", "sandbox", "local"})
STANDARDS = frozenset({"bpmn", "arazzo", "serverless", "agent-spec"})
ACTS = frozenset({"send", "spend", "delete"})  # what reaches people or money, or cannot be taken back
WRITES = ACTS | {"write"}
ATTENDED = frozenset({"manual", "chat", "form"})  # somebody is there when a run begins
_NATIVE_REF = re.compile(r"\{\s*([^{}.\s]+)(?:\.([^{}\s]+))?\s*\}")


class EstateView:
    """The flows read together, with the rate card where there is one, and what is known around them."""

    def __init__(self, flows: Iterable[Flow], card: RateCard | None = None, facts: EstateFacts | None = None) -> None:
        self.flows = list(flows)
        self.card = card
        self.facts = facts or EstateFacts()
        self.limits: Limits = self.facts.limits
        self.by_name: dict[str, Flow] = {}
        for flow in self.flows:
            self.by_name.setdefault(flow.id, flow)
            self.by_name.setdefault(flow.name, flow)

    @cached_property
    def has_handlers(self) -> bool:
        """Whether any flow takes the faults of others."""
        return any(trigger.kind == "fault" for flow in self.flows for trigger in flow.triggers)

    @cached_property
    def named_handlers(self) -> set[str]:
        """The flows that others name for their faults, by id."""
        names = {name for flow in self.flows for name in flow.fault_handlers}
        return {self.by_name[name].id for name in names if name in self.by_name}

    @cached_property
    def called(self) -> set[str]:
        """The flows that some step calls, by id."""
        names = {step.calls for flow in self.flows for step in flow.steps if step.calls}
        return {self.by_name[name].id for name in names if name in self.by_name}

    @cached_property
    def names_several_owners(self) -> bool:
        """Whether some flow has more than one owner."""
        return any(len(flow.owners) > 1 for flow in self.flows)

    @cached_property
    def people(self) -> dict[str, Person]:
        """The people by their names and addresses."""
        return {key.casefold(): person for person in self.facts.people for key in (person.name, person.mail) if key}

    @cached_property
    def copied(self) -> dict[str, list[Copied]]:
        """What copies still say of their originals, by flow."""
        found: dict[str, list[Copied]] = {}
        for one in self.facts.copied:
            found.setdefault(one.flow, []).append(one)
        return found

    @cached_property
    def near_prompts(self) -> dict[str, list[tuple[Step, str, str]]]:
        """Steps whose prompt differs from another by a word or two, by flow."""
        return near_prompts(self.flows)

    @cached_property
    def embedded_by(self) -> dict[str, dict[str, str]]:
        """Store -> the models that fill it, and a step that does."""
        found: dict[str, dict[str, str]] = {}
        for flow in self.flows:
            for step in flow.steps:
                store = step.pieces.store if step.pieces is not None else None
                if step.kind == "embed" and step.enabled and store and step.model is not None and step.model.name:
                    found.setdefault(store.casefold(), {}).setdefault(step.model.name, step.title)
        return found

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

    @cached_property
    def kinds(self) -> frozenset[str]:
        """The kinds of the steps that are switched on: most checks look at one kind."""
        return frozenset(step.kind for step in self.steps)

    @cached_property
    def effects(self) -> frozenset[str]:
        """The effects of the steps that are switched on."""
        return frozenset(step.effect for step in self.steps)

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
    def surely_before(self) -> dict[str, int]:
        """Bits of what every way to a step passes, joins taken as one way of several: what is among them always runs before it, and for
        what is not ``ways`` has the answer."""
        bits = self.bits
        into: dict[str, list[str]] = {key: [] for key in bits}
        for link in self.flow.links:
            if link.source in bits and link.target in bits and link.role in ("next", "case"):
                into[link.target].append(link.source)
        for step in self.flow.steps:
            if step.scope is not None and not into[step.id] and step.scope in bits:
                into[step.id].append(step.scope)
        found = {key: bits[key] if not into[key] else -1 for key in bits}
        moved = True
        while moved:
            moved = False
            for key, sources in into.items():
                mask = -1
                for source in sources:
                    mask &= found[source]
                if sources and found[key] != mask | bits[key]:
                    found[key], moved = mask | bits[key], True
        return found

    @cached_property
    def unsure_reads(self) -> list[Read]:
        """Values that steps take, where some may be of steps that do not always run before; empty for most flows."""
        steps, sure, bits = self.graph.steps, self.surely_before, self.bits
        for part, ref in self.used_refs:
            if ref.step in steps and part.id in steps and not sure.get(part.id, 0) & bits[ref.step]:
                return self.ways.reads
        return []

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
            (by_id[link.source], ref)
            for link in self.flow.links
            if link.source in by_id and (link.refs or link.condition)
            for ref in self.refs_of_link(link)
        ]

    def refs_of_link(self, link: Link) -> tuple[Ref, ...]:
        """What the condition of a link refers to: as the export says, or as its text says in the native form."""
        if link.refs or "{" not in link.condition:
            return link.refs
        found = _NATIVE_REF.findall(link.condition)
        return tuple(Ref(step=name, path=path) for name, path in found if name in self.bits)

    @cached_property
    def users(self) -> dict[str, list[tuple[Step | Trigger, Ref]]]:
        """Step or trigger -> what takes its values."""
        found: dict[str, list[tuple[Step | Trigger, Ref]]] = {}
        for part, ref in self.used_refs:
            if ref.step is not None and part.id != ref.step:
                found.setdefault(ref.step, []).append((part, ref))
        return found

    def cases_of(self, decision: Step) -> list[Link]:
        """The cases of a decision."""
        return [link for link in self.graph.leaving.get(decision.id, ()) if link.role == "case"]

    def asked_model(self, decision: Step) -> Step | None:
        """The model whose answer a decision goes by; None where it is not one alone."""
        refs = [*decision.refs, *[ref for link in self.cases_of(decision) for ref in self.refs_of_link(link)]]
        sources = {ref.step for ref in refs}
        model = self.graph.steps.get(next(iter(sources)) or "") if len(sources) == 1 else None
        return model if model is not None and model.kind == "model" and prompts_of(model) else None

    def may_lead(self, source: str, target: str) -> bool:
        """Whether some way may lead from one step to another; what is not so is sure."""
        return bool(self.maybe_before.get(target, 0) & self.bits.get(source, 0))


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


def prompts_of(step: Step) -> tuple[Prompt, ...]:
    """The prompts of a step."""
    return step.model.prompts if step.model is not None else ()


def prompt_text_of(step: Step) -> str:
    """All prompts of a step in one text."""
    return "\n".join([prompt.text for prompt in prompts_of(step)])


def minute_of(trigger: Trigger) -> str:
    """The minute at which a trigger fires by cron, where it names hour and minute; empty otherwise."""
    schedule = trigger.schedule
    if trigger.kind != "schedule" or not trigger.enabled or schedule is None or not schedule.cron:
        return ""
    fields = schedule.cron.split()[-5:]
    return (
        f"{fields[1]}:{fields[0]} {schedule.zone or ''}"
        if len(fields) == 5 and fields[0].isdigit() and fields[1].isdigit()
        else ""
    )


def fixed_inputs(part: Step | Trigger) -> Iterator[tuple[Binding, str]]:
    """Inputs that are a fixed text."""
    for one in part.inputs:
        if one.decided == "fixed" and isinstance(one.value, str):
            yield one, one.value
