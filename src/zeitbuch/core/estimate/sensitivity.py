# Which assumption moves the figure most: each is set to the low and the high end of its range, all others stay, and the
# flow is estimated anew. What has no range of its own is moved as far as its evidence leaves it in doubt.
"""Sensitivity of an estimate to its assumptions."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.assumptions.quantities import QUANTITIES
from zeitbuch.core.assumptions.rules import Assumptions, Evidence, Rule, Value, overlay_rules
from zeitbuch.core.assumptions.volume import flow_volume
from zeitbuch.core.graph.topology import model_of
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.plan import nodes_of
from zeitbuch.core.pricing.lineage import Sizes, output_of
from zeitbuch.core.pricing.units import media_of

from .estate import Runs
from .flow_figures import Run, one_run

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


def find_knobs(run: Run, month: bool) -> list[_Knob]:
    """All values of a flow that an assumption could give, each once."""
    found: list[_Knob] = []
    graph = run.graph

    def add(what: str, quantity: str, value: Value, **where: str) -> None:
        if value.evidence != "read" and (value.amount or value.ranged):
            found.append(_Knob(what, quantity, value, where))

    if month:
        for trigger in run.flow.triggers:
            where = {"trigger": literal_pattern(trigger.id)}
            for quantity in ("runs", "events", "hit_rate", "accept_rate", "items"):
                value = run.book.find(quantity, trigger=(trigger.id, trigger.name))
                if value is not None:
                    add(f"{_quantity_words(quantity)} of ‘{trigger.title}’", quantity, value, **where)
            if trigger.kind == "polling" and not any(
                run.book.find(quantity, trigger=(trigger.id, trigger.name)) for quantity in ("runs", "hit_rate")
            ):
                add(f"hit rate of ‘{trigger.title}’", "hit_rate", Value(0.25, "default", "default"), **where)
    for node in nodes_of(run.passes.plan.top):
        step, where = node.step, {"step": literal_pattern(node.step.id)}
        add(f"failure of ‘{step.title}’", "failure", node.failure, **where)
        add(f"timeout of ‘{step.title}’", "timeout", node.timeout, **where)
        if node.items is not None:
            quantity = "rounds" if node.repeats == "until" else "items"
            add(f"{quantity} of ‘{step.title}’", quantity, node.items, **where)
        if node.turns is not None:
            add(f"turns of ‘{step.title}’", "turns", node.turns, **where)
        for way in node.ways[:-1] if len(node.ways) == 2 and not step.inclusive else node.ways:
            if way.share is not None:
                link = run.graph.levels[step.scope].edges[way.edge].link
                label = link.label or link.condition or graph.names.get(way.target, way.target)
                add(
                    f"share of ‘{label}’ at ‘{step.title}’",
                    "share",
                    way.share,
                    **where,
                    case=literal_pattern(link.label or link.condition or way.target),
                )
    sizes = Sizes(graph, run.book)
    seen: set[str] = set()
    for step_id in run.uses:
        step = graph.steps[step_id]
        use = model_of(graph, step)
        if use is None:
            continue
        where = {"step": literal_pattern(step.id)}
        if step.kind in ("model", "agent") and use.modality in ("text", "vision", "transcription"):
            add(f"output of ‘{step.title}’", "output", output_of(step, use, run.book), **where)
        for row in media_of(use.modality) if use.modality in ("vision", "image") else ():
            amount = run.book.of_step(row.quantity, step)
            if amount.amount:
                add(f"{row.quantity} of ‘{step.title}’", row.quantity, amount, **where)
        for prompt in use.prompts:
            for ref in prompt.refs:
                key, size = sizes.size_of_ref(ref, step)
                source = ref.step or ""
                if key in seen or not source or size.why.startswith("the answer of"):
                    continue
                seen.add(key)
                mapping = (
                    {"trigger": literal_pattern(source)}
                    if source in graph.triggers
                    else {"step": literal_pattern(source)}
                )
                add(f"size of ‘{graph.names.get(source, source)}’", "size", size, **mapping)
    return found


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
    runs: Runs,
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
    run: Run, runs: Runs, assumptions: Assumptions, knob: _Knob, value: float, per: str, known: float | None
) -> Decimal:
    """Cost of the flow with one assumption set."""
    flow: Flow = run.flow
    rule = Rule(flow=literal_pattern(flow.id), **knob.rule, **{knob.quantity: value})  # type: ignore[arg-type]
    assumed = overlay_rules(assumptions, (rule,))
    other = one_run(flow, assumed, runs.prices, runs.month)
    if per != "month":
        return other.cost.amount
    if knob.quantity in ("runs", "events", "hit_rate", "accept_rate") or knob.rule.get("trigger"):
        moved, own = flow_volume(flow, other.book, runs.month, None)[0].runs, run.volume.runs
        if moved is not None and own is not None and known is not None:
            known += moved - own  # what other flows call stays
    return other.cost.amount * Decimal(known or 0.0)


class DriversResult(Struct, frozen=True):
    """`estimate --drivers --format json`."""

    per: str
    currency: str
    drivers: tuple[Driver, ...]
