# What checks look at: a flow with its graph and ways, worked out once and only when asked for.
"""Flows as checks see them."""

from __future__ import annotations

import re
from functools import cached_property, reduce
from operator import and_

from zeitbuch.core.graph.answers import models_deciding
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Binding, Flow, Link, ModelUse, Ref, Step, Trigger
from zeitbuch.core.passes.reachability import Reachability, Read

from .estate_view import EstateView
from .parts import fixed_inputs, prompts_of, refs_of_part, texts_of

TESTING = frozenset(
    {
        "test",
        "tests",
        "testing",
        "dev",
        "development",
        "staging",
        "sandbox",
        "local",
        "qa",
        "uat",
        "preprod",
        "trial",
        "lab",
    }
)
_PLAIN_WORD = re.compile(r"[^\W_]+")
STANDARDS = frozenset({"bpmn", "arazzo", "serverless", "agent-spec"})
ACTS = frozenset({"send", "spend", "delete"})  # what reaches people or money, or cannot be taken back
WRITES = ACTS | {"write"}
ATTENDED = frozenset({"manual", "chat", "form"})  # somebody is there when a run begins
_NATIVE_REF = re.compile(r"\{\s*([^{}.\s]+)(?:\.([^{}\s]+))?\s*\}")


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

    @cached_property
    def steps(self) -> list[Step]:
        """The steps that are switched on, in blocks that are, and the tools of agents that are."""
        off = {step.id for step in self.flow.steps if not step.enabled}
        return [step for step in self.flow.steps if not off or not self._is_off(step, off)]

    def _is_off(self, step: Step, off: set[str]) -> bool:
        hosts = self.graph.hosts_of(step.id)
        return (
            step.id in off
            or not off.isdisjoint(key for key in self.graph.scope_path(step.id) if key is not None)
            or (bool(hosts) and off.issuperset(hosts))
        )

    @cached_property
    def _by_kind(self) -> dict[str, list[Step]]:
        found: dict[str, list[Step]] = {}
        for step in self.steps:
            found.setdefault(step.kind, []).append(step)
        return found

    def of_kind(self, kind: str) -> list[Step]:
        """The steps of a kind that are switched on."""
        return self._by_kind.get(kind, [])

    def with_effect(self, effects: frozenset[str]) -> list[Step]:
        """The steps with one of several effects that are switched on."""
        return [step for step in self.steps if step.effect in effects] if self.effects & effects else []

    @cached_property
    def with_model(self) -> list[tuple[Step, ModelUse]]:
        """The steps that say how they use a model, with that."""
        return [(step, step.model) for step in self.steps if step.model is not None]

    def target_of(self, link: Link) -> Step | None:
        """The step that a link leads to, where it is switched on."""
        step = self.graph.steps.get(link.target)
        return step if step is not None and step.enabled else None

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
        """Whether the flow says, by its environment or folder, that it is none of production."""
        return bool(TESTING & set(_PLAIN_WORD.findall(f"{self.flow.environment} {self.flow.folder}".casefold())))

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
        called = self.estate.flow_named(step.calls)
        asks = called is not None and any(one.kind == "approve" and one.enabled for one in called.steps)
        return asks or self.approvals_before.get(step.id, False)

    @cached_property
    def texts(self) -> list[tuple[Step | Trigger, str, str]]:
        """The texts that are used in a run: where, what each is, and the text."""
        return [(part, what, text) for part in self.parts for what, text in texts_of(part)]

    @cached_property
    def fixed(self) -> list[tuple[Step, Binding, str]]:
        """Inputs of steps that are a fixed text."""
        return [(step, one, text) for step in self.steps for one, text in fixed_inputs(step)]

    @cached_property
    def empty(self) -> list[tuple[Step, Binding]]:
        """Fixed inputs that hold nothing."""
        return [(step, one) for step, one, text in self.fixed if not text.strip()]

    @cached_property
    def all_text(self) -> str:
        """All these texts in one: most flows have nothing that a check looks for, and one look says so."""
        return "\n".join([text for _, _, text in self.texts])

    @cached_property
    def lower_text(self) -> str:
        """``all_text`` in lower case."""
        return self.all_text.lower()

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
        bits, into = self.bits, self._arriving_ways
        found = {key: bits[key] if not into[key] else -1 for key in bits}
        moved = True
        while moved:
            moved = False
            for key, sources in into.items():
                mask = reduce(and_, [found[source] for source in sources], -1) | bits[key]
                if sources and found[key] != mask:
                    found[key], moved = mask, True
        return found

    @cached_property
    def _arriving_ways(self) -> dict[str, list[str]]:
        """Step -> what leads to it; to a step that nothing leads to the scope that holds it."""
        bits = self.bits
        into: dict[str, list[str]] = {key: [] for key in bits}
        for link in self.flow.links:
            if link.source in bits and link.target in bits and link.role in ("next", "case"):
                into[link.target].append(link.source)
        for step in self.flow.steps:
            if step.scope in bits and not into[step.id]:
                into[step.id].append(str(step.scope))
        return into

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
        found = [(part, ref) for part in parts for ref in refs_of_part(part)]
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

    def users_of_variable(self, name: str) -> list[Step | Trigger]:
        """What takes a variable."""
        return [part for part, ref in self.used_refs if ref.variable == name]

    def cases_of(self, decision: Step) -> list[Link]:
        """The cases of a decision."""
        return [link for link in self.graph.leaving.get(decision.id, ()) if link.role == "case"]

    def asked_model(self, decision: Step) -> Step | None:
        """The model whose answer a decision goes by; None where it is not one alone."""
        refs = [*decision.refs, *[ref for link in self.cases_of(decision) for ref in self.refs_of_link(link)]]
        sources = {ref.step for ref in refs}
        model = self.graph.steps.get(next(iter(sources)) or "") if len(sources) == 1 else None
        return model if model is not None and model.kind == "model" and prompts_of(model) else None

    def deciding_models(self, decision: Step) -> list[Step]:
        """The models by whose answers a step takes one of its cases, also where steps between reshape what they said."""
        found = models_deciding(self.graph, decision)
        asked = self.asked_model(decision) if not found and decision.kind == "decide" else None
        return found or ([asked] if asked is not None and asked.enabled else [])

    def may_lead(self, source: str, target: str) -> bool:
        """Whether some way may lead from one step to another; what is not so is sure."""
        return bool(self.maybe_before.get(target, 0) & self.bits.get(source, 0))
