# Steps within steps: a tree in execution order, or levels in which every step names its predecessors. Bodies,
# branches, error handlers and helpers stand inside the step they belong to, in the same shape again.
"""The nested shapes of exports."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import translate
from typing import Any, NamedTuple

from zeitbuch.core.model import Link, Outcome

from .arrows import Loose
from .dialect import Dialect, HoldRule
from .dialect_flow import Draft, StepReader, with_key
from .dialect_links import Links
from .dialect_plan import Plan
from .dialect_shapes import Triggers
from .paths import Claims, Getter, claim, getter, leftover, parts, text
from .query import Query, escaped

Item = tuple[str, dict[str, Any]]  # pointer, step


class Branch(NamedTuple):
    """One group of steps inside a step."""

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
        self.at = getter(rule.at)
        self.where = "".join(f"/{escaped(p)}" for p in parts(rule.at))
        whole = rule.steps in ("", ".")
        self.inner: Getter | None = None if whole else getter(rule.steps)
        self.inner_where = "" if whole else "".join(f"/{escaped(p)}" for p in parts(rule.steps))
        self.label, self.condition, self.otherwise = getter(rule.label), getter(rule.condition), getter(rule.otherwise)
        self.claims: Claims = {}
        for path in (rule.steps, rule.label, rule.condition, rule.otherwise):
            claim(self.claims, path)

    def branches(self, raw: dict[str, Any], pointer: str, lost: list[dict[str, Any]] | None = None) -> list[Branch]:
        """The groups of steps that the rule finds in a step; what is not understood of a branch goes to ``lost``."""
        rule = self.rule
        value = self.at(raw)
        here = pointer + self.where
        if not rule.steps:
            return [Branch(rule.named, "", False, list(self._items(value, here)))] if value is not None else []
        found: list[Branch] = []
        pairs: Iterator[tuple[str, Any]] = iter(())
        if type(value) is list:
            pairs = iter([(str(i), v) for i, v in enumerate(value)])
        elif type(value) is dict:
            pairs = iter(value.items())
        for key, branch in pairs:
            at = f"{here}/{escaped(key)}"
            if self.inner is None:
                name = rule.named or (key if type(value) is dict else "")
                found.append(Branch(name, "", False, list(self._items(branch, at))))
            elif type(branch) is dict:
                whole = with_key(at, branch)
                label = text(self.label(whole)) or rule.named
                otherwise = bool(rule.otherwise) and self.otherwise(whole) is True
                items = list(self._items(self.inner(branch), at + self.inner_where))
                found.append(Branch(label, text(self.condition(whole)), otherwise, items))
                rest = leftover(branch, self.claims) if lost is not None else {}
                if rest and lost is not None:
                    lost.append(rest)
        return found

    def _items(self, value: Any, pointer: str) -> Iterator[Item]:
        if type(value) is list:
            for place, item in enumerate(value):
                if type(item) is dict:
                    yield f"{pointer}/{place}", item
        elif type(value) is dict:
            if text(self.steps.operation(value)):
                yield pointer, value  # a single step, not in a list
                return
            for key, item in value.items():
                if type(item) is dict:
                    at = f"{pointer}/{escaped(key)}"
                    yield at, with_key(at, item) if self.steps.keyed else item


class Nested:
    """Steps nested in execution order, by predecessors, or with links written apart."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        self.steps = steps
        self.holds = [Hold(rule, steps) for rule in dialect.inside]
        self.query = Query(dialect.step.at)
        self.triggers = Triggers(dialect, steps)
        self.before = dialect.predecessors
        if self.before is not None:
            self.names_at = getter(self.before.at)
            self.source, self.outcome = getter(self.before.source), getter(self.before.outcome)
        apart = dialect.link is not None or dialect.adjacency is not None or bool(dialect.step.next or dialect.pointer)
        self.links = Links(dialect, steps) if apart and self.before is None else None

    def read(self, raw: dict[str, Any], draft: Draft) -> None:
        """Fills the draft with the triggers, steps and links of one flow."""
        top: dict[str, list[Item]] = {}
        for pointer, item in self.steps.found(self.query, raw):
            top.setdefault(pointer.rpartition("/")[0], []).append((pointer, item))
        every: list[Item] = []
        for items in top.values():
            self._names(items, draft, every)
        starts = self.triggers.read(raw, draft)
        entry = [Loose(trigger_id) for trigger_id, target in starts if not target]
        for trigger_id, target in starts:
            if target:
                draft.links.append(Link(source=trigger_id, target=draft.names.get(target, target)))
        for items in top.values():
            self._level(items, draft, None, entry)
        if self.links is not None:
            self.links.read(raw, draft, every)

    def _holds(self, plan: Plan, item: dict[str, Any]) -> list[Hold]:
        operation = text(self.steps.operation(item))
        return [h for h in self.holds if h.rule.operation == "*" or h.fits(operation)]

    def _names(self, items: list[Item], draft: Draft, every: list[Item]) -> None:
        every += items
        for pointer, item in items:
            step_id, name = self.steps.identity(item)
            draft.names.setdefault(step_id, step_id)
            draft.names.setdefault(name, step_id)
            plan = self.steps.plan(item)
            if plan.rule.trigger is not None:
                draft.names.setdefault("\x00trigger", step_id)
            for hold in self._holds(plan, item):
                for branch in hold.branches(item, pointer):
                    self._names(branch.items, draft, every)

    def _level(
        self, items: list[Item], draft: Draft, scope: str | None, entry: list[Loose], within: bool = False
    ) -> list[Loose]:
        """Reads the steps of one level; returns the arrows that leave its last steps."""
        if self.before is not None:
            return self._by_predecessors(items, draft, scope, entry)
        loose = entry
        for pointer, item in items:
            plan = self.steps.plan(item)
            if plan.rule.trigger is not None:
                loose = [*loose, *self._trigger(item, pointer, draft, plan)]
                continue
            step_id = self._step(item, pointer, draft, plan, scope)
            if self.links is None or within:
                self._arrive(loose, step_id, pointer, draft)
            loose = self._inside(item, pointer, draft, plan, step_id, scope)
            if self.links is not None:
                loose = []
        return loose

    def _trigger(self, item: dict[str, Any], pointer: str, draft: Draft, plan: Plan) -> list[Loose]:
        trigger = self.steps.trigger(item, pointer, draft, plan)
        draft.triggers.append(trigger)
        return [Loose(trigger.id)]

    def _step(self, item: dict[str, Any], pointer: str, draft: Draft, plan: Plan, scope: str | None) -> str:
        step = self.steps.step(item, pointer, draft, plan, scope)
        draft.steps.append(step)
        if plan.cases is not None and not self.steps.outline:
            draft.cases[step.id] = self.steps.cases(item, plan)
        return step.id

    def _arrive(self, loose: list[Loose], target: str, pointer: str, draft: Draft) -> None:
        for a in loose:
            draft.links.append(
                Link(source=a.source, target=target, role=a.role, label=a.label, condition=a.condition,
                     refs=self.steps.places.in_text(a.condition, draft.names), after=a.after, origin=draft.origin(pointer))
            )  # fmt: skip

    def _by_predecessors(self, items: list[Item], draft: Draft, scope: str | None, entry: list[Loose]) -> list[Loose]:
        ends: dict[str, list[Loose]] = {}
        waiting: list[tuple[str, str, dict[str, Any]]] = []
        for pointer, item in items:
            plan = self.steps.plan(item)
            if plan.rule.trigger is not None:
                trigger_id = self.steps.identity(item)[0]
                ends[trigger_id] = self._trigger(item, pointer, draft, plan)
                entry = []
                continue
            step_id = self._step(item, pointer, draft, plan, scope)
            ends[step_id] = self._inside(item, pointer, draft, plan, step_id, scope)
            waiting.append((step_id, pointer, item))
        followed: set[str] = set()
        named = {step_id: list(self._before(item)) for step_id, _, item in waiting}
        for step_id, pointer, _item in waiting:
            for name, after in named[step_id]:
                source = draft.names.get(name)
                if source is None:
                    self._nowhere(name, step_id, pointer, draft)
                    continue
                if not after or "success" in after:
                    followed.add(source)  # what only catches a failure leaves the way on open
                self._arrive(self._leaving(source, after, ends), step_id, pointer, draft)
            if not named[step_id]:
                self._arrive(entry or self._starts(ends, waiting), step_id, pointer, draft)
        return [a for step_id, left in ends.items() if step_id not in followed for a in left]

    def _starts(self, ends: dict[str, list[Loose]], waiting: list[tuple[str, str, dict[str, Any]]]) -> list[Loose]:
        """The arrows of triggers that stand among the steps."""
        steps = {step_id for step_id, _, _ in waiting}
        return [a for step_id, left in ends.items() if step_id not in steps for a in left]

    def _leaving(self, source: str, after: tuple[Outcome, ...], ends: dict[str, list[Loose]]) -> list[Loose]:
        if not after or after == ("success",):
            return ends.get(source, [Loose(source)])
        if "success" in after:
            return [a._replace(after=after) for a in ends.get(source, [Loose(source)])]
        return [Loose(source, "error", " or ".join(f"on {o}" for o in after), "", after)]

    def _before(self, item: dict[str, Any]) -> Iterator[tuple[str, tuple[Outcome, ...]]]:
        """The predecessors of a step, each with the outcomes after which the step runs."""
        value = self.names_at(item)
        if type(value) is dict and self.source(value) is None:
            for name, outcome in value.items():
                yield name, self._outcomes(outcome)
            return
        for entry in value if type(value) is list else [value]:
            if type(entry) is dict:
                name = text(self.source(entry))
                if name:
                    yield name, self._outcomes(self.outcome(entry))
            elif text(entry):
                yield text(entry), ()

    def _outcomes(self, value: Any) -> tuple[Outcome, ...]:
        assert self.before is not None
        found = [self.before.outcomes.get(text(v)) for v in (value if type(value) is list else [value])]
        order: tuple[Outcome, ...] = ("success", "failure", "timeout", "skip")
        return tuple(o for o in order if o in found)

    def _nowhere(self, name: str, step_id: str, pointer: str, draft: Draft) -> None:
        draft.problem(
            "link-end",
            f"expected a link between known steps, found '{name}' which no step of the flow has as its id or name",
            "the link is left out and listed under unread parts; mend it in the builder and export again",
            pointer,
        )
        draft.lost.append({"before": name, "to": step_id})

    def _inside(
        self, item: dict[str, Any], pointer: str, draft: Draft, plan: Plan, step_id: str, scope: str | None
    ) -> list[Loose]:
        """Reads what stands inside a step; returns the arrows that leave the step as a whole."""
        out: list[Loose] = [] if plan.kind == "end" else [Loose(step_id)]
        caught: list[Loose] = []
        branched: list[Loose] | None = None
        at = 0
        holds = self._holds(plan, item)
        for hold in holds:
            branches = hold.branches(item, pointer, draft.lost)
            role = hold.rule.role
            if role == "case" and plan.kind in ("loop", "guard", "group"):
                role = "body"
            for branch in branches:
                at += 1
                if role == "body" and plan.kind != "decide":
                    self._level(branch.items, draft, step_id, [])
                elif role in ("case", "body"):
                    if plan.kind == "parallel":
                        # A link from a scope to a step inside it only names the branch that begins there.
                        named = branch.label or branch.condition
                        inner = [Loose(step_id, "case", branch.label, branch.condition)] if named else []
                        self._level(branch.items, draft, step_id, inner, bool(named))
                    else:
                        label = (
                            branch.label or branch.condition or ("otherwise" if branch.otherwise else f"branch {at}")
                        )
                        inner = [Loose(step_id, "case", label, branch.condition)]
                        ends = self._level(branch.items, draft, scope, inner, True) if branch.items else inner
                        branched = [*(branched or []), *ends]
                elif role == "attach":
                    for here, helper in branch.items:
                        helper_plan = self.steps.plan(helper)
                        helper_id = self._step(helper, here, draft, helper_plan, scope)
                        self._inside(helper, here, draft, helper_plan, helper_id, scope)
                        draft.links.append(
                            Link(source=helper_id, target=step_id, role="attach", origin=draft.origin(here))
                        )
                elif branch.items:
                    left = self._level(branch.items, draft, scope, [Loose(step_id, "error", "on error")], True)
                    caught += left if hold.rule.resumes else []
        if plan.kind == "decide" and branched is not None and at == 1:
            # One named way that is written and one that is not: the other way goes on behind the step.
            missing = [h.rule.named for h in holds if h.rule.named and h.rule.role == "case" and h.at(item) is None]
            branched += [Loose(step_id, "case", missing[0])] if missing else []
        return [*(out if branched is None else branched), *caught]
