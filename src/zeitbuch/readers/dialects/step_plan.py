# A dialect compiled for speed: for every operation string one plan (which rule matched, the getters of its
# fields, which keys they claim), made once and used for all steps with that operation.
"""Compiled rules of a dialect, one plan an operation."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from fnmatch import translate
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.records import Binding, Effect, ModelUse, Prompt, Repeat, Schedule, StepKind
from zeitbuch.readers.dialects.rules import CasesRule
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.limits import count_values

from .field_checks import (
    FORMS,
    OBJECT,
    WORDS,
    Field,
    Form,
    Refused,
    make_field,
    one_of,
)
from .gates import OWN_CONDITIONS, GateRule, make_gate_rule
from .own_rounds import NEVER_REPEATED, OWN_ROUNDS, make_rounds_rule, read_repeat
from .paths import (
    Claims,
    Getter,
    as_number,
    as_text,
    as_whole_number,
    claim_paths,
    copy_claims,
    get_nothing,
    make_getter,
    path_keys,
    unclaimed_part,
)
from .placeholders import Placeholders
from .prompt_paths import PromptPaths
from .record_forms import RecordForms
from .rules import Dialect, Fields, KindRule
from .schedules import DAY_FIELDS, Clock, ScheduleWords, form_of_days, form_of_unit, read_clock
from .statements import statement_kind
from .step_facts import FACT_PATHS, METHOD_EFFECTS, WORDS_OF, fact_readers, words_known

_FIELD_PATHS = (
    "model", "temperature", "max_output", "max_turns", "tools", "task", "condition", "items", "until", "as_long_as", "cap", "calls",
    "cron", "every", "unit", "days", "month_days", "time", "hour", "minute", "zone", "event", "batch", "authentication", *FACT_PATHS,
    *OWN_CONDITIONS, *OWN_ROUNDS,
)  # fmt: skip
_OF_DATABASES = ("read", "write", "delete")
_OF_LOOPS = ("items", "until", "as_long_as", "cap")
_OF_MODELS = ("model", "temperature", "max_output", "max_turns", "task")
OF_TRIGGERS = (
    "cron", "every", "unit", "days", "month_days", "time", "hour", "minute", "zone", "event", "batch", "authentication",
)  # fmt: skip
_DECIDING = ("decide", "loop")  # kinds that go by their condition
_OF_STEPS = frozenset({"calls", *FACT_PATHS, *OWN_CONDITIONS})
_OF_SCHEDULES = frozenset({"every", "zone", "unit", "days", "month_days", "time", "hour", "minute"})
_UNCLASSIFIED = KindRule(kind="other")
_NONE: list[Refused] = []


class Cases(NamedTuple):
    """The compiled rule for the cases of a decision: where they are, and within a case its outlet, label and condition."""

    keys: tuple[str, ...]
    at: Getter
    outlet: Getter | None
    label: Getter
    condition: Getter
    forms: RecordForms


def _compile_cases(rule: CasesRule) -> Cases:
    claims: Claims = {}
    paths = [path for path in (rule.outlet, rule.label, rule.condition) if path]
    for path in paths:
        claim_paths(claims, path)
    return Cases(
        path_keys(rule.at),
        make_getter(rule.at),
        make_getter(rule.outlet) if rule.outlet else None,
        make_getter(rule.label),
        make_getter(rule.condition),
        RecordForms(claims, [make_field(path, WORDS) for path in paths]),
    )


class Plan:
    """How to read the steps of one operation, or with ``starts`` the triggers. ``claimed`` and ``known`` are the places and
    fields that all of them share."""

    def __init__(
        self, rule: KindRule, common: Fields, settings: str, claimed: Claims, known: Iterable[Field], starts: bool
    ) -> None:
        self.rule = rule
        self.starts = starts
        self.settings = settings
        self.clock: tuple[dict[str, Any], Clock] | None = None  # of the record that was looked at last
        self.marks_inputs = bool(rule.roles or rule.secured)
        self.kind = rule.kind or "other"
        has = [rule.has] if isinstance(rule.has, str) else rule.has
        self.word = path_keys(has[0])[-1] if has and has[0] else ""  # the operation of records that name none
        self.claims: Claims = copy_claims(claimed)
        self.get: dict[str, Getter] = {}
        self.fields: list[Field] = list(known)
        self.uses_model = not starts and (
            self.kind in ("model", "agent", "embed")
            or (rule.kind in ("tool", "retrieve", "parse", "memory") and bool(rule.model))
        )
        told = any(getattr(rule, name) or getattr(common, name) for name in ("own_items", "own_until"))
        self.may_repeat = told and not starts and self.kind not in NEVER_REPEATED
        self._claim_fields(rule, common)
        cases = None if starts else rule.cases or common.cases
        self.cases = None if cases is None else _compile_cases(cases)
        if cases is not None:
            claim_paths(self.claims, cases.at)
        prompts = (rule.prompts or common.prompts) if self.uses_model else []
        self.prompts = PromptPaths(prompts)
        self.prompts.claim(self.claims)
        self.fields += self.prompts.fields()
        # What the settings hold beyond the claimed keys are the step's inputs, hence understood.
        self._split_claims(settings)
        if settings and settings != ".":
            self.fields.append(make_field(settings, OBJECT))
        self.all_inputs = settings == "."
        self.method = self._read_aside(self._said_by(rule, common, "method", ("http",)), settings)
        self.statement = self._read_aside(self._said_by(rule, common, "statement", _OF_DATABASES), settings)
        self.forms = RecordForms(None if self.all_inputs else self.outside, self.fields)

    def _said_by(self, rule: KindRule, common: Fields, name: str, kinds: tuple[str, ...]) -> Any:
        """The paths of a field that some kinds of steps have."""
        return (getattr(rule, name) or getattr(common, name)) if self.kind in kinds else ""

    def _read_aside(self, paths: str | list[str], settings: str) -> Getter:
        """The method of a call, or a statement. Among the settings it is an input like others; elsewhere it is claimed."""
        if not paths:
            return get_nothing
        inside = settings == "." or all(
            path_keys(one)[:1] == path_keys(settings)[:1]
            for one in ([paths] if type(paths) is str else paths)
            if settings
        )
        if not settings or not inside:
            claim_paths(self.claims, paths)
            claim_paths(self.outside, paths)
            self.fields.append(make_field(paths, WORDS))
        return make_getter(paths)

    def kind_and_effect(self, raw: dict[str, Any]) -> tuple[StepKind, Effect]:
        """What a step does, and may do outside. What a dialect says in general gives way to the method of a call and to a statement."""
        said = self.rule.effect
        if self.statement is not get_nothing:
            stated = statement_kind(as_text(self.statement(raw)))
            if stated is not None:
                return stated, stated
        told = METHOD_EFFECTS.get(as_text(self.method(raw)).upper(), said) if said in ("none", "read") else said
        return self.kind, told

    def _claim_fields(self, rule: KindRule, common: Fields) -> None:
        for name in _FIELD_PATHS:
            # A path is claimed only where such a field has a meaning.
            paths = (getattr(rule, name) or getattr(common, name)) if self._meaning_of(name) else ""
            if paths:
                self.get[name] = make_getter(paths)
                claim_paths(self.claims, paths)
                self.fields.append(make_field(paths, _form_of(name, rule, common), serves=self._use_of(name)))
        # Whether an outline has nothing to say of it but its kind.
        self.is_bare = not self.uses_model and "calls" not in self.get
        self.facts = [] if self.starts else fact_readers(rule, common, self.get)
        said = {name: getattr(rule, name) or getattr(common, name) for name in self.get}
        decides_by = [
            said[name] for name in ("condition", "until", "as_long_as") if name in said and self.kind in _DECIDING
        ]
        named = (*OWN_CONDITIONS, *(() if self.kind in _DECIDING or self.starts else ("condition",)))
        self.gates: list[GateRule] = []
        for name in named:
            if name in said and said[name] not in decides_by:
                decides_by.append(said[name])  # one place says one thing
                self.gates.append(make_gate_rule(name, said[name], rule.unmet or common.unmet))
        self.schedule_words = ScheduleWords(
            clock_texts.UNITS[rule.every_unit if rule.every else common.every_unit],
            rule.units or common.units,
            rule.weekdays or common.weekdays,
        )
        self.item_faults = words_known("on_item_faults", rule, common)
        self.rounds = make_rounds_rule(self.get, said, self.settings, self.item_faults)

    def _split_claims(self, settings: str) -> None:
        self.inside: Claims = self.claims
        if settings and settings != ".":
            for key in settings.split("."):
                below = self.inside.setdefault(key, {})
                self.inside = {} if below is True else below
            claim_paths(whole_claim := copy_claims(self.claims), settings)
            self.outside: Claims = whole_claim
        else:
            self.outside = self.claims

    def _meaning_of(self, name: str) -> bool:
        if name in _OF_MODELS:
            return self.uses_model
        if name == "tools":
            return self.kind == "agent" and not self.starts
        if name in OF_TRIGGERS:
            return self.starts
        if name in _OF_LOOPS:
            return self.kind == "loop" and not self.starts
        if name in OWN_ROUNDS:
            return self.may_repeat
        if name == "on_item_fault":
            return self.may_repeat or (self.kind == "loop" and not self.starts)
        return name not in _OF_STEPS or not self.starts

    def clock_of(self, raw: dict[str, Any]) -> Clock:
        """The schedule of a trigger, with the fields that it was made of. Each of its fields asks for it."""
        if self.clock is None or self.clock[0] is not raw:
            self.clock = raw, read_clock(self.get, self.schedule_words, raw)
        return self.clock[1]

    def _use_of(self, name: str) -> Callable[[dict[str, Any]], bool] | None:
        """Whether a record has a use for a field; None where it always has."""
        if self.may_repeat and name in ("own_cap", "on_item_fault"):
            return lambda raw: self.rounds is not None and self.rounds.repeats(raw)
        if name not in _OF_SCHEDULES:
            return None
        return lambda raw: name in self.clock_of(raw).fields

    # -- what stays unread --------------------------------------------------------------------------------------------

    def unread_parts(self, raw: dict[str, Any]) -> tuple[dict[str, Any], list[Refused]]:
        """What of a record no path claims, and the claimed values that cannot be used."""
        rest, refused = self.forms.unread_parts(raw)
        return rest, refused if self.cases is None else refused + _refused_cases(self.cases, raw)

    def count_unread(self, raw: dict[str, Any]) -> tuple[int, list[Refused]]:
        """How many values of a record are not read, and those of them that are claimed."""
        sure = self.forms.missed_for_sure(raw)
        missed, refused = self.forms.unread_in(raw) if sure is None else (sure, _NONE)
        if self.cases is not None and self.cases.at(raw) is not None:
            refused = refused + _refused_cases(self.cases, raw)
        return missed + sum([count_values(one.value) for one in refused]) if refused else missed, refused


def _refused_cases(cases: Cases, raw: dict[str, Any]) -> list[Refused]:
    """What of the cases of a decision has no place in the model."""
    listed = cases.at(raw)
    if listed is None:
        return []
    if type(listed) is not list:
        return [Refused(cases.keys, listed, "a list of cases")]
    rest: list[Any] = []
    for case in listed:
        if type(case) is not dict:
            rest.append(case)
            continue
        left = cases.forms.rest_of(case)
        if left:
            rest.append(left)
    return [Refused(cases.keys, rest, "")] if rest else []


class Shared(NamedTuple):
    """What all steps, or all triggers, of a dialect claim: places, and the fields that stand there."""

    claims: Claims
    fields: tuple[Field, ...]


class Plans:
    """All plans of one dialect for its steps (and the triggers among them), or for its separate triggers alone."""

    def __init__(
        self, dialect: Dialect, common: Fields, settings: str, starts: Shared, steps: Shared | None = None
    ) -> None:
        self.rules = [
            (re.compile(translate(rule.operation)), make_getter(rule.has) if rule.has else None, rule)
            for rule in dialect.kinds_for(apart=steps is None)
        ]
        self.signs = [get for _, get, _ in self.rules if get is not None]
        self.common = common
        self.settings = settings
        self.default_model = bool(dialect.flow.model)
        self.starts, self.steps = starts, steps
        self.holds = [(re.compile(translate(hold.operation)), hold.at) for hold in dialect.inside]
        self.made: dict[str, Plan] = {}  # by operation, where nothing else tells what to do
        self.told: dict[tuple[str, tuple[bool, ...]], Plan] = {}  # by operation and what a record has

    def plan_of(self, operation: str, raw: dict[str, Any]) -> Plan:
        """How to read a record of this operation."""
        if not self.signs:
            plan = self.made.get(operation)
            if plan is None:
                plan = self.made[operation] = self._make_plan(operation, raw)
            return plan
        key = operation, tuple([get(raw) is not None for get in self.signs])
        plan = self.told.get(key)
        if plan is None:
            plan = self.told[key] = self._make_plan(operation, raw)
        return plan

    def _make_plan(self, operation: str, raw: dict[str, Any]) -> Plan:
        fitting = (
            rule
            for pattern, has, rule in self.rules
            if pattern.match(operation) and (has is None or has(raw) is not None)
        )
        rule = next(fitting, _UNCLASSIFIED)
        starts = self.steps is None or rule.trigger is not None
        claims, fields = self.starts if starts or self.steps is None else self.steps
        if not starts:
            # What stands inside a step is claimed only where the rule for it holds.
            claim_paths(claims := copy_claims(claims), [at for fits, at in self.holds if fits.match(operation)])
        plan = Plan(rule, self.common, self.settings, claims, fields, starts)
        if self.default_model and plan.uses_model:
            plan.get.setdefault("model", get_nothing)  # its steps ask one all the same
        return plan


def schedule_of(plan: Plan, raw: dict[str, Any]) -> Schedule | None:
    """The clock part of a trigger, or None when it has none."""
    return plan.clock_of(raw).schedule


def _form_of(name: str, rule: Fields, common: Fields) -> Form:
    """What a field must be: one of the words that the dialect names, or a form of its own."""
    if name in DAY_FIELDS:
        return form_of_days(name, rule.weekdays or common.weekdays)
    if name == "unit":
        return form_of_unit(rule.units or common.units)
    words = WORDS_OF.get(name)
    return FORMS.get(name, WORDS) if words is None else one_of(words_known(words, rule, common))


def inputs_of(plan: Plan, settings: Any, places: Placeholders, names: dict[str, str]) -> tuple[Binding, ...]:
    """The inputs of a step: every setting that no special field claims, objects taken apart one level."""
    if type(settings) is not dict:
        return ()
    claims = plan.inside
    found: list[Binding] = []
    opening = places.open
    for key, value in settings.items():
        held = claims.get(key)
        if held is not None:
            if held is True:
                continue
            value = unclaimed_part({key: value}, claims).get(key)
            if value is None:
                continue
        kind = type(value)
        if kind is str and opening not in value:
            found.append(Binding(name=key, value=value))
        elif kind is dict and value:
            found += [places.make_binding(f"{key}.{sub}", item, names) for sub, item in value.items()]
        else:
            found.append(places.make_binding(key, value, names))
    return tuple(found if not plan.marks_inputs else [_marked_input(one, plan.rule) for one in found])


def _marked_input(binding: Binding, rule: KindRule) -> Binding:
    """The input with the role that the dialect gives it."""
    role, secured = rule.roles.get(binding.name), binding.name in rule.secured
    return structs.replace(binding, role=role, secured=secured) if role or secured else binding


def model_of(plan: Plan, raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> ModelUse | None:
    """The model part of a step, or None when its operation uses none."""
    if not plan.uses_model:
        return None
    get = plan.get
    prompts = _read_prompts(plan, raw, places, names)
    return ModelUse(
        name=(as_text(get["model"](raw)) or None) if "model" in get else None,
        modality=plan.rule.modality,
        task=(as_text(get["task"](raw)) or None) if "task" in get else None,
        prompts=tuple(prompts),
        temperature=as_number(get["temperature"](raw)) if "temperature" in get else None,
        max_output=as_whole_number(get["max_output"](raw)) if "max_output" in get else None,
        max_turns=as_whole_number(get["max_turns"](raw)) if "max_turns" in get else None,
    )


def _read_prompts(plan: Plan, raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> list[Prompt]:
    prompts: list[Prompt] = []
    for role, words in plan.prompts.texts_of(raw):
        refs = tuple(ref for ref in places.in_text(words, names) if ref.variable is None or "\x00" not in ref.variable)
        prompts.append(Prompt(text=words, role=role, refs=refs))
    return prompts


def repeat_of(plan: Plan, raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> Repeat | None:
    """How a loop goes round, or None for other steps."""
    return read_repeat(plan.get, raw, plan.item_faults, places, names) if plan.kind == "loop" else None
