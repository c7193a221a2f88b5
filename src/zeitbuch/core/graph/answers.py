"""Which models' answers a value or a decision goes by."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.model.records import Ref, Step

from .topology import Graph

# Kinds that make a value of another: what a model said stays what it said.
_HANDING_ON = frozenset({"shape", "code", "join"})
_ANSWERING = frozenset({"model", "agent"})


def refs_of_decision(graph: Graph, step: Step) -> list[Ref]:
    """What a step with cases goes by: its condition and those of its cases; none of a step that does not decide."""
    if step.id not in graph.deciding:
        return []
    return [*step.refs, *[ref for link in graph.leaving.get(step.id, ()) for ref in link.refs]]


def models_deciding(graph: Graph, step: Step) -> list[Step]:
    """The models by whose answers a step takes one of its cases, in order. A model with cases of its own goes by its own answer where
    nothing else is said; what a person decides no model does."""
    if step.id not in graph.deciding or step.kind == "approve":
        return []
    refs = refs_of_decision(graph, step)
    if not any(ref.step for ref in refs):
        return [step] if step.kind in _ANSWERING else []
    return answering_models(graph, refs)


def answering_models(graph: Graph, refs: Iterable[Ref]) -> list[Step]:
    """The models of whose answers these values are made, also where other steps only hand them on; in order."""
    found: set[str] = set()
    work = [ref for ref in refs if ref.step]
    seen = {(ref.step, ref.path) for ref in work}
    while work:
        ref = work.pop()
        step = graph.steps.get(ref.step or "")
        if step is None or not step.enabled:
            continue
        if step.kind in _ANSWERING:
            found.add(step.id)
        elif step.kind in _HANDING_ON:
            fresh = [one for one in _sources_of(step, ref) if one.step and (one.step, one.path) not in seen]
            seen.update((one.step, one.path) for one in fresh)
            work += fresh
    return [step for step in graph.in_order() if step.id in found]


def _sources_of(step: Step, ref: Ref) -> list[Ref]:
    """What a value is made of that a step hands on: of the input that it is named after, else of all."""
    named = [one for one in step.inputs if one.name and one.name == ref.path.split(".")[0].split("[")[0]]
    return [one for given in named or step.inputs for one in given.refs] + ([] if named else list(step.refs))
