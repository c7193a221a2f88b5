# What could be declared of one flow: every number of it that an assumption gives, with what it is now.
"""The assumed numbers of a flow."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from zeitbuch.core.assumptions.quantities import DEFAULTS
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.graph.topology import model_of
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.passes.plan import Node, first_ways, nodes_of
from zeitbuch.core.pricing.lineage import Sizes, output_of
from zeitbuch.core.pricing.units import media_of

from .flow_figures import FlowFigures


class Knob(Struct):
    what: str
    quantity: str
    value: Value
    rule: dict[str, str]


ANSWERING = ("text", "vision", "transcription")  # modalities whose answer is text


def find_knobs(run: FlowFigures, month: bool) -> list[Knob]:
    """All values of a flow that an assumption could give, each once; those of its volume only for a ``month``."""
    knobs = [*(_volume_knobs(run) if month else ()), *_passes_knobs(run), *_size_knobs(run)]
    return [knob for knob in knobs if knob.value.evidence != "export" and (knob.value.amount or knob.value.ranged)]


def _volume_knobs(run: FlowFigures) -> Iterator[Knob]:
    for trigger in run.flow.triggers:
        where = {"trigger": literal_pattern(trigger.id)}
        values = {
            quantity: run.lookup.find(quantity, trigger=(trigger.id, trigger.name))
            for quantity in ("runs", "events", "hit_rate", "accept_rate", "items")
        }
        for quantity, value in values.items():
            if value is not None:
                yield Knob(f"{_quantity_words(quantity)} of ‘{trigger.title}’", quantity, value, where)
        if trigger.kind == "polling" and values["runs"] is None and values["hit_rate"] is None:
            default = Value(DEFAULTS["hit_rate"], "default", "default")
            yield Knob(f"hit rate of ‘{trigger.title}’", "hit_rate", default, where)


def _passes_knobs(run: FlowFigures) -> Iterator[Knob]:
    for node in nodes_of(run.passes.plan.top):
        step, where = node.step, {"step": literal_pattern(node.step.id)}
        yield Knob(f"failure of ‘{step.title}’", "failure", node.failure, where)
        yield Knob(f"timeout of ‘{step.title}’", "timeout", node.timeout, where)
        if node.items is not None:
            quantity = "rounds" if node.repeats == "until" else "items"
            yield Knob(f"{quantity} of ‘{step.title}’", quantity, node.items, where)
        if node.turns is not None:
            yield Knob(f"turns of ‘{step.title}’", "turns", node.turns, where)
        yield from _share_knobs(run, node, where)


def _share_knobs(run: FlowFigures, node: Node, where: dict[str, str]) -> Iterator[Knob]:
    """Shares of the cases of a decision; of two exclusive ones the second is what the first leaves."""
    step = node.step
    cases = first_ways(node)
    for way in cases[:-1] if len(cases) == 2 and not step.inclusive else cases:
        assert way.share is not None
        link = run.graph.levels[step.scope].edges[way.edge].link
        case = link.label or link.condition
        label = case or run.graph.names.get(way.target, way.target)
        place = {**where, "case": literal_pattern(case or way.target)}
        yield Knob(f"share of ‘{label}’ at ‘{step.title}’", "share", way.share, place)


def _size_knobs(run: FlowFigures) -> Iterator[Knob]:
    sizes = Sizes(run.graph, run.lookup)
    seen: set[str] = set()
    for step_id in run.uses:
        step = run.graph.steps[step_id]
        use = model_of(run.graph, step)
        if use is None:
            continue
        where = {"step": literal_pattern(step.id)}
        if step.kind in ("model", "agent") and use.modality in ANSWERING:
            yield Knob(f"output of ‘{step.title}’", "output", output_of(step, use, run.lookup), where)
        for row in media_of(use.modality) if use.modality in ("vision", "image") else ():
            yield Knob(f"{row.quantity} of ‘{step.title}’", row.quantity, run.lookup.of_step(row.quantity, step), where)
        for ref in (ref for prompt in use.prompts for ref in prompt.refs):
            key, size = sizes.size_of_ref(ref, step)
            if ref.step and key not in seen and not size.why.startswith("the answer of"):
                seen.add(key)
                side = "trigger" if ref.step in run.graph.triggers else "step"
                name = run.graph.names.get(ref.step, ref.step)
                yield Knob(f"size of ‘{name}’", "size", size, {side: literal_pattern(ref.step)})


def _quantity_words(quantity: str) -> str:
    return {
        "runs": "runs",
        "events": "events",
        "hit_rate": "hit rate",
        "accept_rate": "share let through",
        "items": "items at once",
    }.get(quantity, quantity)
