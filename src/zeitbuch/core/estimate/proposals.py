# Changes that save money and that the flows themselves suggest. Each names its saving and what must be looked at before;
# none is certain to keep the quality, and that is said.
"""Built-in proposals."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal

from msgspec import Struct, structs

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.topology import Level, model_of
from zeitbuch.core.model.kinds import NOT_TOOLS
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Estate, Ref, Step
from zeitbuch.core.model.words import every_words, span_words
from zeitbuch.core.passes.plan import first_ways, nodes_of
from zeitbuch.core.pricing.call_prices import Counter
from zeitbuch.core.pricing.rate_card import RateCard

from .estate import EstateFigures, gather_runs, result_of, runs_of
from .flow_figures import FlowFigures, one_run
from .records import Total
from .scenario import apply_scenario
from .scenario_records import Cache, PlainCall, Poll, Scenario, SwapModel

CACHED_SHARE = 0.9
FIXED_TOKENS = 200.0
RARE = 0.1
SPANS = tuple(60.0 * number for number in (1, 2, 5, 10, 15, 20, 30, 60, 120, 180, 240, 360, 720, 1440))


class Proposal(Struct, frozen=True):
    """One change: what, where, the saving per month, what must be checked before, and the scenario to try it with (None
    where the flow itself has to be rebuilt)."""

    title: str
    flow: str
    step: str
    saving: Decimal
    of: Decimal
    check: str
    scenario: Scenario | None = None


class _Idea(Struct):
    title: str
    run: FlowFigures
    step: Step | None
    check: str
    scenario: Scenario | None = None
    saving: Decimal | None = None


def find_proposals(
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
    month: str = "",
    counters: dict[str, Counter] | None = None,
    progress: Callable[[int], None] | None = None,
) -> list[Proposal]:
    """All proposals that save something, the largest saving first. Flows of unknown volume have none."""
    base = runs_of(estate, card, assumptions, month, counters)
    found: list[Proposal] = []
    result = result_of(base)
    months = {
        flow_estimate.id: bill.amount if (bill := flow_estimate.bill_month) is not None else Decimal(0)
        for flow_estimate in result.flows
    }
    for place, keys in enumerate(base.whole_flows().values()):
        ideas: dict[tuple[str, str], _Idea] = {}
        for key in keys:
            for look in LOOKS if base.volumes[key].runs else ():
                for idea in look(base.by[key], base):
                    _add_idea(idea, ideas)
        for idea in ideas.values():
            _propose_idea(idea, result, keys, base, found, months)
        if progress is not None:
            progress(place)
    return sorted(found, key=lambda p: (-p.saving, p.flow, p.step, p.title))


def _add_idea(idea: _Idea, ideas: dict[tuple[str, str], _Idea]) -> None:
    """Adds what is proposed for some days: for others it is the same idea, and what is saved on them adds up."""
    had = ideas.setdefault((idea.title, idea.step.id if idea.step is not None else ""), idea)
    if had is not idea and had.saving is not None and idea.saving is not None:
        had.saving += idea.saving


def _propose_idea(
    idea: _Idea,
    result: EstateEstimate,
    keys: Sequence[str],
    base: EstateFigures,
    found: list[Proposal],
    months: dict[str, Decimal],
) -> None:
    run = idea.run
    saving = idea.saving if idea.saving is not None else _sum_of(result.total) - _sum_of(_try_idea(idea, keys, base))
    if saving > Decimal("0.000001"):
        step = idea.step.title if idea.step is not None else ""
        found.append(
            Proposal(
                idea.title,
                run.flow.title,
                step,
                saving,
                months.get(run.flow.id, Decimal(0)),
                idea.check,
                idea.scenario,
            )
        )


def _try_idea(idea: _Idea, keys: Sequence[str], base: EstateFigures) -> Total:
    """The estate's month with the idea's scenario, which touches one flow: only that is estimated anew."""
    assert idea.scenario is not None
    applied, _ = apply_scenario(idea.scenario, Estate((idea.run.flow,)), base.prices.card, base.assumptions)
    anew = {
        key: one_run(applied.estate.flows[0], applied.assumptions, base.prices, base.month, part=base.by[key].part)
        for key in keys
    }
    return result_of(gather_runs({**base.by, **anew}, base.prices, base.month, applied.assumptions)).total


def _sum_of(total: Total) -> Decimal:
    return total.cost_month.amount + total.meters_month.amount + total.fees_month.amount


def _model_steps(run: FlowFigures) -> Iterator[Step]:
    for step_id in run.uses:
        yield run.graph.steps[step_id]


def bare_agents(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """Agents that have nothing to choose from."""
    for step in _model_steps(run):
        if step.kind != "agent":
            continue
        helpers = run.graph.used_by(step.id)
        if any(item.enabled and (item.kind not in NOT_TOOLS or item.kind == "memory") for item in helpers):
            continue
        made = Scenario(
            f"plain call instead of {step.title}",
            change=(PlainCall(literal_pattern(run.flow.id), literal_pattern(step.id)),),
        )
        yield _Idea(
            "agent without tools or memory as a plain call",
            run,
            step,
            "that no tool is attached in a way the export does not show",
            made,
        )


def eager_polling(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """Polling far more often than there is something to find."""
    from zeitbuch.core.assumptions.volume import days_of, schedule_runs

    for trigger in run.flow.triggers:
        if trigger.kind != "polling" or trigger.schedule is None or not trigger.enabled:
            continue
        hits = run.lookup.find("hit_rate", trigger=(trigger.id, trigger.name))
        if hits is None or not 0 < hits.amount < RARE:
            continue
        checks = schedule_runs(trigger.schedule, runs.month)
        span = days_of(runs.month) * 86400 / checks if checks else 0.0
        # As rarely as leaves about half of the checks empty, at most a day.
        slower = max((share for share in SPANS if share <= span * 0.5 / hits.amount), default=0.0)
        if slower < span * 2:
            continue
        made = Scenario(
            f"look less often in {run.flow.title}",
            change=(Poll(literal_pattern(run.flow.id), literal_pattern(trigger.id), slower),),
        )
        words = f"poll {every_words(slower)} instead of {every_words(round(span))}"
        yield _Idea(
            words,
            run,
            None,
            f"that finds may wait up to {span_words(slower)}; where one run takes several at once, it has more to read than assumed",
            made,
        )


def calls_before_filters(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """A paid call whose result the next decision does not need, on the way to cases that do not use it."""
    volume = next(volume.runs for key, volume in runs.volumes.items() if runs.by[key] is run) or 0.0
    by_id = {step_estimate.id: step_estimate for step_estimate in run.steps}
    for level in run.graph.levels.values():
        for edge in level.edges:
            step, decision = run.graph.steps.get(edge.source), run.graph.steps.get(edge.target)
            if step is None or decision is None or step.id not in run.uses or not _stands_before(level, step, decision):
                continue
            unused = _unused_share(run, step, decision)
            if unused > 0 and not _needs_result(level, step, decision):
                words = f"ask ‘{decision.title}’ before the paid call"
                yield _Idea(
                    words,
                    run,
                    step,
                    "that the decision needs nothing the call finds out; the flow has to be rebuilt",
                    None,
                    by_id[step.id].cost.amount * Decimal(volume) * Decimal(unused),
                )


def _stands_before(level: Level, step: Step, decision: Step) -> bool:
    """Whether a step leads to nothing but a decision that nothing else leads to, and that takes one case."""
    if decision.kind != "decide" or decision.inclusive:
        return False
    return len(level.edges_from(step.id)) == 1 and len(level.edges_into(decision.id)) == 1


def _needs_result(level: Level, step: Step, decision: Step) -> bool:
    """Whether a decision asks for what a step hands on, or does not say what it asks for."""
    cases = level.edges_from(decision.id)
    asked = [
        *decision.refs,
        *(ref for case in cases for ref in case.link.refs),
        *(ref for binding in decision.inputs for ref in binding.refs),
    ]
    if any(ref.step == step.id for ref in asked):
        return True
    return not (asked or decision.condition or any(case.link.condition for case in cases))


def _refs_of(step: Step) -> Iterator[Ref]:
    """Everything that a step takes from others: in its own texts, its inputs and its prompts."""
    yield from step.refs
    for binding in step.inputs:
        yield from binding.refs
    for prompt in step.model.prompts if step.model is not None else ():
        yield from prompt.refs


def _unused_share(run: FlowFigures, step: Step, decision: Step) -> float:
    """Share of the passes of a decision on which nothing later refers to a step."""
    readers = {item.id for item in run.graph.steps.values() if any(ref.step == step.id for ref in _refs_of(item))}
    out = _links_onward(run)
    node = next(node for node in nodes_of(run.passes.plan.top) if node.step.id == decision.id)
    unused, taken = 0.0, 0.0
    for case in first_ways(node):
        assert case.share is not None
        taken += case.share.amount
        seen: set[str] = set()
        waiting = [way.target for way in node.ways if way.share is not None and way.case == case.case]
        while waiting:
            place = waiting.pop()
            if place not in seen:
                seen.add(place)
                waiting += out.get(place, set())
        if not seen & readers:
            unused += case.share.amount
    return unused + max(0.0, 1 - taken)


def _links_onward(run: FlowFigures) -> dict[str, set[str]]:
    out: dict[str, set[str]] = {}
    for link in run.flow.links:
        out.setdefault(link.source, set()).add(link.target)
    for s in run.flow.steps:
        if s.scope is not None:
            out.setdefault(s.scope, set()).add(s.id)
    return out


def same_prompts(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """One prompt put to several models."""
    volume = next(volume.runs for key, volume in runs.volumes.items() if runs.by[key] is run) or 0.0
    groups = _steps_by_prompt(run)
    costs = {step_estimate.id: step_estimate.cost.amount for step_estimate in run.steps}
    for steps in groups.values():
        names = {run.uses[step.id].model for step in steps}
        if len(steps) > 1 and len(names) > 1:
            cheapest = min(steps, key=lambda s: costs[s.id])
            saving = sum((costs[step.id] for step in steps if step is not cheapest), Decimal(0)) * Decimal(volume)
            words = f"one model instead of {len(steps)} for the same prompt"
            yield _Idea(
                words,
                run,
                cheapest,
                "that the answers are not compared with each other on purpose; the flow has to be rebuilt",
                None,
                saving,
            )


def _steps_by_prompt(run: FlowFigures) -> dict[str, list[Step]]:
    groups: dict[str, list[Step]] = {}
    for step in _model_steps(run):
        use = model_of(run.graph, step)
        text = "\n".join(prompt.text.strip() for prompt in use.prompts) if use is not None else ""
        if len(text) > 20:
            groups.setdefault(text, []).append(step)
    return groups


def cacheable_texts(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """Long fixed instruction text whose vendor sells cached input for less."""
    for step in _model_steps(run):
        use = run.uses[step.id]
        price = runs.prices.model_prices(use.model)
        fixed = sum(
            first.times * first.size.amount
            for first in use.amounts
            if first.unit == "input" and first.why.startswith("instruction text")
        )
        plain, cached = price.of["input"], price.of["cached"]
        if fixed < FIXED_TOKENS or plain is None or cached is None or cached >= plain or "cached" in run.lookup.by:
            continue
        made = Scenario(
            f"cache the instructions of {step.title}",
            change=(Cache(literal_pattern(run.flow.id), literal_pattern(step.id), CACHED_SHARE),),
        )
        words = f"cache {fixed:.0f} tokens of fixed instruction text"
        yield _Idea(
            words,
            run,
            step,
            "that the vendor caches texts this short, and that calls follow each other fast enough",
            made,
        )


def dear_labels(run: FlowFigures, runs: EstateFigures) -> Iterator[_Idea]:
    """Dear models for small tasks."""
    card = runs.prices.card
    if card is None:
        return
    for step in _model_steps(run):
        use = model_of(run.graph, step)
        if use is None or use.task not in ("label", "extract") or use.modality != "text" or step.kind != "model":
            continue
        best = _cheaper_model(run, runs, step, card)
        if best is None:
            continue
        made = Scenario(
            f"{best[1]} for {step.title}",
            change=(SwapModel(literal_pattern(run.flow.id), literal_pattern(step.id), to=best[1]),),
        )
        words = f"{best[1]} instead of {run.uses[step.id].model} for the task ‘{use.task}’"
        yield _Idea(words, run, step, "the answers of both models on some hundred real cases", made)


def _cheaper_model(run: FlowFigures, runs: EstateFigures, step: Step, card: RateCard) -> tuple[Decimal, str] | None:
    now = runs.prices.model_prices(run.uses[step.id].model)
    best: tuple[Decimal, str] | None = None
    for model in card.model:
        price = runs.prices.model_prices(model.name)
        first, second = price.of["input"], price.of["output"]
        if first is None or second is None or price.of["image"] is not None or price.of["characters"] is not None:
            continue
        if (
            now.of["input"] is None
            or now.of["output"] is None
            or first * 2 > now.of["input"]
            or second * 2 > now.of["output"]
        ):
            continue
        if best is None or first < best[0]:
            best = (first, model.name)
    return best


LOOKS = (bare_agents, eager_polling, calls_before_filters, same_prompts, cacheable_texts, dear_labels)


def all_together(found: list[Proposal]) -> Scenario | None:
    """All proposals that have a scenario, as one."""
    changes = tuple(child for proposal in found if proposal.scenario is not None for child in proposal.scenario.change)
    return structs.replace(Scenario("all proposals together"), change=changes) if changes else None


class ProposalsResult(Struct, frozen=True):
    """`compare --propose --format json`."""

    month: str
    currency: str
    proposals: tuple[Proposal, ...]
