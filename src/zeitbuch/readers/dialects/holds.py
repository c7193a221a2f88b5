# Where steps stand inside a step: the compiled rule finds the groups of steps, and says what of them is no step and no case.
"""Steps inside steps, as written."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import translate
from typing import Any, NamedTuple

from zeitbuch.readers.input.pointers import escape_key

from .draft import Draft
from .field_checks import FORMS, WORDS, make_field
from .paths import Claims, Getter, as_flag, as_text, claim_paths, make_getter, path_keys
from .record_forms import RecordForms
from .rules import KEY, HoldRule
from .step_plan import Plan
from .steps import StepReader, with_key

Item = tuple[str, dict[str, Any]]  # pointer, step


class Branch(NamedTuple):
    """One group of steps inside a step, as written."""

    label: str
    condition: str
    otherwise: bool
    items: list[Item]


class Hold:
    """One compiled rule for steps inside steps."""

    def __init__(self, rule: HoldRule, steps: StepReader) -> None:
        self.rule = rule
        self.steps = steps
        self.fits = re.compile(translate(rule.operation)).match
        self.at = make_getter(rule.at)
        self.first = path_keys(rule.at)[0]
        self.where = "".join(f"/{escape_key(part)}" for part in path_keys(rule.at))
        whole = rule.steps in ("", ".")
        self.inner: Getter | None = None if whole else make_getter(rule.steps)
        self.inner_where = "" if whole else "".join(f"/{escape_key(part)}" for part in path_keys(rule.steps))
        self.label, self.condition, self.otherwise = (
            make_getter(rule.label),
            make_getter(rule.condition),
            make_getter(rule.otherwise),
        )
        self.claims: Claims = {}
        for path in (rule.steps, rule.label, rule.condition, rule.otherwise):
            claim_paths(self.claims, path)
        words = [make_field(path, WORDS) for path in (rule.label, rule.condition) if path]
        fields = [*words, make_field(rule.otherwise, FORMS["enabled"])] if rule.otherwise else words
        self.keyed = KEY in self.claims
        self.forms = RecordForms(self.claims, fields)

    def find_branches(
        self, raw: dict[str, Any], pointer: str, lost: list[dict[str, Any]] | None = None
    ) -> list[Branch]:
        """The groups of steps that the rule finds in a step; what is not understood of a branch goes to ``lost``."""
        rule = self.rule
        value = self.at(raw)
        here = pointer + self.where
        if value is None:
            return []
        if not rule.steps:
            return [Branch(rule.named, "", False, self._items_of(value, here, lost))]
        found: list[Branch] = []
        pairs: Iterator[tuple[str, Any]] = iter(())
        if type(value) is list:
            pairs = iter([(str(index), item) for index, item in enumerate(value)])
        elif type(value) is dict:
            pairs = iter(value.items())
        elif lost is not None:
            lost.append({here: value})
        for key, branch in pairs:
            self._read_branch(lost, here, key, rule, value, found, branch)
        return found

    def _read_branch(
        self,
        lost: list[dict[str, Any]] | None,
        here: str,
        key: str,
        rule: HoldRule,
        value: Any,
        found: list[Branch],
        branch: Any,
    ) -> None:
        place = f"{here}/{escape_key(key)}"
        if self.inner is None:
            name = rule.named or (key if type(value) is dict else "")
            found.append(Branch(name, "", False, self._items_of(branch, place, lost)))
        elif type(branch) is dict:
            whole = with_key(place, branch) if self.keyed else branch
            label = as_text(self.label(whole)) or rule.named or (key if type(value) is dict else "")
            otherwise = bool(rule.otherwise) and as_flag(self.otherwise(whole)) is True
            items = self._items_of(self.inner(branch), place + self.inner_where, lost)
            found.append(Branch(label, as_text(self.condition(whole)), otherwise, items))
            rest = self.forms.rest_of(whole)
            if rest and lost is not None:
                lost.append(rest)
        elif branch is not None and lost is not None:
            lost.append({place: branch})

    def _items_of(self, value: Any, pointer: str, lost: list[dict[str, Any]] | None) -> list[Item]:
        if type(value) is dict and as_text(self.steps.operation(value)):
            return [(pointer, value)]  # a single step, not in a list
        found: list[Item] = []
        listed = enumerate(value) if type(value) is list else value.items() if type(value) is dict else [("", value)]
        for key, item in listed:
            position = f"{pointer}/{escape_key(str(key))}"
            if type(item) is dict:
                found.append((position, self.steps.with_own_paths(position, item)))
            elif item is not None and lost is not None:
                lost.append({position: item})
        return found


def keep_unused(draft: Draft, hold: Hold, plan: Plan, role: str, named: str, condition: str, otherwise: bool) -> None:
    """What is said of a group of steps that becomes no case: a body, helpers or a handler have neither label nor condition."""
    if role == "case" and plan.kind == "parallel" and (named or condition):
        return
    said = {"label": named if named != hold.rule.named else "", "condition": condition, "otherwise": otherwise}
    unused = {key: value for key, value in said.items() if value}
    if unused:
        draft.lost.append(unused)
