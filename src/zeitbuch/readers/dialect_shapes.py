# The two ways in which steps stand in an export: a flat list (linked by records, an adjacency object or pointers in
# the steps), and a nested tree in execution order with branches, bodies and error handlers.
"""Shapes: how the steps of an export hang together."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.core.model import Link, LinkRole, Outcome

from .dialect import Dialect
from .dialect_flow import Draft, StepReader
from .dialect_links import Links
from .dialect_plan import Plans, inputs_of, schedule_of
from .paths import Claims, claim, getter, leftover, text, whole
from .query import Query, escaped


class Loose(NamedTuple):
    """An arrow that has left a step and not yet arrived."""

    source: str
    role: LinkRole = "next"
    label: str = ""
    condition: str = ""
    after: tuple[Outcome, ...] = ()


class Triggers:
    """Reads triggers that stand apart from the steps."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        rule = dialect.trigger
        self.rule = rule
        self.steps = steps
        if rule is None:
            return
        claimed: Claims = {}
        for path in (rule.id, rule.name, rule.operation, rule.starts, rule.connection, rule.condition):
            claim(claimed, path)
        self.query = Query(rule.at)
        self.plans = Plans(dialect, dialect.step, rule.settings, claimed)
        self.get = {
            n: getter(getattr(rule, n)) for n in ("id", "name", "operation", "starts", "connection", "condition")
        }
        self.settings = getter("" if rule.settings == "." else rule.settings)

    def read(self, raw: dict[str, Any], draft: Draft) -> list[tuple[str, str]]:
        """Adds the triggers to the draft; returns (trigger id, id of the step it starts or empty)."""
        from zeitbuch.core.model import Trigger

        starts: list[tuple[str, str]] = []
        if self.rule is None:
            return starts
        get = self.get
        for at, (pointer, item) in enumerate(self.query.find(raw)):
            if not isinstance(item, dict):
                continue
            operation = text(get["operation"](item))
            plan = self.plans.of(operation)
            trigger_id = text(get["id"](item)) or (f"start-{at + 1}" if at else "start")
            fields = plan.get
            draft.triggers.append(
                Trigger(
                    id=trigger_id,
                    kind=plan.rule.trigger or "event",
                    name=text(get["name"](item)),
                    operation=operation,
                    schedule=schedule_of(plan, item),
                    event=text(fields["event"](item)) if "event" in fields else "",
                    condition=text(get["condition"](item)) or (text(fields["condition"](item)) if "condition" in fields else ""),
                    batch=whole(fields["batch"](item)) if "batch" in fields else None,
                    connection=text(get["connection"](item)) or None,
                    inputs=inputs_of(plan, item if plan.all_inputs else self.settings(item), self.steps.places, draft.names),
                    unread={} if plan.all_inputs else leftover(item, plan.outside),
                    origin=draft.origin(pointer),
                )
            )  # fmt: skip
            draft.names.setdefault("\x00trigger", trigger_id)
            starts.append((trigger_id, text(get["starts"](item))))
        return starts


class Flat:
    """A flat list of steps; how they are linked is in dialect_links.py."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        self.steps = steps
        self.query = Query(dialect.step.at)
        self.triggers = Triggers(dialect, steps)
        self.links = Links(dialect, steps)

    def read(self, raw: dict[str, Any], draft: Draft) -> None:
        """Fills the draft with the triggers, steps and links of one flow."""
        steps = self.steps
        names = draft.names
        found = [(p, s, steps.plan(s)) for p, s in self.query.find(raw) if type(s) is dict]
        for _, item, plan in found:
            step_id, name = steps.identity(item)
            names.setdefault(step_id, step_id)
            names.setdefault(name, step_id)
            if plan.rule.trigger is not None:
                names.setdefault("\x00trigger", step_id)
        starts = self.triggers.read(raw, draft)
        for pointer, item, plan in found:
            if plan.rule.trigger is not None:
                draft.triggers.append(steps.trigger(item, pointer, draft, plan))
            else:
                step = steps.step(item, pointer, draft, plan, None)
                draft.steps.append(step)
                if plan.cases is not None and not steps.outline:
                    draft.cases[step.id] = steps.cases(item, plan)
        for trigger_id, target in starts:
            if target:
                draft.links.append(Link(source=trigger_id, target=names.get(target, target)))
        self.links.read(raw, draft, [(p, item) for p, item, _ in found])


class Tree:
    """Steps nested in execution order."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        assert dialect.tree is not None
        self.steps = steps
        self.rule = dialect.tree
        self.at = dialect.step.at.removesuffix("[*]")
        self.query = Query(self.at)
        self.triggers = Triggers(dialect, steps)
        self.branch_claims: Claims = {}
        for path in (self.rule.branch_steps, self.rule.branch_label, self.rule.branch_condition, self.rule.otherwise):
            claim(self.branch_claims, path)

    def read(self, raw: dict[str, Any], draft: Draft) -> None:
        """Fills the draft with the triggers, steps and links of one flow."""
        tops = [(p, v) for p, v in self.query.find(raw) if isinstance(v, list)]
        for _, top in tops:
            self._names(top, draft)
        starts = self.triggers.read(raw, draft)
        loose = [Loose(trigger_id) for trigger_id, _ in starts]
        for pointer, top in tops:
            self._sequence(top, pointer, draft, None, loose)

    def _below(self, item: dict[str, Any]) -> list[tuple[str, list[Any]]]:
        rule = self.rule
        lists: list[tuple[str, list[Any]]] = []
        for key in (rule.body, rule.handler, rule.attached):
            inner = item.get(key) if key else None
            if isinstance(inner, list):
                lists.append((key, inner))
        branches = item.get(rule.branches) if rule.branches else None
        for at, branch in enumerate(branches if isinstance(branches, list) else []):
            inner = branch.get(rule.branch_steps) if isinstance(branch, dict) else None
            if isinstance(inner, list):
                lists.append((f"{rule.branches}/{at}/{rule.branch_steps}", inner))
        return lists

    def _names(self, items: list[Any], draft: Draft) -> None:
        for item in items:
            if isinstance(item, dict):
                step_id, name = self.steps.identity(item)
                draft.names.setdefault(step_id, step_id)
                draft.names.setdefault(name, step_id)
                for _, inner in self._below(item):
                    self._names(inner, draft)

    def _sequence(
        self, items: list[Any], pointer: str, draft: Draft, scope: str | None, loose: list[Loose]
    ) -> list[Loose]:
        """Reads steps that run one after the other; returns the arrows that leave the last of them."""
        for at, item in enumerate(items):
            if not isinstance(item, dict):
                continue
            here = f"{pointer}/{at}"
            plan = self.steps.plan(item)
            if plan.rule.trigger is not None:
                trigger = self.steps.trigger(item, here, draft, plan)
                draft.names.setdefault("\x00trigger", trigger.id)
                draft.triggers.append(trigger)
                loose = [*loose, Loose(trigger.id)]
                continue
            step = self.steps.step(item, here, draft, plan, scope)
            draft.steps.append(step)
            for a in loose:
                draft.links.append(
                    Link(source=a.source, target=step.id, role=a.role, label=a.label, condition=a.condition,
                         refs=self.steps.places.in_text(a.condition, draft.names), after=a.after, origin=draft.origin(here))
                )  # fmt: skip
            loose = self._inside(item, here, draft, step.id, step.kind, scope)
        return loose

    def _inside(
        self, item: dict[str, Any], here: str, draft: Draft, step_id: str, kind: str, scope: str | None
    ) -> list[Loose]:
        rule = self.rule
        out: list[Loose] = [] if kind == "end" else [Loose(step_id)]
        body = item.get(rule.body) if rule.body else None
        if isinstance(body, list):
            self._sequence(body, f"{here}/{escaped(rule.body)}", draft, step_id, [])
        branches = item.get(rule.branches) if rule.branches else None
        if isinstance(branches, list):
            out = self._branches(branches, f"{here}/{escaped(rule.branches)}", draft, step_id, kind, scope)
        attached = item.get(rule.attached) if rule.attached else None
        if isinstance(attached, list):
            for at, inner in enumerate(attached):
                if isinstance(inner, dict):
                    pointer = f"{here}/{escaped(rule.attached)}/{at}"
                    plan = self.steps.plan(inner)
                    helper = self.steps.step(inner, pointer, draft, plan, scope)
                    draft.steps.append(helper)
                    draft.links.append(
                        Link(source=helper.id, target=step_id, role="attach", origin=draft.origin(pointer))
                    )
        handler = item.get(rule.handler) if rule.handler else None
        if isinstance(handler, list) and handler:
            caught = self._sequence(
                handler, f"{here}/{escaped(rule.handler)}", draft, scope, [Loose(step_id, "error", "on error")]
            )
            if rule.handler_resumes:
                out = out + caught
        return out

    def _branches(
        self, branches: list[Any], pointer: str, draft: Draft, step_id: str, kind: str, scope: str | None
    ) -> list[Loose]:
        rule = self.rule
        together = kind == "parallel"
        out: list[Loose] = [Loose(step_id)] if together else []
        for at, branch in enumerate(branches):
            if not isinstance(branch, dict):
                continue
            named = text(branch.get(rule.branch_label)) if rule.branch_label else ""
            condition = text(branch.get(rule.branch_condition)) if rule.branch_condition else ""
            otherwise = bool(rule.otherwise) and branch.get(rule.otherwise) is True
            label = named or condition or ("otherwise" if otherwise else f"branch {at + 1}")
            items = branch.get(rule.branch_steps)
            inside = f"{pointer}/{at}/{escaped(rule.branch_steps)}"
            steps = items if isinstance(items, list) else []
            if together:
                # A link from a scope to a step inside it only names the branch that begins there.
                entry = [Loose(step_id, "case", named, condition)] if named or condition else []
                self._sequence(steps, inside, draft, step_id, entry)
            else:
                out += self._sequence(steps, inside, draft, scope, [Loose(step_id, "case", label, condition)])
            rest = leftover(branch, self.branch_claims)
            if rest:
                draft.lost.append(rest)
        return out
