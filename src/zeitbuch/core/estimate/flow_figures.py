# One flow by itself: passes, what its steps use, what that costs, and what its own triggers say of its volume.
"""The figures of one run of a flow."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct, field, structs

from zeitbuch.core.assumptions.days import Month
from zeitbuch.core.assumptions.lookup import InWorlds
from zeitbuch.core.assumptions.money import ZERO, Money, Shares, evidence_shares
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import EVIDENCE, Evidence, Value, weakest_evidence
from zeitbuch.core.assumptions.volume import Volume, flow_volume
from zeitbuch.core.graph.phrases import connection_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.secret_labels import count_secrets
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.passes.moving import Pass
from zeitbuch.core.pricing.call_content import Amount, Usage, usage_of
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.lineage import counted_pieces
from zeitbuch.core.pricing.meters import Metered, meters_of, per_run, quantities_of
from zeitbuch.core.pricing.spans import Weights, weights_of_triggers

from .day_parts import DayPart, lookup_on
from .records import Part, StepEstimate


def parts_of(step: Step, done: Pass, use: Usage, prices: Prices) -> tuple[list[Part], dict[str, None]]:
    """The components of a step's cost in one run, and the names of what has no price."""
    parts: list[Part] = []
    unknown: dict[str, None] = {}
    runs, evidence = done.runs, done.evidence
    for first in use.amounts:
        quantity = first.quantity * runs
        each = prices.unit_price(use.model, first, use.batched)
        cost = None if each is None and quantity else (each or ZERO) * Decimal(quantity)
        told, why = (
            first.evidence if first.evidence == evidence else weakest_evidence(first.evidence, evidence),
            first.why,
        )
        other = prices.billed_by(use.model, first)
        if other is not None:
            told, why = weakest_evidence(told, other.evidence), f"{why}; {other.why}"
        parts.append(Part(first.unit, float(quantity), cost, told, why))
        if cost is None:
            unknown[use.model or f"the model of '{step.title}'"] = None
    fee = prices.per_call(use.model)
    if fee:
        told = weakest_evidence(evidence, use.told)
        parts.append(Part("call", float(use.calls * runs), fee * Decimal(use.calls * runs), told, "price per call"))
    return parts, unknown


def _connection_of(graph: Graph, step: Step) -> str:
    """The name of the connection that a step goes through: its own, or that of the model attached to it."""
    attached = (helper for helper in graph.used_by(step.id) if helper.kind == "model")
    named = (connection_name(graph.flow, one) for one in (step, *attached))
    return next((name for name in named if name), "")


def step_estimate(graph: Graph, step_id: str, done: Pass, use: Usage | None, prices: Prices) -> StepEstimate:
    """One step's share in one run."""
    step = graph.steps[step_id]
    connection = _connection_of(graph, step)
    if use is None:
        return StepEstimate(
            step.id, graph.numbers.get(step.id, ""), step.title, step.kind, float(done.runs), 0.0, "", connection,
            0.0, 0.0, Money(), Shares(),
        )  # fmt: skip
    parts, unknown = parts_of(step, done, use, prices)
    spent = sum((part.cost for part in parts if part.cost), ZERO)
    return StepEstimate(
        id=step.id,
        number=graph.numbers.get(step.id, ""),
        name=step.title,
        kind=step.kind,
        passes=float(done.runs),
        calls=float(use.calls * done.runs),
        model=use.model,
        connection=connection,
        input_tokens=float(use.total("input", "cached") * done.runs),
        output_tokens=float(use.total("output") * done.runs),
        cost=Money(spent, tuple(unknown)),
        evidence=evidence_shares((part.cost, part.evidence) for part in parts if part.cost is not None),
        parts=tuple(parts),
    )


# One for all flows of which nothing is kept: between processes, too, a batch of flows holds each of these once.
_NO_USES: dict[str, Usage] = {}
_NO_CALLS: dict[str, tuple[float, Evidence]] = {}
_NO_STEPS: list[StepEstimate] = []
_NO_NOTES: list[str] = []
UNNAMED = "(a flow that the export does not name)"  # what a step calls that says only that it calls one


class Sums(Struct):
    """Sums over the steps of one run; cost by evidence. ``spent`` is the cost in every drawn world, where there are any."""

    calls: float = 0.0
    input_tokens: float = 0.0
    output_tokens: float = 0.0
    spent: float = 0.0
    by: dict[Evidence, Decimal] = field(default_factory=dict)


class FlowFigures(Struct):
    """A flow's own figures per run, with what they were made from: AssumptionLookup, Graph and Passes, None where only the figures
    were kept."""

    flow: Flow
    lookup: Any
    graph: Any
    passes: Any
    uses: dict[str, Usage]
    steps: list[StepEstimate]
    cost: Money
    calls_of: dict[str, tuple[float, Evidence]]
    notes: list[str]
    volume: Volume
    entry: dict[str, tuple[Value, float]] | None = None
    metered: Metered | None = None
    sums: Sums = field(default_factory=Sums)
    exact: bool = True
    weights: Weights | None = None  # how its runs lie over the spans of the month; None: by days
    part: DayPart | None = None  # which days of the month these are the figures of; None: of all


def entry_of(by: dict[str, Volume]) -> dict[str, tuple[Value, float]] | None:
    """Which share of the runs each trigger starts, from their volumes; None when one of them is unknown."""
    known = {text: volume for text, volume in by.items() if volume.runs is not None}
    total = sum(volume.runs or 0.0 for volume in known.values())
    if len(known) < len(by) or not total:
        return None
    return {
        text: (Value((volume.runs or 0.0) / total, volume.evidence), volume.items) for text, volume in known.items()
    }


def one_run(
    flow: Flow,
    assumptions: Assumptions,
    prices: Prices,
    month: Month,
    detail: bool = True,
    worlds: InWorlds | None = None,
    part: DayPart | None = None,
    like: FlowFigures | None = None,
    priced: bool = True,
) -> FlowFigures:
    """A flow by itself: passes, tokens and cost of a run, and what its own triggers say of its volume, in a month or in a ``part`` of
    its days; with ``worlds`` its figures carry what they are in each of them. ``like``: figures of the same flow in another month or
    under other assumptions, with the same rate card, of which is taken over what would come out the same. ``priced``: False leaves it at
    passes, and at what each step that calls a model uses in one of them."""
    graph = like.graph if like is not None else Graph(flow)
    lookup = lookup_on(part, assumptions, month, flow, worlds)
    same = like is not None and lookup.says_as(like.lookup)
    lookup.counted = like.lookup.counted if like is not None and same else counted_pieces(graph, lookup)
    volume, entry, weights = Volume(None, 0.0, "default"), None, None
    try:
        volume, mapping = flow_volume(flow, lookup, month, None)
        weights = weights_of_triggers(flow, mapping, prices.calendar, part.days if part is not None else None)
        lead = {text: volume for text, volume in mapping.items() if graph.triggers[text].enabled}
        entry = entry_of(lead)
    except ZeitbuchError:
        pass  # said when the volumes are settled
    if like is not None and same and entry == like.entry:
        run = structs.replace(like, lookup=lookup, notes=[*like.notes], volume=volume, weights=weights, part=part)
    else:
        passes = Passes(graph, lookup, entry)
        run = FlowFigures(
            flow, lookup, graph, passes, {}, [], Money(), {}, [*passes.notes], volume, entry,
            exact=passes.exact, weights=weights, part=part,
        )  # fmt: skip
        run.notes += [f"the cycle at {letter} was cut off at its cap of rounds" for letter in passes.capped]
        _note_uses(run, prices, detail)
    return price_run(run, prices, run.passes.of, detail) if priced else run


def _note_uses(run: FlowFigures, prices: Prices, detail: bool) -> None:
    """What one pass of each step that calls a model uses, in the order of the numbers where steps are shown."""
    counters: dict[str, Counter] = {}  # by the name of the model
    for step in run.graph.in_order() if detail else run.flow.steps:
        if step.kind in MODEL_KINDS and (done := run.passes.of.get(step.id)) is not None and done.runs:
            name = _model_name(run.graph, step.id)
            if name not in counters:
                counters[name] = count_secrets(prices.token_counter(name), run.flow.secrets)
            use = usage_of(run.graph, step, done, run.lookup, counters[name])
            if use is not None:
                run.uses[step.id] = use


def _model_name(graph: Graph, step_id: str) -> str:
    step = graph.steps[step_id]
    if step.model is None:
        return ""
    if step.model.name is None:
        named = (
            step.model.name
            for step in graph.used_by(step_id)
            if step.kind == "model" and step.model is not None and step.model.name
        )
        return next(named, "")
    return step.model.name


def _add_step_detail(
    run: FlowFigures, parts: Sequence[Part], done: Pass, use: Usage | None, unknown: tuple[str, ...]
) -> None:
    """Adds one step to the sums of its flow."""
    sums = run.sums
    if use is not None:
        sums.calls += use.calls * done.runs
        sums.input_tokens += use.total("input", "cached") * done.runs
        sums.output_tokens += use.total("output") * done.runs
    spent = run.cost.amount
    for part in parts:
        if part.cost:
            spent += part.cost
            sums.by[part.evidence] += part.cost
    run.cost = Money(spent, tuple(dict.fromkeys(run.cost.unknown + unknown)) if unknown else run.cost.unknown)


def _add_step(run: FlowFigures, step: Step, done: Pass, use: Usage, prices: Prices) -> None:
    """Adds one step to the sums of its flow, without records of its parts (see ``parts_of``)."""
    sums, mapping, runs, spent = run.sums, run.sums.by, done.runs, run.cost.amount
    given = got = 0.0
    unknown: tuple[str, ...] = ()
    for first in use.amounts:
        quantity, unit = first.quantity * runs, first.unit
        if unit == "output":
            got += quantity
        elif unit == "input" or unit == "cached":
            given += quantity
        each = prices.unit_price(use.model, first, use.batched)
        if each:
            cost = each * Decimal(quantity)
            spent += cost
            told = first.evidence
            if first.instead is not None and (other := prices.billed_by(use.model, first)) is not None:
                told = weakest_evidence(told, other.evidence)
            mapping[told if told == done.evidence else weakest_evidence(told, done.evidence)] += cost
        elif each is None and quantity:
            unknown = (use.model or f"the model of '{step.title}'",)
    calls = use.calls * runs
    fee = prices.per_call(use.model)
    if fee:
        cost = fee * Decimal(calls)
        spent += cost
        mapping[weakest_evidence(done.evidence, use.told)] += cost
    sums.calls += calls
    sums.input_tokens += given
    sums.output_tokens += got
    names = run.cost.unknown
    run.cost = Money(spent, tuple(dict.fromkeys(names + unknown)) if unknown else names)


def price_run(run: FlowFigures, prices: Prices, of: dict[str, Pass], detail: bool = True) -> FlowFigures:
    """The run with the cost of its steps for the given passes (exact ones, or means of a sample), at the prices of the days on which
    it runs."""
    prices = prices.weighted(run.weights)
    run.steps, run.cost, run.calls_of = [], Money(), {}
    run.sums = Sums(by=dict.fromkeys(EVIDENCE, ZERO))
    if detail:
        _price_steps(run, prices, of)
    else:
        for step_id, use in run.uses.items():
            done = of.get(step_id)
            if done is not None:
                _add_step(run, run.graph.steps[step_id], done, use, prices)
    if run.lookup.worlds is not None:
        run.sums.spent = sum([_spent_in_worlds(use, of[step], prices) for step, use in run.uses.items() if step in of])
    _note_calls(run, of)
    if prices.card is not None and prices.card.host:
        run.metered = quantities_of(run.graph, of, run.uses, run.lookup)
    return run


def lightened(run: FlowFigures, prices: Prices, detail: bool = False) -> FlowFigures:
    """Figures without what they were made from, which is worked with no more and would fill the memory."""
    metered = run.metered
    if metered is not None and run.lookup.worlds is not None and prices.card is not None:
        metered = Metered(
            {kind: float(number) for kind, number in metered.steps.items()},
            {model: float(number) for model, number in metered.calls.items()},
            float(metered.seconds),
            float(metered.megabytes),
            metered.rounded,
            {m.name: per_run(m, metered, prices.card) for m in meters_of(prices.card, run.flow, prices.calendar)},
            metered.evidence,
        )
    steps = run.steps if detail else _NO_STEPS
    calls_of, notes = run.calls_of or _NO_CALLS, run.notes or _NO_NOTES
    return structs.replace(
        run, graph=None, passes=None, uses=_NO_USES, lookup=None, entry=None, steps=steps, metered=metered,
        calls_of=calls_of, notes=notes,
    )  # fmt: skip


def _spent_in_worlds(use: Usage, done: Pass, prices: Prices) -> float:
    """What the passes of one step cost in a run, in every world."""
    each = sum([amount.quantity * price_in_worlds(prices, use, amount) for amount in use.amounts])
    return (each + float(prices.per_call(use.model)) * use.calls) * done.runs


def price_in_worlds(prices: Prices, use: Usage, amount: Amount) -> float:
    """The price of one of an amount's unit; which share of the calls is sent deferred may be another in every world, and so may how
    many of another unit it is billed as. 0 without a price: what it costs is unknown then."""
    other = prices.billed_by(use.model, amount)
    if other is not None and type(other.times) is Uncertain:
        one = structs.replace(amount, instead=other._replace(times=float(other.times)))
        return price_in_worlds(prices, use, one) * (other.times / float(other.times))
    if type(use.batched) is not Uncertain:
        return float(prices.unit_price(use.model, amount, use.batched) or 0.0)
    at_once, deferred = (float(prices.unit_price(use.model, amount, share) or 0.0) for share in (0.0, 1.0))
    return at_once + (deferred - at_once) * use.batched


def _price_steps(run: FlowFigures, prices: Prices, of: dict[str, Pass]) -> None:
    for step in run.graph.in_order():
        done = of.get(step.id)
        if step.kind != "note" and done is not None:
            entry = step_estimate(run.graph, step.id, done, run.uses.get(step.id), prices)
            run.steps.append(entry)
            _add_step_detail(run, entry.parts, done, run.uses.get(step.id), entry.cost.unknown)


def _note_calls(run: FlowFigures, of: dict[str, Pass]) -> None:
    for step in run.flow.steps:
        name = step.calls or (UNNAMED if step.kind == "subflow" and step.id not in run.graph.levels else "")
        if name and (done := of.get(step.id)) is not None:
            had = run.calls_of.get(name, (0.0, "export"))
            run.calls_of[name] = (had[0] + done.runs, weakest_evidence(had[1], done.evidence))
