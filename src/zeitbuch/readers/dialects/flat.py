# Steps that stand in one flat list (or an object keyed by their ids), linked by records, an adjacency object or
# pointers in the steps; and triggers that stand apart. Steps within steps are in dialect_nested.py.
"""The flat shapes of exports, and separate triggers."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Link, Step, Trigger
from zeitbuch.readers.dialects.step_plan import Plan

from .draft import Draft
from .field_checks import WORDS, Refused, make_field, with_refused
from .gates import find_gates
from .links import Links, pointer_targets
from .named_tools import tool_names
from .order import Order
from .outline import outline_flow
from .own_rounds import find_rounds
from .paths import ITEM, Claims, as_text, as_whole_number, claim_keys, claim_paths, get_nothing, make_getter
from .query import Query
from .rules import Dialect
from .several_clocks import several_clocks
from .step_plan import OF_TRIGGERS, Plans, Shared, inputs_of, schedule_of
from .steps import StepReader
from .switches import Switch

_STARTING = tuple(name for name in OF_TRIGGERS if name not in ("unit", "minute", "zone", "batch", "authentication"))
_NOTHING: tuple[Any, ...] = (None, "", [], {})


class Triggers:
    """Reads triggers that stand apart from the steps."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        rule = dialect.trigger
        self.rule = rule
        self.steps = steps
        if rule is None:
            return
        claimed: Claims = {}
        paths = [rule.id, rule.name, rule.operation, rule.connection, rule.condition]
        for path in (*paths, rule.starts, rule.enabled, rule.disabled):
            claim_paths(claimed, path)
        claim_paths(claimed, steps.own_paths)
        self.plain = _reads_plain_values(dialect, paths)
        if self.plain:
            claim_keys(claimed, (ITEM,))
        self.query = Query(rule.at)
        self.own = self.query.parts is not None and not self.query.parts  # the flow is its own trigger
        self.switch = Switch(rule.enabled, rule.disabled, rule.switches)
        fields = [make_field(path, WORDS) for path in paths if path]
        shared = Shared(claimed, (*fields, *self.switch.fields()))
        self.plans = Plans(dialect, dialect.step, rule.settings, shared)
        self.get = {
            name: make_getter(getattr(rule, name))
            for name in ("id", "name", "operation", "starts", "connection", "condition")
        }
        self.settings = make_getter("" if rule.settings == "." else rule.settings)

    def read_triggers(self, raw: dict[str, Any], draft: Draft) -> list[tuple[str, str]]:
        """Adds the triggers to the draft; returns (trigger id, id of the step it starts or empty)."""
        starts: list[tuple[str, str]] = []
        if self.rule is None:
            return starts
        for place, (pointer, item) in enumerate(self._find_records(raw, draft)):
            operation = as_text(self.get["operation"](item))
            plan = self.plans.plan_of(operation, item)
            if self.own and not operation and not _has_fields_of(plan, item):
                continue
            trigger_id = as_text(self.get["id"](item)) or (f"start-{place + 1}" if place else "start")
            draft.triggers.append(self._read_trigger(item, trigger_id, draft, pointer, operation, plan))
            draft.names.setdefault("\x00trigger", trigger_id)
            named = list(pointer_targets(self.get["starts"](item), None))
            starts += [(trigger_id, target) for _, target in named] or [(trigger_id, "")]
        return starts

    def _find_records(self, raw: dict[str, Any], draft: Draft) -> list[tuple[str, dict[str, Any]]]:
        """The records of the triggers, with their pointers."""
        if self.own:
            return [("", raw)]
        if not self.plain:
            return self.steps.find_objects(self.query, raw, draft)
        selected = [
            (pointer, value)
            for pointer, found in self.query.find_all(raw)
            for pointer, value in _each_of(pointer, found)
        ]
        records = [
            (pointer, value if type(value) is dict else {ITEM: value})
            for pointer, value in selected
            if value not in (None, "")
        ]
        return [(pointer, self.steps.with_own_paths(pointer, record)) for pointer, record in records]

    def _read_trigger(
        self, item: dict[str, Any], trigger_id: str, draft: Draft, pointer: str, operation: str, plan: Plan
    ) -> Trigger:
        get, fields = self.get, plan.get
        draft.keep_clocks(trigger_id, several_clocks(fields, item))
        return Trigger(
            id=trigger_id,
            kind=plan.rule.trigger or "event",
            name=as_text(get["name"](item)),
            operation=operation or plan.word,
            schedule=schedule_of(plan, item),
            event=as_text(fields["event"](item)) if "event" in fields else "",
            condition=as_text(get["condition"](item)) or (as_text(fields["condition"](item)) if "condition" in fields else ""),
            batch=as_whole_number(fields["batch"](item)) if "batch" in fields else None,
            authentication=as_text(fields["authentication"](item)) if "authentication" in fields else "",
            connection=as_text(get["connection"](item)) or None,
            enabled=self.switch.is_on(item),
            inputs=inputs_of(plan, item if plan.all_inputs else self.settings(item), self.steps.places, draft.names),
            unread=self._unread_of(item, trigger_id, draft, pointer, plan),
            origin=draft.origin_at(pointer),
        )  # fmt: skip

    def _unread_of(
        self, item: dict[str, Any], trigger_id: str, draft: Draft, pointer: str, plan: Plan
    ) -> dict[str, Any]:
        rest, refused = plan.unread_parts(item)
        draft.tell_refused(refused, f"of trigger '{trigger_id}'", pointer)
        own, common = (as_text(get(item)) for get in (self.get["condition"], plan.get.get("condition", get_nothing)))
        if own and common and own != common:
            refused.append(Refused(("condition",), common, ""))
        if self.own:
            draft.rest, rest = rest, {}
        return with_refused(rest, refused)


def _reads_plain_values(dialect: Dialect, paths: list[str | list[str]]) -> bool:
    """Whether triggers may be texts or numbers: some of their fields is the thing itself."""
    given = [*paths, *(getattr(rule, name) for rule in dialect.kind if rule.trigger for name in OF_TRIGGERS)]
    return any(ITEM in ([path] if isinstance(path, str) else path) for path in given)


def _has_fields_of(plan: Plan, item: dict[str, Any]) -> bool:
    """Whether a flow says of itself when it starts; a zone alone does not."""
    return any(plan.get[name](item) not in _NOTHING for name in _STARTING if name in plan.get)


def _each_of(pointer: str, found: Any) -> list[tuple[str, Any]]:
    """What is selected: of a list each of its items, where a builder writes one or several."""
    return (
        [(f"{pointer}/{place}", one) for place, one in enumerate(found)] if type(found) is list else [(pointer, found)]
    )


class Flat:
    """A flat list of steps; how they are linked is in dialect_links.py."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        self.steps = steps
        self.query = Query(dialect.step.at)
        self.triggers = Triggers(dialect, steps)
        self.links = Links(dialect, steps)
        self.order = Order(dialect.order) if dialect.order is not None else None

    def read_flow(self, raw: dict[str, Any], draft: Draft) -> None:
        """Fills the draft with the triggers, steps and links of one flow."""
        steps = self.steps
        quick = steps.outline and not steps.texts and self.order is None and not draft.first
        if quick and outline_flow(self, raw, draft):
            return
        names = draft.names
        found = [
            (part, mapping, steps.plan_for(mapping)) for part, mapping in steps.find_objects(self.query, raw, draft)
        ]
        _name_steps(found, steps, names)
        starts = self.triggers.read_triggers(raw, draft)
        _read_steps(draft, found, steps)
        met = self.links.met_by([item for _, item, _ in found]) if starts else {}
        for trigger_id, target in starts:
            if target:
                started = [names[target]] if target in names else met.get(target, [target])
                draft.links += [Link(source=trigger_id, target=step_id) for step_id in started]
        self.links.read_links(raw, draft, [(part, item) for part, item, _ in found])
        if self.order is not None:
            draft.links += self.order.links_of(
                raw, [(part, steps.identity_of(item)[0], plan.kind, item) for part, item, plan in found]
            )
        draft.tell_idle_cases()
        silent = [text for text, target in starts if not target]
        if silent:
            start_at_roots(draft, silent)


def _name_steps(found: list[tuple[str, dict[str, Any], Plan]], steps: StepReader, names: dict[str, str]) -> None:
    for _, item, plan in found:
        step_id, name = steps.identity_of(item)
        names.setdefault(step_id, step_id)
        names.setdefault(name, step_id)
        if plan.rule.trigger is not None:
            names.setdefault("\x00trigger", step_id)


def _read_steps(draft: Draft, found: list[tuple[str, dict[str, Any], Plan]], steps: StepReader) -> None:
    for pointer, item, plan in found:
        if plan.rule.trigger is not None:
            draft.triggers.append(steps.read_trigger(item, pointer, draft, plan))
        else:
            step = steps.read_step(item, pointer, draft, plan, None)
            draft.steps.append(step)
            if plan.gates:
                draft.keep_gates(step.id, find_gates(plan.gates, item, pointer))
            if plan.rounds is not None:
                draft.keep_rounds(step.id, find_rounds(plan.rounds, item, pointer, steps.places, draft.names))
            if "tools" in plan.get:
                draft.keep_tools(step.id, tool_names(plan, item))
            if plan.cases is not None:
                draft.keep_cases(step.id, steps.cases_of(item, plan))


def start_at_roots(draft: Draft, triggers: list[str]) -> None:
    """Triggers that stand apart and name no step start the one that the flow calls its first, else those that nothing leads to."""
    leading = {link.source for link in draft.links}
    first = draft.step_named(draft.first) if draft.first else None
    roots = [step for step in draft.steps if step.id == first] or _roots_of(draft)
    for trigger in triggers:
        if trigger not in leading:
            draft.links += [Link(source=trigger, target=step.id, origin=step.origin) for step in roots]


def _roots_of(draft: Draft) -> list[Step]:
    """The steps that nothing leads to and that lend themselves to no other."""
    reached = {link.source if link.role == "attach" else link.target for link in draft.links}
    return [
        step
        for step in draft.steps
        if step.id not in reached and step.scope is None and step.kind not in ("note", "group")
    ]
