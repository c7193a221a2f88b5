# Which assumption moves the figure most: each is set to the low and the high end of its range, all others stay, and the
# flow is estimated anew. What has no range of its own is moved as far as its evidence leaves it in doubt.
"""Sensitivity of an estimate to its assumptions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.assumptions.quantities import DEFAULTS, QUANTITIES
from zeitbuch.core.assumptions.rules import Assumptions, Rule, overlay_rules
from zeitbuch.core.assumptions.values import Evidence, Value
from zeitbuch.core.assumptions.volume import flow_volume
from zeitbuch.core.graph.topology import model_of
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.plan import Node, first_ways, nodes_of
from zeitbuch.core.pricing.lineage import Sizes, output_of
from zeitbuch.core.pricing.units import media_of

from .estate import EstateFigures
from .flow_figures import FlowFigures, one_run

# How far a value without a range is moved, as factors: a default may well be half or double.
DOUBT: dict[Evidence, tuple[float, float]] = {"default": (0.5, 2.0), "declared": (0.75, 1.25), "measured": (0.9, 1.1)}


class Driver(Struct, frozen=True):
    """One assumption: its value and ends, and the month's (or run's) cost at each end; ``swing`` is high less low."""

    flow: str
    what: str
    quantity: str
    value: float
    low: float
    high: float
    evidence: Evidence
    cost: Decimal
    at_low: Decimal
    at_high: Decimal
    why: str

    @property
    def swing(self) -> Decimal:
        return abs(self.at_high - self.at_low)


class _Knob(Struct):
    what: str
    quantity: str
    value: Value
    rule: dict[str, str]


ANSWERING = ("text", "vision", "transcription")  # modalities whose answer is text


def find_knobs(run: FlowFigures, month: bool) -> list[_Knob]:
    """All values of a flow that an assumption could give, each once; those of its volume only for a ``month``."""
    knobs = [*(_volume_knobs(run) if month else ()), *_passes_knobs(run), *_size_knobs(run)]
    return [knob for knob in knobs if knob.value.evidence != "export" and (knob.value.amount or knob.value.ranged)]


def _volume_knobs(run: FlowFigures) -> Iterator[_Knob]:
    for trigger in run.flow.triggers:
        where = {"trigger": literal_pattern(trigger.id)}
        values = {
            quantity: run.lookup.find(quantity, trigger=(trigger.id, trigger.name))
            for quantity in ("runs", "events", "hit_rate", "accept_rate", "items")
        }
        for quantity, value in values.items():
            if value is not None:
                yield _Knob(f"{_quantity_words(quantity)} of ‘{trigger.title}’", quantity, value, where)
        if trigger.kind == "polling" and values["runs"] is None and values["hit_rate"] is None:
            default = Value(DEFAULTS["hit_rate"], "default", "default")
            yield _Knob(f"hit rate of ‘{trigger.title}’", "hit_rate", default, where)


def _passes_knobs(run: FlowFigures) -> Iterator[_Knob]:
    for node in nodes_of(run.passes.plan.top):
        step, where = node.step, {"step": literal_pattern(node.step.id)}
        yield _Knob(f"failure of ‘{step.title}’", "failure", node.failure, where)
        yield _Knob(f"timeout of ‘{step.title}’", "timeout", node.timeout, where)
        if node.items is not None:
            quantity = "rounds" if node.repeats == "until" else "items"
            yield _Knob(f"{quantity} of ‘{step.title}’", quantity, node.items, where)
        if node.turns is not None:
            yield _Knob(f"turns of ‘{step.title}’", "turns", node.turns, where)
        yield from _share_knobs(run, node, where)


def _share_knobs(run: FlowFigures, node: Node, where: dict[str, str]) -> Iterator[_Knob]:
    """Shares of the cases of a decision; of two exclusive ones the second is what the first leaves."""
    step = node.step
    cases = first_ways(node)
    for way in cases[:-1] if len(cases) == 2 and not step.inclusive else cases:
        assert way.share is not None
        link = run.graph.levels[step.scope].edges[way.edge].link
        case = link.label or link.condition
        label = case or run.graph.names.get(way.target, way.target)
        place = {**where, "case": literal_pattern(case or way.target)}
        yield _Knob(f"share of ‘{label}’ at ‘{step.title}’", "share", way.share, place)


def _size_knobs(run: FlowFigures) -> Iterator[_Knob]:
    sizes = Sizes(run.graph, run.lookup)
    seen: set[str] = set()
    for step_id in run.uses:
        step = run.graph.steps[step_id]
        use = model_of(run.graph, step)
        if use is None:
            continue
        where = {"step": literal_pattern(step.id)}
        if step.kind in ("model", "agent") and use.modality in ANSWERING:
            yield _Knob(f"output of ‘{step.title}’", "output", output_of(step, use, run.lookup), where)
        for row in media_of(use.modality) if use.modality in ("vision", "image") else ():
            yield _Knob(
                f"{row.quantity} of ‘{step.title}’", row.quantity, run.lookup.of_step(row.quantity, step), where
            )
        for ref in (ref for prompt in use.prompts for ref in prompt.refs):
            key, size = sizes.size_of_ref(ref, step)
            if ref.step and key not in seen and not size.why.startswith("the answer of"):
                seen.add(key)
                side = "trigger" if ref.step in run.graph.triggers else "step"
                name = run.graph.names.get(ref.step, ref.step)
                yield _Knob(f"size of ‘{name}’", "size", size, {side: literal_pattern(ref.step)})


def _quantity_words(quantity: str) -> str:
    return {
        "runs": "runs",
        "events": "events",
        "hit_rate": "hit rate",
        "accept_rate": "share let through",
        "items": "items at once",
    }.get(quantity, quantity)


def ends_of(quantity: str, value: Value) -> tuple[float, float]:
    """How far a value is moved: to the ends of its range, or as far as its evidence leaves it in doubt."""
    if value.ranged and value.evidence != "default":
        return value.low, value.high
    down, up = DOUBT[value.evidence]
    low, high, _ = QUANTITIES[quantity]
    first, second = max(low, value.amount * down), value.amount * up
    return first, min(high, second)


def rank_drivers(
    runs: EstateFigures,
    assumptions: Assumptions,
    per: str = "month",
    keys: list[str] | None = None,
    progress: Callable[[int], None] | None = None,
) -> list[Driver]:
    """All drivers of the flows (all, or those named by key), largest swing first. Flows of unknown volume are left out of
    monthly figures."""
    found: list[Driver] = []
    chosen = keys if keys is not None else list(runs.by)
    for place, key in enumerate(chosen):
        run = runs.by[key]
        volume = runs.volumes[key]
        if per == "month" and volume.runs is None:
            continue
        times = Decimal(volume.runs or 0.0) if per == "month" else Decimal(1)
        base = run.cost.amount * times
        for knob in find_knobs(run, per == "month"):
            low, high = ends_of(knob.quantity, knob.value)
            at_low, at_high = (_cost_at(run, runs, assumptions, knob, x, per, volume.runs) for x in (low, high))
            if at_low != at_high:
                found.append(
                    Driver(
                        run.flow.title,
                        knob.what,
                        knob.quantity,
                        knob.value.amount,
                        low,
                        high,
                        knob.value.evidence,
                        base,
                        at_low,
                        at_high,
                        knob.value.why,
                    )
                )
        if progress is not None:
            progress(place)
    return sorted(found, key=lambda d: (-d.swing, d.flow, d.what))


def _cost_at(
    run: FlowFigures,
    runs: EstateFigures,
    assumptions: Assumptions,
    knob: _Knob,
    value: float,
    per: str,
    known: float | None,
) -> Decimal:
    """Cost of the flow with one assumption set."""
    flow: Flow = run.flow
    rule = Rule(flow=literal_pattern(flow.id), **knob.rule, **{knob.quantity: value})  # type: ignore[arg-type]
    assumed = overlay_rules(assumptions, (rule,))
    other = one_run(flow, assumed, runs.prices, runs.month)
    if per != "month":
        return other.cost.amount
    if knob.quantity in ("runs", "events", "hit_rate", "accept_rate") or knob.rule.get("trigger"):
        moved, own = flow_volume(flow, other.lookup, runs.month, None)[0].runs, run.volume.runs
        if moved is not None and own is not None and known is not None:
            known += moved - own  # what other flows call stays
    return other.cost.amount * Decimal(known or 0.0)


class DriversResult(Struct, frozen=True):
    """`estimate --drivers --format json`."""

    per: str
    currency: str
    drivers: tuple[Driver, ...]
