# One action of a state -> one step: a function, an event, or another workflow, as the document defines them.
"""Actions of Serverless Workflow 0.8."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Effect, Origin, Retry, Step, StepKind
from zeitbuch.readers.input.views import View
from zeitbuch.readers.standards.serverless.tasks import make_binding

# Specification 0.8, "Function Definition": what a type of function does. A custom one is whatever its engine makes of it.
_FUNCTIONS: dict[str, StepKind] = {
    "rest": "http", "rpc": "http", "graphql": "http", "odata": "http", "asyncapi": "send", "expression": "shape", "custom": "tool",
}  # fmt: skip
_PRODUCES = ("produceEventRef", "triggerEventRef")


class Definitions:
    """What the document defines for all its states: functions, events, retries, by name. What is named counts as read."""

    def __init__(self, document: View, base: Origin) -> None:
        self.base = base
        self.named = {
            part: {held.text("name"): held for held in document.views(part)}
            for part in ("functions", "events", "retries")
        }
        self.problems: list[Problem] = []
        self.missing: set[tuple[str, str]] = set()

    def look_up(self, part: str, name: str, pointer: str) -> View:
        """A definition; an empty one when there is none, which is told once."""
        held = self.named[part].get(name)
        if held is not None:
            return held
        if name and (part, name) not in self.missing:
            self.missing.add((part, name))
            message = f"expected '{name}' among the {part} of the document, found none of that name"
            hint = "definitions in files of their own are not read; the name is kept"
            self.problems.append(Problem("reference-missing", "finding", message, self.base.at(pointer), hint))
        return View({})

    def event_inputs(self, name: str, pointer: str, prefix: str = "event") -> list[Binding]:
        """An event and what its definition says."""
        held = self.look_up("events", name, pointer)
        rest = [make_binding(f"{prefix}.{key}", held.take(key), None) for key in held.value if key != "name"]
        return [Binding(name=prefix, value=name), *rest]

    def retry_of(self, name: str, pointer: str) -> tuple[Retry | None, list[Binding]]:
        """A retry by its name, and what else its definition says."""
        held = self.look_up("retries", name, pointer)
        attempts = held.whole("maxAttempts")
        if attempts is None:
            given = held.value.get("maxAttempts")
            attempts = int(given) if isinstance(given, str) and given.isdecimal() and len(given) < 16 else None
            held.mark(*(["maxAttempts"] if attempts is not None else []))
        wait = held.duration("delay")
        rest = [make_binding(f"retry.{key}", held.take(key), None) for key in held.value if key not in held.taken]
        named = [Binding(name="retry", value=name)]
        return (Retry(attempts=attempts, wait=wait) if attempts is not None else None), [*named, *rest]


class Called(NamedTuple):
    """What an action calls."""

    kind: StepKind
    effect: Effect
    operation: str
    inputs: list[Binding]
    calls: str | None = None


def step_of_action(action: View, key: str, name: str, scope: str | None, shared: Definitions) -> Step:
    """The step of an action. Its own name, where it is not that of the step, is an input."""
    called = _called_by(action, shared)
    title = action.text("name")
    inputs = [Binding(name="action", value=title)] if title and title != name else []
    retry = None
    named = action.text("retryRef")
    if named:
        retry, more = shared.retry_of(named, action.pointer)
        inputs += more
    inputs += called.inputs
    inputs += [
        make_binding(f"sleep.{when}", action.view("sleep").take(when), None) for when in action.view("sleep").value
    ]
    for part in ("actionDataFilter", "nonRetryableErrors", "retryableErrors"):
        inputs += flattened(action, part)
    return Step(
        id=key, kind=called.kind, name=name or title or key, operation=called.operation, effect=called.effect, scope=scope,
        calls=called.calls, retry=retry, inputs=tuple(inputs), origin=shared.base.at(action.pointer),
    )  # fmt: skip


def flattened(view: View, key: str, prefix: str = "") -> list[Binding]:
    """A value as inputs: an object field by field, all else whole; nothing where it is not there."""
    name = prefix or key
    value = view.take(key)
    if isinstance(value, dict):
        return [make_binding(f"{name}.{inner}", item, None) for inner, item in value.items()]
    return [make_binding(name, value, None)] if value is not None else []


def _called_by(action: View, shared: Definitions) -> Called:
    if "functionRef" in action:
        return _function(action, shared)
    if "subFlowRef" in action:
        given = action.view("subFlowRef")
        called = action.text("subFlowRef") or given.text("workflowId")
        rest = [make_binding(f"subFlow.{key}", given.take(key), None) for key in given.value if key not in given.taken]
        return Called("subflow", "none", "subFlowRef", rest, called or None)
    if "eventRef" in action:
        return _event(action.view("eventRef"), shared)
    return Called("other", "none", "action", [])


def _function(action: View, shared: Definitions) -> Called:
    given = action.view("functionRef")
    name = action.text("functionRef") or given.text("refName")
    held = shared.look_up("functions", name, action.pointer)
    kind = str(held.peek("type") or "rest")
    about = [make_binding(f"function.{key}", held.take(key), None) for key in held.value if key != "name"]
    arguments = flattened(given, "arguments", "argument")
    rest = [make_binding(f"call.{key}", given.take(key), None) for key in given.value if key not in given.taken]
    sends = kind == "asyncapi" or "#mutation#" in str(held.peek("operation"))
    effect: Effect = "send" if kind == "asyncapi" else "write" if sends else "none"
    return Called(_FUNCTIONS.get(kind, "tool"), effect, f"function {name}", [*arguments, *about, *rest])


def _event(given: View, shared: Definitions) -> Called:
    inputs: list[Binding] = []
    produced = next((given.text(key) for key in _PRODUCES if given.peek(key)), "")
    heard = next((given.text(key) for key in ("consumeEventRef", "resultEventRef") if given.peek(key)), "")
    if produced:
        inputs += shared.event_inputs(produced, given.pointer)
    if heard:
        inputs += shared.event_inputs(heard, given.pointer, "answer")
    inputs += [make_binding(f"event {key}", given.take(key), None) for key in given.value if key not in given.taken]
    return Called("send" if produced else "wait", "send" if produced else "none", "eventRef", inputs)
