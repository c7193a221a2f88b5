# What all dialects do with one record of a flow: its identity, its plan, its fields as a step or a trigger; and the draft that
# gathers the parts of a flow while it is read.
"""Reading the steps of a dialect."""

from __future__ import annotations

from collections.abc import Iterable
from textwrap import shorten
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Link,
    ModelUse,
    Origin,
    Retry,
    Step,
    Trigger,
)
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.link_builder import Loose
from zeitbuch.readers.input.pointers import escape_key, last_key

from .field_checks import FORMS, WORDS, Field, Refused, make_field, one_of, with_refused
from .paths import (
    Claims,
    Getter,
    as_flag,
    as_number,
    as_text,
    as_whole_number,
    claim_paths,
    make_getter,
)
from .placeholders import Placeholders
from .places import Places
from .query import Query
from .rules import KEY, Dialect
from .schedules import UNITS
from .step_plan import Plan, Plans, Shared, inputs_of, model_of, repeat_of, schedule_of

_OF_BOTH = ("id", "name", "operation", "enabled", "disabled", "connection")
_OF_STEPS = ("scope", "note", "retries", "retry_wait", "timeout", "on_fault")


def with_key(pointer: str, item: dict[str, Any]) -> dict[str, Any]:
    """A copy that also holds the key under which it stands."""
    return {**item, KEY: last_key(pointer)}


class Case(NamedTuple):
    """One case of a decision, and what of it stands in the export."""

    label: str
    condition: str
    written: dict[str, str]


class Draft:
    """The parts of one flow while it is being read."""

    def __init__(self, base: Origin, pointer: str, places: Places | None = None) -> None:
        self.places = places
        self.source = base.source
        self.member = base.member
        self.pointer = pointer
        self.names: dict[str, str] = {}
        self.first = ""  # the step that the flow names as its first
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.cases: dict[str, dict[str, Case]] = {}
        self.taken_cases: set[tuple[str, str]] = set()  # step and outlet of the cases that links take
        self.problems: list[Problem] = []
        self.lost: list[dict[str, Any]] = []
        self.noise: dict[str, Any] = {}  # what the dialect says carries no meaning, by its place
        self.missed = 0  # values of steps that were only counted as unread

    def step_named(self, name: str) -> str | None:
        """The id of the step with this id or name."""
        return name if any(step.id == name for step in self.steps) else self.names.get(name)

    def case_of(self, step_id: str, outlet: str) -> Case | None:
        """The case that an outlet of a step stands for."""
        cases = self.cases.get(step_id)
        if not cases:
            return None
        key = outlet if outlet in cases else outlet.rpartition("/")[2]
        self.taken_cases.add((step_id, key))
        return cases.get(key)

    def keep_cases(self, step_id: str, cases: dict[str, Case]) -> None:
        """The cases of a step. Of two steps with one id links leave the first: the cases of the other lead nowhere."""
        if step_id not in self.cases:
            self.cases[step_id] = cases
        else:
            self.lost += [{f"case of {step_id}": case.written} for case in cases.values() if case.written]

    def tell_idle_cases(self) -> None:
        """Cases that no link takes lead nowhere: they are lost."""
        for step_id, cases in self.cases.items():
            idle = [case.written for outlet, case in cases.items() if (step_id, outlet) not in self.taken_cases]
            self.lost += [{f"case of {step_id}": written} for written in idle if written]

    def tell_loose(self, loose: Iterable[Loose]) -> None:
        """Cases that arrive nowhere, because nothing follows where they end: no link holds them."""
        for arrow in loose:
            said = {"label": arrow.label, "condition": arrow.condition, "otherwise": arrow.otherwise}
            if arrow.role == "case" and any(said.values()):
                self.lost.append({f"case of {arrow.source}": {key: value for key, value in said.items() if value}})

    def origin_at(self, pointer: str) -> Origin:
        """The place in the file of what stands at a pointer within the flow."""
        place = self.pointer + pointer
        return Origin(self.source, place if self.places is None else self.places.former_place(place), self.member)

    def tell_refused(self, refused: Iterable[Refused], whose: str, pointer: str) -> None:
        """Says once, with its place, that a value could not be used. What another place made idle is only unread."""
        for one in refused:
            if one.expected:
                message = (
                    f"expected {one.expected} at `{'.'.join(one.keys)}` {whose}, found {shorten(repr(one.value), 60)}"
                )
                hint = "the value is kept under unread parts; if the builder means something else by it, mend that path in the dialect"
                place = pointer + "".join(f"/{escape_key(key)}" for key in one.keys)
                self.problems.append(Problem("value-unusable", "finding", message, self.origin_at(place), hint))

    def add_problem(self, code: str, message: str, hint: str, pointer: str) -> None:
        self.problems.append(Problem(code, "finding", message, self.origin_at(pointer), hint))


class StepReader:
    """Reads single steps and triggers of one dialect. An ``outline`` leaves out inputs, references, retries,
    positions and the like: what a list of flows does not show; without ``texts`` prompts and notes too."""

    def __init__(self, dialect: Dialect, outline: bool = False, texts: bool = True) -> None:
        rule = dialect.step
        self.outline = outline
        self.texts = texts
        self.keyed = dialect.keyed
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
        self.enabled = make_getter(rule.enabled)
        self.disabled = make_getter(rule.disabled)
        self.position = [make_getter(part) for part in rule.position]
        self.retries = make_getter(rule.retries)
        self.retry_wait = make_getter(rule.retry_wait)
        self.timeout = make_getter(rule.timeout)
        self.timeout_unit, self.retry_wait_unit = UNITS[rule.timeout_unit], UNITS[rule.retry_wait_unit]
        self.on_fault = make_getter(rule.on_fault)
        self.optional = self._optional_readers()
        self.noise = [(path, make_getter(path)) for path in rule.noise]

    def _shared(self, dialect: Dialect, starts: bool) -> Shared:
        """What all steps claim, or all triggers written in the shape of steps."""
        rule = dialect.step
        claims: Claims = {}
        fields: list[Field] = []
        for name in _OF_BOTH if starts else (*_OF_BOTH, *_OF_STEPS):
            paths = getattr(rule, name)
            claim_paths(claims, paths)
            form = one_of(rule.on_faults) if name == "on_fault" else FORMS.get(name, WORDS)
            form = one_of(rule.switches) if name == "enabled" and rule.switches else form
            serves = self._retries if name == "retry_wait" else None
            fields += [make_field(paths, form, serves=serves)] if paths else []
        if len(rule.position) == 2:
            claim_paths(claims, rule.position)
            x, y = rule.position
            fields += [
                make_field(x, FORMS["x"], partner=make_getter(y)),
                make_field(y, FORMS["y"], partner=make_getter(x)),
            ]
        claim_paths(claims, [rule.next, *rule.noise] if isinstance(rule.next, str) else [*rule.next, *rule.noise])
        claim_paths(claims, [pointer.at for pointer in dialect.pointer])
        if dialect.predecessors is not None and not starts:
            claim_paths(claims, dialect.predecessors.at)
        if self.keyed:
            claim_paths(claims, KEY)
        return Shared(claims, tuple(fields))

    def _retries(self, raw: dict[str, Any]) -> bool:
        value = self.retries(raw)
        return value > 0 if type(value) is int else (as_whole_number(value) or 0) > 0

    def _position_of(self, raw: dict[str, Any]) -> tuple[float, float] | None:
        if len(self.position) != 2:
            return None
        x, y = as_number(self.position[0](raw)), as_number(self.position[1](raw))
        return None if x is None or y is None else (x, y)

    def _is_enabled(self, raw: dict[str, Any]) -> bool:
        if self.rule.switches:
            return self.rule.switches.get(as_text(self.enabled(raw)), True)
        return as_flag(self.enabled(raw)) is not False and as_flag(self.disabled(raw)) is not True

    def find_objects(self, query: Query, raw: Any, draft: Draft | None = None) -> list[tuple[str, dict[str, Any]]]:
        """The objects that a query selects, with their pointers and, where the dialect asks for it, their keys. What else it
        selects is lost."""
        selected = query.find_all(raw)
        found = [(part, value) for part, value in selected if type(value) is dict]
        if len(found) < len(selected) and draft is not None:
            draft.lost += [{part: value} for part, value in selected if type(value) is not dict and value is not None]
        return [(part, with_key(part, value)) for part, value in found] if self.keyed else found

    def identity_of(self, raw: dict[str, Any]) -> tuple[str, str]:
        """Id and name of a step; a step without id goes by its name."""
        name = as_text(self.name(raw))
        return as_text(self.id(raw)) or name, name

    def plan_for(self, raw: dict[str, Any]) -> Plan:
        return self.plans.plan_of(as_text(self.operation(raw)))

    def read_trigger(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan) -> Trigger:
        """A trigger written in the shape of a step."""
        step_id, name = self.identity_of(raw)
        get = plan.get
        kind = plan.rule.trigger
        assert kind is not None
        settings = raw if plan.all_inputs else self.settings(raw)
        return Trigger(
            id=step_id,
            kind=kind,
            name=name,
            operation=as_text(self.operation(raw)),
            schedule=schedule_of(plan, raw),
            event=as_text(get["event"](raw)) if "event" in get else "",
            condition=as_text(get["condition"](raw)) if "condition" in get else "",
            batch=as_whole_number(get["batch"](raw)) if "batch" in get else None,
            authentication=as_text(get["authentication"](raw)) if "authentication" in get else "",
            connection=as_text(self.connection(raw)) or None,
            inputs=() if self.outline else inputs_of(plan, settings, self.places, draft.names),
            enabled=self._is_enabled(raw),
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
        return Step(
            id=as_text(self.id(raw)) or name,
            kind=plan.kind,
            name=name,
            operation=as_text(self.operation(raw)),
            effect=plan.effect_of(raw),
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
        name = self.name(raw)
        key = self.id(raw)
        get = plan.get
        if scope is None and self.rule.scope:
            scope = as_text(self.scope(raw)) or None
        model = self._outline_model(raw, draft, plan, get)
        missed, refused = plan.count_unread(raw)
        draft.missed += missed
        self._tell_refused(refused, raw, pointer, draft)
        return Step(
            id=key if type(key) is str and key else as_text(key) or as_text(name),
            kind=plan.kind,
            name=name if type(name) is str else as_text(name),
            operation=as_text(self.operation(raw)) if self.texts else "",
            scope=scope,
            model=model,
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
            found.append(("enabled", lambda raw: None if self._is_enabled(raw) else False))
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
            if isinstance(case, dict):
                outlet = as_text(plan.cases.outlet(case)) if plan.cases.outlet is not None else ""
                label, condition = as_text(plan.cases.label(case)), as_text(plan.cases.condition(case))
                said = {"outlet": outlet, "label": label, "condition": condition}
                key = outlet if plan.cases.outlet is not None else str(position)
                written = {name: words for name, words in said.items() if words}
                key = f"{key}~{position}" if key in found else key  # the first keeps the outlet, this one leads nowhere
                found[key] = Case(label or key, condition, written)
        return found
