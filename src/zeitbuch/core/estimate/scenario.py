# What would it cost if: changes laid over flows, assumptions and rates. The exports stay as they are; a scenario gives
# another estate, rate card and assumptions, which are estimated like the first.
"""Scenarios: changes and how they are applied."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import structs

from zeitbuch.core.assumptions.idle_rules import idle_problems
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule, overlay_rules
from zeitbuch.core.model.bounds import OF_STEPS, OF_TRIGGERS
from zeitbuch.core.model.name_patterns import literal_pattern, pattern_fits
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Flow, Link, ModelUse, Origin, Retry, Step
from zeitbuch.core.pricing.rate_card import Belongs, RateCard

from .rarer_checks import slow_polling
from .scenario_records import (
    Admit,
    AnyChange,
    Applied,
    Assume,
    Batch,
    Cache,
    Change,
    Defer,
    Drop,
    Move,
    PlainCall,
    Poll,
    Scenario,
    SetParameter,
    SwapModel,
)

Fault = tuple[str, str]  # key of the change, message
_FLOW_BOUNDS = {row.field: row.most for row in (*OF_STEPS, *OF_TRIGGERS)}
_MOST = {
    "every": _FLOW_BOUNDS["every"], "size": _FLOW_BOUNDS["batch"], "max_output": _FLOW_BOUNDS["max_output"],
    "max_turns": _FLOW_BOUNDS["max_turns"], "retries": _FLOW_BOUNDS["attempts"],
}  # fmt: skip


def scenario_problems(scenario: Scenario, card: RateCard | None) -> list[Problem]:
    """Changes that say nothing, or name what is not there."""
    found: list[Problem] = []
    if not scenario.change:
        found.append(Problem("scenario", "error", "expected at least one [[change]], found none", Origin("", "/name")))
    for place, change in enumerate(scenario.change):
        for key, message in (*_share_faults(change), *_change_faults(change, card)):
            found.append(Problem("scenario", "error", message, Origin("", f"/change/{place}/{key}")))
    return found


def _share_faults(change: Change) -> Iterator[Fault]:
    for key in ("share", "hit_rate"):
        value = getattr(change, key, None)
        if value is not None and not 0 <= value <= 1:
            yield key, f"expected a share from 0 to 1, found {value:g}"
    for key, most in _MOST.items():
        value = getattr(change, key, None)
        if value is not None and value > most:
            yield key, f"expected {key} up to {most:,g}, found {value:g}"


def _change_faults(change: Change, card: RateCard | None) -> Iterator[Fault]:
    match change:
        case SwapModel(to=to) if not to:
            yield "to", "expected the name of a model in `to`, found none"
        case SwapModel(to=to) if card is not None and card.rate_of(to) is None:
            yield "to", f"expected a model of the rate card in `to`, found '{to}'"
        case SetParameter():
            yield from _setting_faults(change)
        case Poll(every=every) if not 0 < every < float("inf"):
            yield "every", f"expected seconds over 0, found {every:g}"
        case Batch(size=size) if size < 1:
            yield "size", f"expected a size of 1 or more, found {size}"
        case Move(to=to):
            names = [host.name for host in card.host] if card is not None else []
            if to not in names:
                yield "to", f"expected a host of the rate card ({', '.join(names) or 'it has none'}), found '{to}'"
        case Drop(step="" | None):
            yield "step", "expected the step to drop, found none"
        case Assume(rule=rule) if not rule.given_quantities():
            yield "rule", "expected a quantity in `rule`, found none"


def _setting_faults(change: SetParameter) -> Iterator[Fault]:
    settings = (
        ("max_output", change.max_output, 1),
        ("max_turns", change.max_turns, 1),
        ("retries", change.retries, 0),
    )
    if all(number is None for _, number, _ in settings):
        yield "do", "expected max_output, max_turns or retries, found none"
    for key, number, least in settings:
        if number is not None and number < least:
            yield key, f"expected {key} from {least} upwards, found {number}"


def apply_scenario(
    scenario: Scenario, estate: Estate, card: RateCard | None, assumptions: Assumptions
) -> tuple[Applied, list[Problem]]:
    """The estate, card and assumptions of a scenario, and changes that fit nothing."""
    made = Applied(estate, card, assumptions, set())
    missed: list[Problem] = []
    for place, change in enumerate(scenario.change):
        before = made.estate.flows
        if not _apply_change(change, made):
            missed.append(_missed_change(change, place, before))
        elif isinstance(change, Assume) and (idle := idle_problems(before, Assumptions(assume=(_rule_of(change),)))):
            message = f"change {place + 1}: {idle[0].message}"
            missed.append(Problem("scenario-nothing", "warning", message, Origin("", f"/change/{place}"), idle[0].hint))
    return made, missed


def _rule_of(change: Assume) -> Rule:
    return structs.replace(change.rule, flow=change.flow if change.rule.flow == "*" else change.rule.flow)


def _missed_change(change: AnyChange, place: int, flows: Sequence[Flow]) -> Problem:
    """What is told of a change that fits nothing: the name in it that is none, with the nearest there is, where it is that."""
    names = Rule(flow=change.flow, step=getattr(change, "step", ""), trigger=getattr(change, "trigger", ""))
    idle = idle_problems(flows, Assumptions(assume=(_rule_of(change) if isinstance(change, Assume) else names,)))
    message = f"expected something that change {place + 1} fits, found nothing in the flows read"
    hint = _change_hint(change)
    if idle:
        message, hint = f"change {place + 1}: {idle[0].message}", idle[0].hint
    return Problem("scenario-nothing", "warning", message, Origin("", f"/change/{place}"), hint)


def _change_hint(change: AnyChange) -> str:
    if isinstance(change, Admit):
        return (
            "declared `runs` are past the condition of a trigger: declare its `events` and what is `admitted` instead"
        )
    return "`zeitbuch inventory` and `zeitbuch explain FLOW` list what there is"


def _apply_change(change: AnyChange, made: Applied) -> bool:
    """Applies one change; returns whether it fits anything."""
    if isinstance(change, Assume):
        rule = _rule_of(change)
        touched = {flow.id for flow in made.estate.flows if pattern_fits(rule.flow, flow.id, flow.name)}
        made.assumptions = overlay_rules(made.assumptions, (rule,))
        made.touched |= touched
        return bool(touched)
    flows, fits, rules = _change_flows(change, made)
    if isinstance(change, Move) and made.card is not None and fits:
        made.card = _move_to_host(made.card, change)
    made.estate = Estate(tuple(flows))
    if rules:
        made.assumptions = overlay_rules(made.assumptions, tuple(rules))
    return fits


def _change_flows(
    change: SwapModel | SetParameter | Admit | Poll | Batch | Cache | Defer | Move | PlainCall | Drop, made: Applied
) -> tuple[list[Flow], bool, list[Rule]]:
    flows: list[Flow] = []
    fits = False
    rules: list[Rule] = []
    for flow in made.estate.flows:
        new = flow
        if pattern_fits(change.flow, flow.id, flow.name):
            new, more, fitted = _apply_to_flow(change, flow, made.assumptions)
            rules += more
            if fitted:
                fits = True
                made.touched.add(flow.id)
        flows.append(new)
    return flows, fits, rules


def _move_to_host(card: RateCard, change: Move) -> RateCard:
    """The card with the flows on another host: in place of what held before, from the date on or always."""
    hosts = []
    for host in card.host:
        parts = host.flows
        if host.name == change.to:
            # As many entries as there are dates, so that none of another host begins later.
            dates = [day for day in card.change_dates() if change.since is None or day > change.since]
            more = [structs.replace(Belongs(flow=change.flow), since=day) for day in (change.since, *dates)]
            parts = (*parts, *more)
        hosts.append(structs.replace(host, flows=parts))
    # Among entries of one date the later host wins.
    return structs.replace(card, host=tuple(sorted(hosts, key=lambda h: h.name == change.to)))


def _apply_to_flow(change: AnyChange, flow: Flow, assumptions: Assumptions) -> tuple[Flow, list[Rule], bool]:
    """One flow with one change, the rules that come with it, and whether it fits."""
    match change:
        case SwapModel(step=step, instead_of=old, to=to):
            return _change_steps(flow, step, lambda s: _swap_model(s, old, to))
        case SetParameter():
            return _change_steps(flow, change.step, lambda s: _apply_setting(s, change))
        case Cache(step=step, share=share):
            return _rule_for_flow(flow, step, Rule(cached=share), lambda s: s.model is not None)
        case Defer(step=step, share=share):
            return _rule_for_flow(flow, step, Rule(batched=share), lambda s: s.model is not None)
        case Admit(trigger=trigger, share=share):
            return _admit_share(flow, assumptions, trigger, share)
        case Batch(trigger=trigger, size=size):
            return _set_batch(flow, trigger, size)
        case Poll():
            return slow_polling(flow, change, assumptions)
        case PlainCall(step=step):
            return _as_plain_calls(flow, step)
        case Drop(step=step):
            return _drop_steps(flow, step)
        case Move():
            return flow, [], True
        case Assume():
            return flow, [], False


def _admit_share(flow: Flow, assumptions: Assumptions, trigger: str, share: float) -> tuple[Flow, list[Rule], bool]:
    lookup = AssumptionLookup(assumptions, flow)
    # Declared runs have passed the condition already: a change of it would change nothing.
    chosen = [
        t
        for t in flow.triggers
        if pattern_fits(trigger, t.id, t.name) and lookup.find("runs", trigger=(t.id, t.name)) is None
    ]
    return (
        flow,
        [
            Rule(flow=literal_pattern(flow.id), trigger=literal_pattern(trigger.id), accept_rate=share)
            for trigger in chosen
        ],
        bool(chosen),
    )


def _set_batch(flow: Flow, trigger: str, size: int) -> tuple[Flow, list[Rule], bool]:
    triggers = tuple(
        structs.replace(t, batch=size) if pattern_fits(trigger, t.id, t.name) else t for t in flow.triggers
    )
    return structs.replace(flow, triggers=triggers), [], triggers != flow.triggers


def _change_steps(flow: Flow, pattern: str, change: Callable[[Step], Step]) -> tuple[Flow, list[Rule], bool]:
    steps = tuple(change(step) if pattern_fits(pattern, step.id, step.name) else step for step in flow.steps)
    fits = any(first is not second for first, second in zip(steps, flow.steps, strict=True))
    return structs.replace(flow, steps=steps), [], fits


def _swap_model(step: Step, old: str, to: str) -> Step:
    if step.model is None or step.model.name is None or not pattern_fits(old, step.model.name):
        return step
    return structs.replace(step, model=structs.replace(step.model, name=to))


def _apply_setting(step: Step, change: SetParameter) -> Step:
    new = step
    if step.model is not None and (change.max_output is not None or change.max_turns is not None):
        model: ModelUse = step.model
        if change.max_output is not None:
            model = structs.replace(model, max_output=change.max_output)
        if change.max_turns is not None and step.kind == "agent":
            model = structs.replace(model, max_turns=change.max_turns)
        new = structs.replace(new, model=model) if model != step.model else new
    if change.retries is not None:
        new = structs.replace(new, retry=Retry(change.retries) if change.retries else None)
    return new


def _rule_for_flow(flow: Flow, pattern: str, rule: Rule, fits: Callable[[Step], bool]) -> tuple[Flow, list[Rule], bool]:
    steps = [step for step in flow.steps if pattern_fits(pattern, step.id, step.name) and fits(step)]
    return (
        flow,
        [structs.replace(rule, flow=literal_pattern(flow.id), step=literal_pattern(step.id)) for step in steps],
        bool(steps),
    )


def _as_plain_calls(flow: Flow, pattern: str) -> tuple[Flow, list[Rule], bool]:
    """Agents as plain calls: their attachments go, the model they were given stays."""
    agents = {step.id for step in flow.steps if step.kind == "agent" and pattern_fits(pattern, step.id, step.name)}
    if not agents:
        return flow, [], False
    helpers, steps = _agents_replaced(flow, agents)
    links = tuple(link for link in flow.links if link.source not in helpers)
    return structs.replace(flow, steps=tuple(steps), links=links), [], True


def _agents_replaced(flow: Flow, agents: set[str]) -> tuple[dict[str, str], list[Step]]:
    helpers = {link.source: link.target for link in flow.links if link.role == "attach" and link.target in agents}
    given = {
        helpers[step.id]: step.model.name
        for step in flow.steps
        if step.id in helpers and step.kind == "model" and step.model is not None
    }
    steps: list[Step] = []
    for step in flow.steps:
        if step.id in agents and step.model is not None:
            model = structs.replace(step.model, name=step.model.name or given.get(step.id), max_turns=None)
            steps.append(structs.replace(step, kind="model", model=model))
        elif step.id not in helpers:
            steps.append(step)
    return helpers, steps


def _drop_steps(flow: Flow, pattern: str) -> tuple[Flow, list[Rule], bool]:
    """A step goes with everything that no other way leads to; what it contains goes with it."""
    gone = {step.id for step in flow.steps if pattern_fits(pattern, step.id, step.name)}
    if not gone:
        return flow, [], False
    before = _reached_steps(flow, set())
    left = _reached_steps(flow, gone)
    scopes = {step.id: step.scope for step in flow.steps}

    def inside(step_id: str | None) -> bool:
        while step_id is not None:
            if step_id in gone:
                return True
            step_id = scopes.get(step_id)
        return False

    out = {step.id for step in flow.steps if inside(step.id) or (step.id in before and step.id not in left)}
    steps = tuple(step for step in flow.steps if step.id not in out)
    links: list[Link] = [link for link in flow.links if link.source not in out and link.target not in out]
    return structs.replace(flow, steps=steps, links=tuple(links)), [], True


def _reached_steps(flow: Flow, without: set[str]) -> set[str]:
    """Steps that links lead to from triggers, first steps and scopes, when some steps are not there."""
    out, waiting = _ways_onward(flow)
    seen: set[str] = set()
    while waiting:
        place = waiting.pop()
        if place in seen or place in without:
            continue
        seen.add(place)
        waiting += out.get(place, [])
    return seen


def _ways_onward(flow: Flow) -> tuple[dict[str, list[str]], list[str]]:
    led = {link.target for link in flow.links}
    out: dict[str, list[str]] = {}
    for link in flow.links:
        if link.role == "attach":
            out.setdefault(link.target, []).append(link.source)
        else:
            out.setdefault(link.source, []).append(link.target)
    for step in flow.steps:
        if step.scope is not None and step.id not in led:
            out.setdefault(step.scope, []).append(step.id)
    waiting = [trigger.id for trigger in flow.triggers] + [
        step.id for step in flow.steps if step.scope is None and step.id not in led
    ]
    return out, waiting
