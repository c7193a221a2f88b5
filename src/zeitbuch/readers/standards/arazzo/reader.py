# Arazzo 1.0 and 1.1 (OpenAPI Initiative), YAML or JSON -> a flow for each workflow. Steps run in order; success and failure
# actions lead elsewhere, repeat or end; outputs of steps are the lineage.
"""Reading Arazzo descriptions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Binding,
    Connection,
    Content,
    Effect,
    Flow,
    Link,
    Origin,
    Step,
    StepKind,
    Trigger,
    Variable,
)
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS
from zeitbuch.readers.input.views import View, noise_below

from .actions import ActionReader, Retries
from .parts import Components, Expressions, local_id

# Arazzo 1.1, "Step Object": a step at a channel of an event-driven interface sends a message or waits for one.
_CHANNEL: dict[str, tuple[StepKind, Effect]] = {"send": ("send", "send"), "receive": ("wait", "none")}


def recognises(document: Any) -> bool:
    """Whether a document says that it is Arazzo."""
    return (
        isinstance(document, dict)
        and isinstance(document.get("arazzo"), str)
        and isinstance(document.get("workflows"), list)
    )


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """One flow for each workflow. What stands around them and is not understood goes with the first."""
    whole = View(document)
    whole.expect("arazzo", "1.0.", "1.1.")  # the version of the standard says nothing about the workflows
    listed = whole.views("workflows")
    shared = _Shared(whole, Components(whole), {name for workflow in listed for name in _called_by(workflow.value)})
    read = [_Workflow(shared, workflow, base).read_flow() for workflow in listed]
    around = whole.rest()
    _drop_told(around, "workflows")
    beside = count - sum(count_values(workflow.value) for workflow in listed)
    for place, (flow, problems) in enumerate(read):
        if not place:
            content = Content(
                values=flow.content.values + beside,
                unread=flow.content.unread + (count_values(around) if around else 0),
            )
            flow = structs.replace(flow, around=around, noise=noise_below(whole), content=content)
        yield flow, problems


def _drop_told(unread: dict[str, Any], key: str) -> None:
    """Takes the objects out of a list that each told what was not read of them."""
    left = unread.pop(key, None)
    odd = [item for item in left if not isinstance(item, dict)] if isinstance(left, list) else left
    if odd:
        unread[key] = odd


def _called_by(workflow: dict[str, Any]) -> Iterator[str]:
    """The workflows that the steps and actions of one call."""
    steps = _only_objects(workflow.get("steps"))
    actions = [*_only_objects(workflow.get("successActions")), *_only_objects(workflow.get("failureActions"))]
    for step in steps:
        actions += [step, *_only_objects(step.get("onSuccess")), *_only_objects(step.get("onFailure"))]
    for action in actions:
        if action.get("workflowId"):
            yield local_id(action["workflowId"])


def _only_objects(value: Any) -> list[dict[str, Any]]:
    return [item for item in value if isinstance(item, dict)] if isinstance(value, list) else []


class _Shared(NamedTuple):
    """What all workflows of a document share."""

    document: View
    components: Components
    called: set[str]


class _Workflow:
    """Reads one workflow."""

    def __init__(self, shared: _Shared, workflow: View, base: Origin) -> None:
        self.shared = shared
        self.workflow = workflow
        self.base = base
        self.pointer = workflow.pointer
        self.origin = base.at(workflow.pointer)
        self.steps: list[Step] = []
        self.views: dict[str, View] = {}
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.listed = workflow.views("steps")
        self.expressions = Expressions({step.text("stepId") for step in self.listed}, self.origin)

    def read_flow(self) -> tuple[Flow, list[Problem]]:
        """The workflow as a flow."""
        workflow = self.workflow
        key = workflow.text("workflowId") or self.pointer
        triggers = self._read_triggers(key)
        if self.listed:
            first = self.listed[0].text("stepId")
            self.links += [Link(source=trigger.id, target=first, origin=trigger.origin) for trigger in triggers]
        self._read_steps()
        info = self.shared.document.view("info")
        variables = self._read_variables()
        connections = self._read_connections()
        name, description = workflow.text("summary"), workflow.text("description")
        steps = tuple(
            structs.replace(step, unread=rest) if (view := self.views.get(step.id)) and (rest := view.rest()) else step
            for step in self.steps
        )
        unread = workflow.rest()
        _drop_told(unread, "steps")
        missed = [unread, *[step.unread for step in steps], *[connection.unread for connection in connections]]
        components = self.shared.components
        problems = [*self.problems, *components.problems, *self.expressions.missing.values()]
        components.problems = []
        flow = Flow(
            id=key,
            name=name or key,
            description=description,
            folder=info.text("title"),
            version=info.text("version"),
            triggers=tuple(triggers),
            steps=steps,
            links=tuple(self.links),
            connections=connections,
            variables=variables,
            unread=unread,
            format="arazzo",
            content=Content(values=count_values(workflow.value), unread=sum(map(count_values, filter(None, missed)))),
            origin=self.origin,
        )
        return flow, problems

    def _read_connections(self) -> tuple[Connection, ...]:
        found = []
        for source in self.shared.document.views("sourceDescriptions"):
            name, url, kind = source.text("name"), source.text("url"), source.text("type")
            found.append(Connection(id=name, name=url, service=kind or "openapi", unread=source.rest()))
            source.mark(*source.value)  # the rest goes with the connection
        return tuple(found)

    def _read_variables(self) -> tuple[Variable, ...]:
        variables = self._read_inputs()
        outputs = self.workflow.view("outputs")
        variables += [Variable(name=f"outputs.{name}", value=outputs.take(name)) for name in outputs.value]
        return tuple(variables)

    def _read_inputs(self) -> list[Variable]:
        """The inputs of the workflow: each its schema, and whether it is required (JSON Schema, `required`)."""
        schema = self.shared.components.resolve(self.workflow.view("inputs"), "inputs", self.origin)
        if schema.peek("type") == "object":
            schema.noise("type")
        properties = schema.view("properties")
        needed = schema.peek("required")
        required = [name for name in needed if isinstance(name, str)] if isinstance(needed, list) else []
        if isinstance(needed, list) and len(required) == len(needed) and set(required) <= properties.value.keys():
            schema.mark("required")
        return [
            Variable(
                name=f"inputs.{name}", value=properties.take(name), description="required" if name in required else ""
            )
            for name in properties.value
        ]

    def _read_triggers(self, key: str) -> list[Trigger]:
        found = [
            Trigger(id=f"after.{local_id(item)}", kind="event", operation="dependsOn", event=f"{local_id(item)} has run", origin=self.origin)
            for item in self.workflow.texts("dependsOn")
        ]  # fmt: skip
        if key in self.shared.called:
            found.append(Trigger(id="called", kind="call", operation="workflowId", origin=self.origin))
        return found or [Trigger(id="start", kind="manual", operation="workflow", origin=self.origin)]

    # -- steps --------------------------------------------------------------------------------------------------------

    def _read_steps(self) -> None:
        ids = [step.text("stepId") for step in self.listed]
        for place, step in enumerate(self.listed):
            self._read_step(step, ids[place + 1] if place + 1 < len(ids) else None)

    def _read_step(self, step: View, after: str | None) -> None:
        key, origin = step.text("stepId"), self.base.at(step.pointer)
        self.views[key] = step
        named = next(
            (name for name in ("operationId", "operationPath", "workflowId", "channelPath") if name in step), ""
        )
        operation = step.text(named)
        kind, effect = self._kind_of(step, named, operation)
        parts = operation.split(".")
        source = parts[1] if operation.startswith("$sourceDescriptions.") and len(parts) > 2 else None
        failures = self._actions_of(step, "onFailure", "failureActions")
        retries = Retries(failures, self.expressions)
        actions = ActionReader(key, step.pointer, self.base, self.expressions)
        self.steps.append(
            Step(
                id=key, kind=kind, name=key, operation=operation, effect=effect, connection=source,
                calls=local_id(operation) if named == "workflowId" else None, retry=retries.retry,
                inputs=(*self._inputs_of(step), *retries.inputs), note=step.text("description"), origin=origin,
            )
        )  # fmt: skip
        actions.read_actions(self._actions_of(step, "onSuccess", "successActions"), after, "next")
        actions.read_actions(retries.others, None, "error")
        self.steps += actions.steps
        self.links += actions.links
        self.problems += actions.problems

    def _kind_of(self, step: View, named: str, operation: str) -> tuple[StepKind, Effect]:
        if named == "workflowId":
            return "subflow", "none"
        if named == "channelPath" or step.peek("action") in _CHANNEL:
            return _CHANNEL.get(str(step.peek("action")), ("other", "none"))
        method = operation.rpartition("/")[2].lower() if named == "operationPath" else ""
        return "http" if operation else "other", METHOD_EFFECTS.get(method, "none")

    def _actions_of(self, step: View, own: str, common: str) -> list[View]:
        """The actions of a step, else those of the workflow; references resolved."""
        given = step.views(own) or self.workflow.views(common)
        origin = self.base.at(step.pointer)
        return [action for one in given if (action := self.shared.components.resolve(one, common, origin))]

    def _inputs_of(self, step: View) -> list[Binding]:
        bind = self.expressions.make_binding
        given = [*self.workflow.views("parameters"), *step.views("parameters")]
        inputs = [self._parameter(parameter, step) for parameter in given]
        body = step.view("requestBody")
        inputs += [bind(f"body.{key}", body.take(key)) for key in body.value]
        for place, criterion in enumerate(step.views("successCriteria")):
            whole = dict(criterion.value)
            criterion.mark(*whole)  # it becomes an input, all of it
            inputs.append(bind(f"success.{place + 1}", whole["condition"] if set(whole) == {"condition"} else whole))
        outputs = step.view("outputs")
        inputs += [bind(f"outputs.{key}", outputs.take(key)) for key in outputs.value]
        # Arazzo 1.1: what a step at a channel says beside its path.
        for key in ("action", "correlationId", "timeout", "dependsOn"):
            inputs += [bind(key, step.take(key))] if key in step else []
        return inputs

    def _parameter(self, given: View, step: View) -> Binding:
        value = given.take("value")
        parameter = self.shared.components.resolve(given, "parameters", self.base.at(step.pointer))
        if value is None:
            value = parameter.take("value")
        name = ".".join(part for part in (parameter.text("in"), parameter.text("name")) if part)
        return self.expressions.make_binding(name or "parameter", value)
