# What all dialects do with one record of a flow: its identity, its plan, its fields as a step or a trigger.
"""Reading the steps of a dialect."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import (
    ModelUse,
    Retry,
    Step,
    Trigger,
)
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.pointers import last_key

from .draft import Case, Draft
from .field_checks import FORMS, NUMBER, WORDS, Field, Refused, make_field, one_of, with_refused
from .paths import (
    Claims,
    Getter,
    as_number,
    as_text,
    as_whole_number,
    claim_paths,
    make_getter,
)
from .placeholders import Placeholders
from .query import Query
from .rules import KEY, PLACE, Dialect
from .several_clocks import several_clocks
from .step_plan import Plan, Plans, Shared, inputs_of, model_of, repeat_of, schedule_of
from .switches import Switch

_OF_BOTH = ("id", "name", "operation", "connection")
_OF_STEPS = ("scope", "note", "retries", "retry_wait", "timeout", "on_fault")


def with_key(pointer: str, item: dict[str, Any]) -> dict[str, Any]:
    """A copy that also holds the key under which it stands."""
    return {**item, KEY: last_key(pointer)}


def with_place(pointer: str, item: dict[str, Any]) -> dict[str, Any]:
    """A copy that also holds where it stands in its flow, such as ``do.2``."""
    return {**item, PLACE: pointer.removeprefix("/").replace("/", ".")}


class StepReader:
    """Reads single steps and triggers of one dialect. An ``outline`` leaves out inputs, references, retries,
    positions and the like: what a list of flows does not show; without ``texts`` prompts and notes too."""

    def __init__(self, dialect: Dialect, outline: bool = False, texts: bool = True) -> None:
        rule = dialect.step
        self.outline = outline
        self.texts = texts
        self.own_paths = dialect.own_paths
        self.keyed, self.placed = KEY in self.own_paths, PLACE in self.own_paths
        self.rule = rule
        self.plans = Plans(dialect, rule, rule.settings, self._shared(dialect, True), self._shared(dialect, False))
        self.places = Placeholders(None if outline else dialect.placeholders)
        self.id = make_getter(rule.id)
        self.name = make_getter(rule.name)
        self.operation = make_getter(rule.operation)
        self.scope = make_getter(rule.scope)
        self.settings = make_getter("" if rule.settings == "." else rule.settings)
        self.connection = make_getter(rule.connection)
        self.note = make_getter(rule.note)
        self.switch = Switch(rule.enabled, rule.disabled, rule.switches)
        self.position = [make_getter(part) for part in rule.position]
        self.retries = make_getter(rule.retries)
        self.retry_wait = make_getter(rule.retry_wait)
        self.timeout = make_getter(rule.timeout)
        self.timeout_unit, self.retry_wait_unit = (
            clock_texts.UNITS[one] for one in (rule.timeout_unit, rule.retry_wait_unit)
        )
        self.on_fault = make_getter(rule.on_fault)
        self.optional = self._optional_readers()
        self.noise = [(path, make_getter(path)) for path in rule.noise]

    def _shared(self, dialect: Dialect, starts: bool) -> Shared:
        """What all steps claim, or all triggers written in the shape of steps."""
        rule = dialect.step
        claims: Claims = {}
        claim_paths(claims, rule.enabled)
        claim_paths(claims, rule.disabled)
        fields: list[Field] = [*Switch(rule.enabled, rule.disabled, rule.switches).fields()]
        for name in _OF_BOTH if starts else (*_OF_BOTH, *_OF_STEPS):
            paths = getattr(rule, name)
            claim_paths(claims, paths)
            form = one_of(rule.on_faults) if name == "on_fault" else FORMS.get(name, WORDS)
            field = make_field(paths, form)
            if name == "retry_wait":
                field = field._replace(serves=self._retries, served_by=make_field(rule.retries, FORMS["retries"]))
            fields += [field] if paths else []
        if len(rule.position) == 2:
            claim_paths(claims, rule.position)
            x, y = rule.position
            fields += [
                make_field(x, FORMS["x"], partner=make_getter(y)),
                make_field(y, FORMS["y"], partner=make_getter(x)),
            ]
        number = dialect.order.by if dialect.order is not None else ""
        claim_paths(claims, number)
        fields += [make_field(number, NUMBER)] if number else []
        claim_paths(claims, [rule.next, *rule.noise] if isinstance(rule.next, str) else [*rule.next, *rule.noise])
        for pointer in dialect.pointer:
            claim_paths(claims, pointer.at)
            claim_paths(claims, pointer.meets)
        if dialect.predecessors is not None and not starts:
            claim_paths(claims, dialect.predecessors.at)
        claim_paths(claims, self.own_paths)
        return Shared(claims, tuple(fields))

    def _retries(self, raw: dict[str, Any]) -> bool:
        value = self.retries(raw)
        return value > 0 if type(value) is int else (as_whole_number(value) or 0) > 0

    def _position_of(self, raw: dict[str, Any]) -> tuple[float, float] | None:
        if len(self.position) != 2:
            return None
        x, y = as_number(self.position[0](raw)), as_number(self.position[1](raw))
        return None if x is None or y is None else (x, y)

    def find_objects(self, query: Query, raw: Any, draft: Draft | None = None) -> list[tuple[str, dict[str, Any]]]:
        """The objects that a query selects, with their pointers and, where the dialect asks for it, their keys. What else it
        selects is lost."""
        selected = query.find_all(raw)
        found = [(part, value) for part, value in selected if type(value) is dict]
        if len(found) < len(selected) and draft is not None:
            draft.lost += [{part: value} for part, value in selected if type(value) is not dict and value is not None]
        return [(part, self.with_own_paths(part, value)) for part, value in found] if self.own_paths else found

    def with_own_paths(self, pointer: str, item: dict[str, Any]) -> dict[str, Any]:
        """The record with its key and its place, as far as the dialect asks for them."""
        item = with_key(pointer, item) if self.keyed else item
        return with_place(pointer, item) if self.placed else item

    def identity_of(self, raw: dict[str, Any]) -> tuple[str, str]:
        """Id and name of a step; a step without id goes by its name."""
        name, key = self.name(raw), self.id(raw)
        if type(name) is not str:
            name = as_text(name)
        return (key if type(key) is str and key else as_text(key) or name), name

    def plan_for(self, raw: dict[str, Any]) -> Plan:
        operation = self.operation(raw)
        known = self.plans.made.get(operation) if type(operation) is str else None
        return known or self.plans.plan_of(as_text(operation), raw)

    def read_trigger(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan) -> Trigger:
        """A trigger written in the shape of a step."""
        step_id, name = self.identity_of(raw)
        get = plan.get
        kind = plan.rule.trigger
        assert kind is not None
        settings = raw if plan.all_inputs else self.settings(raw)
        draft.keep_clocks(step_id, several_clocks(get, raw))
        return Trigger(
            id=step_id,
            kind=kind,
            name=name,
            operation=as_text(self.operation(raw)) or plan.word,
            schedule=schedule_of(plan, raw),
            event=as_text(get["event"](raw)) if "event" in get else "",
            condition=as_text(get["condition"](raw)) if "condition" in get else "",
            batch=as_whole_number(get["batch"](raw)) if "batch" in get else None,
            authentication=as_text(get["authentication"](raw)) if "authentication" in get else "",
            connection=as_text(self.connection(raw)) or None,
            inputs=() if self.outline else inputs_of(plan, settings, self.places, draft.names),
            enabled=self.switch.is_on(raw),
            unread=self.unread_of(raw, pointer, draft, plan),
            position=self._position_of(raw),
            origin=draft.origin_at(pointer),
        )

    def read_step(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan, scope: str | None) -> Step:
        """One step."""
        if self.outline:
            return self._outline_step(raw, pointer, draft, plan, scope)
        name = as_text(self.name(raw))
        get = plan.get
        names = draft.names
        more = self._fields_of_step(raw, pointer, draft, plan, scope, names, get)
        kind, effect = plan.kind_and_effect(raw)
        return Step(
            id=as_text(self.id(raw)) or name,
            kind=kind,
            name=name,
            operation=as_text(self.operation(raw)) or plan.word,
            effect=effect,
            inclusive=plan.rule.inclusive,
            per_item=plan.rule.per_item,
            yields=plan.rule.yields,
            ends=plan.rule.ends,
            **more,
        )

    def _fields_of_step(
        self,
        raw: dict[str, Any],
        pointer: str,
        draft: Draft,
        plan: Plan,
        scope: str | None,
        names: dict[str, str],
        get: dict[str, Getter],
    ) -> dict[str, Any]:
        more: dict[str, Any] = {}
        for field, read in self.optional:
            value = read(raw)
            if value is not None:
                more[field] = value
        if plan.uses_model:
            more["model"] = model_of(plan, raw, self.places, names)
        if plan.kind == "loop":
            more["repeat"] = repeat_of(plan, raw, self.places, names)
        more["inputs"] = inputs_of(plan, raw if plan.all_inputs else self.settings(raw), self.places, names)
        more["origin"] = draft.origin_at(pointer)
        if "condition" in get:
            condition = as_text(get["condition"](raw))
            more["condition"] = condition or None
            more["refs"] = self.places.in_text(condition, names)
        if "calls" in get:
            more["calls"] = as_text(get["calls"](raw)) or None
        for field, fact in plan.facts:
            found = fact(raw, self.places, names)
            if found is not None:
                more[field] = found
        if scope is not None:
            more["scope"] = scope
        rest = self.unread_of(raw, pointer, draft, plan)
        if rest:
            more["unread"] = rest
        return more

    def unread_of(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan) -> dict[str, Any]:
        """What of a step or trigger has no place in the model; claimed values that cannot be used are told."""
        rest, refused = plan.unread_parts(raw)
        for path, get in self.noise:
            if (value := get(raw)) is not None:
                draft.noise[f"{pointer}/{path}"] = value
        if not refused:
            return rest
        self._tell_refused(refused, raw, pointer, draft)
        return with_refused(rest, refused)

    def _tell_refused(self, refused: list[Refused], raw: dict[str, Any], pointer: str, draft: Draft) -> None:
        if refused:
            title = as_text(self.name(raw)) or as_text(self.id(raw))
            draft.tell_refused(refused, f"of '{title}'", pointer)

    def _outline_step(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan, scope: str | None) -> Step:
        """What a list of flows needs of a step, and no more; what was not read is only counted."""
        key, name = self.identity_of(raw)
        if scope is None and self.rule.scope:
            scope = as_text(self.scope(raw)) or None
        missed, refused = plan.count_unread(raw)
        draft.missed += missed
        if refused:
            self._tell_refused(refused, raw, pointer, draft)
        if plan.is_bare and not self.texts:
            return Step(id=key, kind=plan.kind, name=name, scope=scope)
        get = plan.get
        return Step(
            id=key,
            kind=plan.kind,
            name=name,
            operation=(as_text(self.operation(raw)) or plan.word) if self.texts else "",
            scope=scope,
            model=self._outline_model(raw, draft, plan, get),
            calls=(as_text(get["calls"](raw)) or None) if "calls" in get else None,
            note=as_text(self.note(raw)) if self.texts else "",
        )

    def _outline_model(self, raw: dict[str, Any], draft: Draft, plan: Plan, get: dict[str, Getter]) -> ModelUse | None:
        model = None
        if plan.uses_model:
            if self.texts:
                model = model_of(plan, raw, self.places, draft.names)
            elif "model" in get:
                model = ModelUse(name=as_text(get["model"](raw)) or None)
        return model

    def _optional_readers(self) -> list[tuple[str, Getter]]:
        """Readers of the fields that the dialect names paths for; None means: as by default."""
        rule = self.rule
        found: list[tuple[str, Getter]] = []
        if rule.enabled or rule.disabled:
            found.append(("enabled", lambda raw: None if self.switch.is_on(raw) else False))
        if rule.scope:
            found.append(("scope", lambda raw: as_text(self.scope(raw)) or None))
        if rule.note:
            found.append(("note", lambda raw: as_text(self.note(raw)) or None))
        if rule.connection:
            found.append(("connection", lambda raw: as_text(self.connection(raw)) or None))
        if len(rule.position) == 2:
            found.append(("position", self._position_of))
        if rule.timeout:
            found.append(("timeout", lambda raw: clock_texts.duration_of(self.timeout(raw), self.timeout_unit)))
        if rule.retries:
            found.append(("retry", self._read_retry))
        if rule.on_fault:
            faults = rule.on_faults
            found.append(("on_fault", lambda raw: faults.get(as_text(self.on_fault(raw)))))
        return found

    def _read_retry(self, raw: dict[str, Any]) -> Retry | None:
        tries = as_whole_number(self.retries(raw))
        return (
            Retry(attempts=tries, wait=clock_texts.duration_of(self.retry_wait(raw), self.retry_wait_unit))
            if tries and tries > 0
            else None
        )

    def cases_of(self, raw: dict[str, Any], plan: Plan) -> dict[str, Case]:
        """Outlet -> case of a decision."""
        if plan.cases is None:
            return {}
        found: dict[str, Case] = {}
        listed = plan.cases.at(raw)
        for position, case in enumerate(listed if isinstance(listed, list) else []):
            if type(case) is dict:
                outlet = as_text(plan.cases.outlet(case)) if plan.cases.outlet is not None else ""
                label, condition = as_text(plan.cases.label(case)), as_text(plan.cases.condition(case))
                written = {"outlet": outlet, "label": label, "condition": condition}
                if not (outlet and label and condition):
                    written = {name: words for name, words in written.items() if words}
                key = outlet if plan.cases.outlet is not None else str(position)
                key = f"{key}~{position}" if key in found else key  # the first keeps the outlet, this one leads nowhere
                found[key] = Case(label or key, condition, written)
        return found
