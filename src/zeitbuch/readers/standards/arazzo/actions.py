# Where success and failure actions of an Arazzo step lead: on, to a step, to another workflow, to the end, or back to a new try.
"""Actions of a step as arrows."""

from __future__ import annotations

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Link, LinkRole, Origin, Outcome, Retry, Step, StepKind
from zeitbuch.readers.input.pointers import escape_key
from zeitbuch.readers.input.views import View

from .parts import Expressions, condition_words, local_id


class Retries:
    """The retry that the failure actions of a step ask for, and what else they say of it. A second one stays unread."""

    def __init__(self, actions: list[View], expressions: Expressions) -> None:
        self.retry: Retry | None = None
        self.inputs: list[Binding] = []
        self.others = [action for action in actions if action.peek("type") != "retry"]
        first = next((action for action in actions if action.peek("type") == "retry"), None)
        if first is None:
            return
        first.take("type")
        # Arazzo 1.0.1, "Failure Action Object": a retry without a limit is tried once.
        attempts = first.whole("retryLimit")
        self.retry = Retry(attempts=1 if attempts is None else attempts, wait=first.number("retryAfter"))
        for key, words in (("name", first.text("name")), ("when", condition_words(first))):
            self.inputs += [expressions.make_binding(f"retry.{key}", words)] if words else []


class ActionReader:
    """Reads the actions of one step; makes links, and steps for decisions, ends and calls."""

    def __init__(self, key: str, pointer: str, base: Origin, expressions: Expressions) -> None:
        self.key = key
        self.pointer = pointer
        self.origin = base.at(pointer)
        self.base = base
        self.expressions = expressions
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.problems: list[Problem] = []

    def read_actions(self, actions: list[View], after: str | None, role: LinkRole) -> None:
        """The arrows of success or failure actions; without any the next step follows."""
        failed: tuple[Outcome, ...] = ("failure",) if role == "error" else ()
        conditional = [action for action in actions if action.peek("criteria")]
        source, link_role = self.key, role
        if role == "next" and conditional:
            source, link_role = self._add_decision(), "case"
        for place, action in enumerate(actions):
            self._add_arrow(action, place, source, link_role, failed)
        if role == "next" and after is not None and len(conditional) == len(actions):
            label = "otherwise" if link_role == "case" else ""
            self.links.append(
                Link(
                    source=source, target=after, role=link_role, label=label, otherwise=bool(label), origin=self.origin
                )
            )

    def _add_decision(self) -> str:
        source = f"{self.key}.then"
        origin = self.base.at(f"{self.pointer}/onSuccess")
        self.steps.append(
            Step(id=source, kind="decide", name=f"after {self.key}", operation="onSuccess", origin=origin)
        )
        self.links.append(Link(source=self.key, target=source, origin=self.origin))
        return source

    def _add_arrow(self, action: View, place: int, source: str, role: LinkRole, failed: tuple[Outcome, ...]) -> None:
        target = self._target_of(action, place)
        if target is None:
            return
        label, words = action.text("name"), condition_words(action)
        self.links.append(
            Link(source=source, target=target, role=role, label=label, condition=words, refs=self.expressions.refs_in(words),
                 after=failed, origin=self.origin)
        )  # fmt: skip

    def _target_of(self, action: View, place: int) -> str | None:
        name = f"{self.key}.{escape_key(str(action.peek('name') or place + 1))}"
        if action.peek("type") == "goto" and action.peek("stepId"):
            target = str(action.peek("stepId"))
            if target not in self.expressions.step_ids:
                message = f"expected a step of the workflow after goto, found '{target}'"
                hint = "the link is left out and listed under unread parts"
                self.problems.append(Problem("link-end", "finding", message, self.origin, hint))
                return None
            action.mark("type", "stepId")
            return target
        called = action.text("workflowId")
        kind: StepKind = "subflow" if called else "end"
        self.steps.append(
            Step(
                id=name, kind=kind, name=str(action.peek("name") or "end"), operation=f"action {action.text('type') or 'end'}",
                calls=local_id(called) if called else None, origin=self.origin,
            )
        )  # fmt: skip
        return name
