# A dialect compiled for speed: for every operation string one plan (which rule matched, the getters of its
# fields, which keys they claim), made once and used for all steps with that operation.
"""Compiled rules of a dialect, one plan an operation."""

from __future__ import annotations

import re
from fnmatch import translate
from typing import Any

from zeitbuch.core.model.records import Binding, ModelUse, Prompt, Ref, Repeat, Schedule
from zeitbuch.readers.dialects.rules import CasesRule
from zeitbuch.readers.input import clock_texts

from .paths import Checks, Claims, Getter, as_number, as_text, as_whole_number, claim_paths, make_getter, unclaimed_part
from .placeholders import Placeholders
from .rules import Dialect, Fields, KindRule

_FIELDS = re.compile(r"\s*(@\w+|(\S+\s+){4,5}\S+)\s*$")
_UNIT = {"seconds": 1.0, "minutes": 60.0, "hours": 3600.0, "days": 86400.0}
_FIELD_PATHS = (
    "model", "temperature", "max_output", "max_turns", "task", "condition", "items", "until", "cap", "calls",
    "cron", "every", "zone", "event", "batch",
)  # fmt: skip
_OF_MODELS = ("model", "temperature", "max_output", "max_turns", "task")
_OF_TRIGGERS = ("cron", "every", "zone", "event", "batch")
_UNCLASSIFIED = KindRule(kind="other")


class Plan:
    """How to read the steps of one operation."""

    def __init__(self, rule: KindRule, common: Fields, settings: str, claimed: Claims) -> None:
        self.rule = rule
        self.kind = rule.kind or "other"
        self.claims: Claims = _copy_claims(claimed)
        self.get: dict[str, Getter] = {}
        self.uses_model = self.kind in ("model", "agent", "embed") or (
            rule.kind in ("tool", "retrieve", "parse", "memory") and bool(rule.model)
        )
        self._claim_fields(rule, common)
        cases = rule.cases or common.cases
        self._read_cases_rule(cases)
        prompts = rule.prompts or (common.prompts if self.uses_model else [])
        self.prompts = [(prompt_rule.role, make_getter(prompt_rule.path)) for prompt_rule in prompts]
        for prompt_rule in prompts:
            claim_paths(self.claims, prompt_rule.path)
        self.every_unit = _UNIT[rule.every_unit if rule.every else common.every_unit]
        # What the settings hold beyond the claimed keys are the step's inputs, hence understood.
        self._split_claims(settings)
        self.all_inputs = settings == "."
        self.checks = Checks(self.outside)

    def _claim_fields(self, rule: KindRule, common: Fields) -> None:
        for name in _FIELD_PATHS:
            # A path that holds for all steps is claimed only where such a field has a meaning.
            paths = getattr(rule, name) or (getattr(common, name) if self._meaning_of(name) else "")
            if paths:
                self.get[name] = make_getter(paths)
                claim_paths(self.claims, paths)

    def _read_cases_rule(self, cases: CasesRule | None) -> None:
        self.cases: tuple[Getter, Getter | None, Getter, Getter] | None = None
        if cases is not None:
            claim_paths(self.claims, cases.at)
            outlet = make_getter(cases.outlet) if cases.outlet else None
            self.cases = (make_getter(cases.at), outlet, make_getter(cases.label), make_getter(cases.condition))

    def _split_claims(self, settings: str) -> None:
        self.inside: Claims = self.claims
        if settings and settings != ".":
            for key in settings.split("."):
                below = self.inside.setdefault(key, {})
                self.inside = {} if below is True else below
            claim_paths(whole_claim := _copy_claims(self.claims), settings)
            self.outside: Claims = whole_claim
        else:
            self.outside = self.claims

    def _meaning_of(self, name: str) -> bool:
        if name in _OF_MODELS:
            return self.uses_model
        if name in _OF_TRIGGERS:
            return self.rule.trigger is not None
        if name in ("items", "until", "cap"):
            return self.kind == "loop"
        return True


def _copy_claims(claims: Claims) -> Claims:
    return {key: value if value is True else _copy_claims(value) for key, value in claims.items()}


class Plans:
    """All plans of one dialect for its steps (or for its separate triggers)."""

    def __init__(self, dialect: Dialect, common: Fields, settings: str, claimed: Claims) -> None:
        self.rules = [(re.compile(translate(rule.operation)), rule) for rule in dialect.kind]
        self.common = common
        self.settings = settings
        self.claimed = claimed
        self.made: dict[str, Plan] = {}

    def plan_of(self, operation: str) -> Plan:
        plan = self.made.get(operation)
        if plan is None:
            rule = next((kind_rule for pattern, kind_rule in self.rules if pattern.match(operation)), _UNCLASSIFIED)
            plan = self.made[operation] = Plan(rule, self.common, self.settings, self.claimed)
        return plan


def schedule_of(plan: Plan, raw: dict[str, Any]) -> Schedule | None:
    """The clock part of a trigger, or None when it has none."""
    get = plan.get
    cron = as_text(get["cron"](raw)) if "cron" in get else ""
    every = as_number(get["every"](raw)) if "every" in get else None
    if not cron and every is None:
        return None
    zone = as_text(get["zone"](raw)) if "zone" in get else ""
    if cron and not _FIELDS.match(cron):
        # The same field may hold a recurrence rule or a repeating interval.
        other = clock_texts.schedule_of_text(cron, as_text(get["zone"](raw)) or None if "zone" in get else None)
        if other is not None:
            return other
    return Schedule(cron=cron or None, every=None if every is None else every * plan.every_unit, zone=zone or None)


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
            if held is True or type(value) is not dict:
                continue
            value = unclaimed_part(value, held)
            if not value:
                continue
        kind = type(value)
        if kind is str and opening not in value:
            found.append(Binding(name=key, value=value))
        elif kind is dict and value:
            found += [places.make_binding(f"{key}.{sub}", item, names) for sub, item in value.items()]
        else:
            found.append(places.make_binding(key, value, names))
    return tuple(found)


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
    for role, path in plan.prompts:
        found = path(raw)
        for words in found if type(found) is list else [found]:
            if type(words) is str and words:
                refs = tuple(
                    ref for ref in places.in_text(words, names) if ref.variable is None or "\x00" not in ref.variable
                )
                prompts.append(Prompt(text=words, role=role, refs=refs))
    return prompts


def repeat_of(plan: Plan, raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> Repeat | None:
    """How a loop goes round, or None for other steps."""
    if plan.kind != "loop":
        return None
    get = plan.get
    listed = get["items"](raw) if "items" in get else None
    items = as_text(listed)
    count = len(listed) if isinstance(listed, list) else None
    until = as_text(get["until"](raw)) if "until" in get else ""
    refs: tuple[Ref, ...] = places.in_text(items, names) + places.in_text(until, names)
    return Repeat(
        items=", ".join(map(as_text, listed)) if isinstance(listed, list) else items or None,
        count=count,
        until=until or None,
        cap=as_whole_number(get["cap"](raw)) if "cap" in get else None,
        refs=refs,
    )
