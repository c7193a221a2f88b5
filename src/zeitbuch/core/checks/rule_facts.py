# What rules of the house may ask of flows, steps, inputs and prompts: a new fact is one row.
"""Facts of rules."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Any, NamedTuple, get_args

from zeitbuch.core.graph.pattern_class import pattern_of
from zeitbuch.core.model.conditions import Fact
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.outcomes import takes_outcome
from zeitbuch.core.model.records import Binding, Connection, Prompt, Step, Trigger
from zeitbuch.core.pricing.token_count import count_tokens

from .parts import prompt_text_of, store_of
from .records import Over
from .views import FlowView

OVER: tuple[Over, ...] = get_args(Over)


class Subject(NamedTuple):
    """What a rule looks at: a flow, and the part of it that the rule is over."""

    view: FlowView
    part: Step | Trigger | None = None
    one: Binding | Prompt | None = None


class FactRow(NamedTuple):
    """One fact: what it is, and where it comes from."""

    about: str
    read: Callable[..., Any]
    arguments: int = 0


def _connection(view: FlowView, part: Step | Trigger) -> Connection | None:
    return next((one for one in view.flow.connections if one.id == part.connection), None)


def _age(view: FlowView) -> int | None:
    try:
        return (date.fromisoformat(view.estate.facts.today) - date.fromisoformat(view.flow.changed[:10])).days
    except ValueError:
        return None


FLOW_FACTS: dict[str, FactRow] = {
    "id": FactRow("the flow's id", lambda v: v.flow.id),
    "name": FactRow("its name", lambda v: v.flow.name),
    "description": FactRow("its description", lambda v: v.flow.description),
    "state": FactRow("on, off, draft or unknown", lambda v: v.flow.state),
    "owner": FactRow("any of its owners", lambda v: v.flow.owners),
    "owners": FactRow("how many owners it has", lambda v: len(v.flow.owners)),
    "folder": FactRow("its folder", lambda v: v.flow.folder),
    "environment": FactRow("its environment", lambda v: v.flow.environment),
    "format": FactRow("the dialect or standard that it is written in", lambda v: v.flow.format),
    "pattern": FactRow("its class: plain, assisted, agent, dispatcher or ensemble", lambda v: pattern_of(v.flow)),
    "trigger": FactRow("the kind of any of its triggers", lambda v: [one.kind for one in v.flow.triggers if one.enabled]),
    "steps": FactRow("how many steps are on", lambda v: len(v.steps)),
    "ai_steps": FactRow("how many of them call models", lambda v: sum(one.kind in AI_KINDS for one in v.steps)),
    "model": FactRow("any model that it names", lambda v: [one.model.name for one in v.steps if one.model is not None and one.model.name]),
    "kind": FactRow("the kind of any step", lambda v: sorted(v.kinds)),
    "effect": FactRow("the effect of any step", lambda v: sorted(v.effects)),
    "service": FactRow("the service of any connection", lambda v: [one.service for one in v.flow.connections]),
    "account": FactRow("the account of any connection", lambda v: [one.account for one in v.flow.connections]),
    "calls": FactRow("any flow that it calls", lambda v: [one.calls for one in v.steps if one.calls]),
    "handler": FactRow("any flow that takes its failures", lambda v: v.flow.fault_handlers),
    "age": FactRow("days since its last change", _age),
    "secrets": FactRow("how many secrets stand in clear", lambda v: len(v.flow.secrets)),
    "unattended": FactRow("whether runs begin without a person", lambda v: v.is_unattended),
}  # fmt: skip


def _of_model(name: str) -> Callable[[FlowView, Step], Any]:
    return lambda _, s: getattr(s.model, name) if s.model is not None else None


def _decided(_: FlowView, part: Step | Trigger, what: str) -> list[str]:
    return [one.decided for one in part.inputs if what.casefold() in (one.role, one.name.casefold())]


def _value(_: FlowView, part: Step | Trigger, what: str) -> list[Any]:
    return [one.value for one in part.inputs if what.casefold() in (one.role, one.name.casefold())]


def _behind(view: FlowView, step: Step, kind: str) -> bool:
    before = [view.graph.steps.get(key) for key in view.ways.always_before(step.id)]
    return any(one is not None and one.enabled and kind in (one.kind, one.name, one.id) for one in before)


def _ahead_of(view: FlowView, step: Step, kind: str) -> bool:
    after = [view.graph.steps.get(key) for key in view.ways.steps_after(step.id)]
    return any(one is not None and one.enabled and kind in (one.kind, one.name, one.id) for one in after)


def _within(view: FlowView, step: Step, kind: str) -> bool:
    scopes = [view.graph.steps.get(key or "") for key in view.graph.scope_path(step.id)]
    return any(one is not None and kind in (one.kind, one.name, one.id) for one in scopes)


def _tool_of(view: FlowView, step: Step) -> list[str]:
    return [view.graph.names[agent] for agent in view.graph.hosts_of(step.id)]


PART_FACTS: dict[str, FactRow] = {
    "id": FactRow("the step's id", lambda _, s: s.id),
    "name": FactRow("its name", lambda _, s: s.name),
    "kind": FactRow("its kind: model, agent, send, decide ...", lambda _, s: s.kind),
    "operation": FactRow("the builder's own word for what it does", lambda _, s: s.operation),
    "connection": FactRow("the name of its connection", lambda v, s: one.name or one.id if (one := _connection(v, s)) is not None else s.connection),
    "service": FactRow("the service of its connection", lambda v, s: one.service if (one := _connection(v, s)) is not None else None),
    "account": FactRow("the account of its connection", lambda v, s: one.account if (one := _connection(v, s)) is not None else None),
    "condition": FactRow("its condition", lambda _, s: s.condition),
    "note": FactRow("a person's comment", lambda _, s: s.note),
    "decided": FactRow("who decides an input, by its role or name: fixed, data or model", _decided, 1),
    "value": FactRow("the fixed value of an input, by its role or name", _value, 1),
    "has": FactRow("whether it has an input of that role or name", lambda v, s, what: bool(_decided(v, s, what)), 1),
}  # fmt: skip
STEP_FACTS: dict[str, FactRow] = {
    **PART_FACTS,
    "effect": FactRow("what it may do outside: read, write, send, delete, spend or none", lambda _, s: s.effect),
    "model": FactRow("the model that it names", _of_model("name")),
    "modality": FactRow("text, vision, speech ...", _of_model("modality")),
    "task": FactRow("the task of its model", _of_model("task")),
    "temperature": FactRow("the temperature of its model", _of_model("temperature")),
    "max_output": FactRow("the most tokens of an answer", _of_model("max_output")),
    "max_turns": FactRow("the most turns of an agent", _of_model("max_turns")),
    "prompt": FactRow("all its prompts", lambda _, s: prompt_text_of(s)),
    "timeout": FactRow("its time limit in seconds", lambda _, s: s.timeout),
    "tries": FactRow("how often it is tried again", lambda _, s: s.retry.attempts if s.retry is not None else 0),
    "wait": FactRow("seconds between two tries", lambda _, s: s.retry.wait if s.retry is not None else None),
    "on_fault": FactRow("what follows a failure: stop, continue or route", lambda _, s: s.on_fault),
    "calls": FactRow("the flow that it calls", lambda _, s: s.calls),
    "store": FactRow("the store that it fills or searches", lambda _, s: store_of(s)),
    "silence": FactRow("what no answer to an approval means", lambda _, s: s.approval.silence if s.approval is not None else None),
    "approver": FactRow("any of those who are asked", lambda _, s: s.approval.approvers if s.approval is not None else ()),
    "tool_of": FactRow("any agent that may choose it", _tool_of),
    "behind": FactRow("whether a step of that kind, name or id always runs before it", _behind, 1),
    "ahead_of": FactRow("whether a step of that kind, name or id may run after it", _ahead_of, 1),
    "within": FactRow("whether it stands in a loop, guard or group of that kind, name or id", _within, 1),
    "handled": FactRow("whether a failure of it leads somewhere", lambda v, s: any(takes_outcome(one, "failure") for one in v.graph.leaving.get(s.id, ()))),
}  # fmt: skip
TRIGGER_FACTS: dict[str, FactRow] = {
    **PART_FACTS,
    "event": FactRow("its event, address or form", lambda _, t: t.event),
    "authentication": FactRow("how callers show who they are", lambda _, t: t.authentication),
    "cron": FactRow("its cron text", lambda _, t: t.schedule.cron if t.schedule is not None else None),
    "every": FactRow("its pause in seconds", lambda _, t: t.schedule.every if t.schedule is not None else None),
    "zone": FactRow("its time zone", lambda _, t: t.schedule.zone if t.schedule is not None else None),
}
INPUT_FACTS: dict[str, FactRow] = {
    "name": FactRow("the input's name", lambda one: one.name),
    "role": FactRow("its role: recipient, amount, address, content ...", lambda one: one.role),
    "decided": FactRow("who decides it: fixed, data or model", lambda one: one.decided),
    "value": FactRow("its value", lambda one: one.value),
    "type": FactRow("its type", lambda one: one.type),
    "secured": FactRow("whether it is kept out of logs", lambda one: one.secured),
}
PROMPT_FACTS: dict[str, FactRow] = {
    "text": FactRow("the prompt's text", lambda one: one.text),
    "role": FactRow("system, user ...", lambda one: one.role),
    "tokens": FactRow("its tokens, estimated", lambda one: count_tokens(one.text)),
    "words": FactRow("its words", lambda one: len(one.text.split())),
}
_OWN: dict[Over, dict[str, FactRow]] = {
    "flow": FLOW_FACTS, "step": STEP_FACTS, "trigger": TRIGGER_FACTS, "input": INPUT_FACTS, "prompt": PROMPT_FACTS,
}  # fmt: skip


def known_facts(over: Over) -> dict[str, Fact]:
    """The facts of a rule: its own, those of the step with ``step.``, those of the flow with ``flow.``."""
    found = dict(_OWN[over])
    if over in ("input", "prompt"):
        found |= {f"step.{name}": row for name, row in STEP_FACTS.items()}
    if over != "flow":
        found |= {f"flow.{name}": row for name, row in FLOW_FACTS.items()}
    return {name: Fact(row.about, row.arguments) for name, row in found.items()}


def look_up(over: Over, subject: Subject, name: str, given: tuple[Any, ...]) -> Any:
    """A fact of a subject."""
    of, _, rest = name.rpartition(".")
    if of == "flow" or over == "flow":
        return FLOW_FACTS[rest].read(subject.view, *given)
    if of == "step":
        row = STEP_FACTS[rest]
        return row.read(subject.view, subject.part, *given) if isinstance(subject.part, Step) else None
    row = _OWN[over][name]
    return row.read(subject.one) if over in ("input", "prompt") else row.read(subject.view, subject.part, *given)


def subjects_of(over: Over, view: FlowView) -> list[Subject]:
    """What a rule looks at in a flow: what is switched on."""
    if over == "flow":
        return [Subject(view)]
    if over == "step":
        return [Subject(view, step) for step in view.steps if step.kind != "note"]
    if over == "trigger":
        return [Subject(view, one) for one in view.flow.triggers if one.enabled]
    if over == "input":
        return [Subject(view, part, one) for part in view.parts for one in part.inputs]
    return [Subject(view, step, one) for step in view.steps if step.model is not None for one in step.model.prompts]
