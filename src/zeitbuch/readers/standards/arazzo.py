# Arazzo 1.0 (OpenAPI Initiative), YAML or JSON -> a flow for each workflow. Steps run in order; success and failure
# actions lead elsewhere, repeat or end; outputs of steps are the lineage.
"""Reading Arazzo descriptions."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Binding,
    Connection,
    Content,
    Flow,
    Link,
    LinkRole,
    Origin,
    Outcome,
    Ref,
    Retry,
    Step,
    StepKind,
    Trigger,
    Variable,
)
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS, as_dict
from zeitbuch.readers.input.pointers import escape_key

# Arazzo 1.0.1, section 4.7 "Runtime Expressions"
_EXPRESSION = re.compile(
    r"\{?\$(?P<root>steps|inputs|outputs|workflows|sourceDescriptions|components|response|request|url|method|statusCode)"
    r"(?P<path>(?:\.[A-Za-z0-9_\-]+)*(?:#/[^\s\"'}]*)?)\}?"
)


def recognises(document: Any) -> bool:
    """Whether a document says that it is Arazzo."""
    return (
        isinstance(document, dict)
        and isinstance(document.get("arazzo"), str)
        and isinstance(document.get("workflows"), list)
    )


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """One flow for each workflow."""
    listed = [(index, item) for index, item in enumerate(document["workflows"]) if isinstance(item, dict)]
    called = {
        _local_id(first.get("workflowId"))
        for _, mapping in listed
        for first in _workflow_actions(mapping)
        if first.get("workflowId")
    }
    for place, workflow in listed:
        share = count if len(listed) == 1 else count_values(workflow)
        yield _Workflow(document, workflow, base, f"/workflows/{place}", called).read_flow(share)


def _local_id(name: Any) -> str:
    """A workflow id without the source it comes from."""
    return str(name).rpartition(".")[2] if str(name).startswith("$") else str(name)


def _workflow_actions(workflow: dict[str, Any]) -> Iterator[dict[str, Any]]:
    for step in _only_objects(workflow.get("steps")):
        yield step
        yield from _only_objects(step.get("onSuccess"))
        yield from _only_objects(step.get("onFailure"))
    yield from _only_objects(workflow.get("successActions"))
    yield from _only_objects(workflow.get("failureActions"))


def _only_objects(value: Any) -> list[dict[str, Any]]:
    return [item for item in value if isinstance(item, dict)] if isinstance(value, list) else []


class _Workflow:
    """Reads one workflow."""

    def __init__(
        self, document: dict[str, Any], workflow: dict[str, Any], base: Origin, pointer: str, called: set[str]
    ) -> None:
        self.document = document
        self.workflow = workflow
        self.base = base
        self.pointer = pointer
        self.called = called
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.ids = {str(mapping.get("stepId")) for mapping in _only_objects(workflow.get("steps"))}

    def read_flow(self, count: int) -> tuple[Flow, list[Problem]]:
        """The workflow as a flow."""
        document, workflow = self.document, self.workflow
        key = str(workflow.get("workflowId") or self.pointer)
        steps = _only_objects(workflow.get("steps"))
        triggers = self._read_steps(key, steps)
        known = {
            "workflowId", "summary", "description", "inputs", "dependsOn", "steps", "successActions", "failureActions", "outputs", "parameters",
        }  # fmt: skip
        unread: dict[str, Any] = {key: value for key, value in workflow.items() if key not in known}
        info = document.get("info") if isinstance(document.get("info"), dict) else {}
        variables = self._read_variables(workflow)
        flow = Flow(
            id=key,
            name=str(workflow.get("summary") or key),
            description=str(workflow.get("description") or ""),
            folder=str(as_dict(info).get("title") or ""),
            version=str(as_dict(info).get("version") or ""),
            triggers=tuple(triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            connections=tuple(
                Connection(
                    id=str(mapping.get("name", "")),
                    name=str(mapping.get("url", "")),
                    service=str(mapping.get("type", "openapi")),
                )
                for mapping in _only_objects(document.get("sourceDescriptions"))
            ),
            variables=tuple(variables),
            unread=unread,
            format="arazzo",
            content=Content(
                values=count,
                unread=(count_values(unread) if unread else 0)
                + sum(count_values(step.unread) for step in self.steps if step.unread),
            ),
            origin=self.base.at(self.pointer),
        )
        return flow, self.problems

    def _read_steps(self, key: str, steps: list[dict[str, Any]]) -> list[Trigger]:
        triggers = self._read_triggers(key)
        for trigger in triggers:
            if steps:
                self.links.append(Link(source=trigger.id, target=str(steps[0].get("stepId")), origin=trigger.origin))
        for place, step in enumerate(steps):
            after = str(steps[place + 1].get("stepId")) if place + 1 < len(steps) else None
            self._read_step(step, after, f"{self.pointer}/steps/{place}")
        return triggers

    def _read_variables(self, workflow: dict[str, Any]) -> list[Variable]:
        variables = [Variable(name=f"inputs.{name}", value=item) for name, item in self._read_inputs().items()]
        variables += [
            Variable(name=f"outputs.{name}", value=value) for name, value in as_dict(workflow.get("outputs")).items()
        ]
        return variables

    def _read_inputs(self) -> dict[str, Any]:
        schema = self._resolve_reusable(self.workflow.get("inputs"), "inputs")
        return as_dict(as_dict(schema).get("properties"))

    def _read_triggers(self, key: str) -> list[Trigger]:
        origin = self.base.at(self.pointer)
        waits = self.workflow.get("dependsOn")
        found = [
            Trigger(
                id=f"after.{_local_id(item)}",
                kind="event",
                operation="dependsOn",
                event=f"{_local_id(item)} has run",
                origin=origin,
            )
            for item in (waits if isinstance(waits, list) else [])
        ]
        if key in self.called:
            found.append(Trigger(id="called", kind="call", operation="workflowId", origin=origin))
        return found or [Trigger(id="start", kind="manual", operation="workflow", origin=origin)]

    def _resolve_reusable(self, value: Any, part: str) -> Any:
        """A reusable object by its reference, or the object itself."""
        if isinstance(value, dict) and ("reference" in value or "$ref" in value):
            name = str(value.get("reference") or value.get("$ref")).replace("/", ".").rpartition(".")[2]
            return as_dict(as_dict(self.document.get("components")).get(part)).get(name, value)
        return value

    def _read_refs(self, value: Any) -> tuple[Ref, ...]:
        found: list[Ref] = []
        stack = [value]
        while stack:
            item = stack.pop()
            if isinstance(item, str):
                for matched in _EXPRESSION.finditer(item):
                    parts = matched["path"].lstrip(".").split(".")
                    if matched["root"] == "steps" and parts[0] in self.ids:
                        path = ".".join(parts[2:] if parts[1:2] == ["outputs"] else parts[1:])
                        found.append(Ref(step=parts[0], path=path, text=matched[0]))
                    elif matched["root"] in ("inputs", "workflows", "sourceDescriptions", "components"):
                        found.append(
                            Ref(variable=f"{matched['root']}.{parts[0]}", path=".".join(parts[1:]), text=matched[0])
                        )
            elif isinstance(item, dict):
                stack += reversed(list(item.values()))
            elif isinstance(item, list):
                stack += reversed(item)
        return tuple(dict.fromkeys(found))

    def _make_binding(self, name: str, value: Any) -> Binding:
        refs = self._read_refs(value)
        return Binding(name=name, value=value, decided="data" if refs else "fixed", refs=refs)

    def _read_step(self, step: dict[str, Any], after: str | None, pointer: str) -> None:
        key = str(step.get("stepId"))
        operation = str(step.get("operationId") or step.get("operationPath") or step.get("workflowId") or "")
        method = operation.rpartition("/")[2].lower() if "operationPath" in step else ""
        kind: StepKind = "subflow" if "workflowId" in step else "http" if operation else "other"
        inputs = self._read_inputs_of_step(step)
        failures = _only_objects(step.get("onFailure")) or _only_objects(self.workflow.get("failureActions"))
        successes = _only_objects(step.get("onSuccess")) or _only_objects(self.workflow.get("successActions"))
        retry = self._read_retry(failures)
        source = (
            operation.split(".")[1]
            if operation.startswith("$sourceDescriptions.") and operation.count(".") > 1
            else None
        )
        known = {
            "stepId", "description", "operationId", "operationPath", "workflowId", "parameters", "requestBody", "successCriteria", "onSuccess",
            "onFailure", "outputs",
        }  # fmt: skip
        self.steps.append(
            Step(
                id=key, kind=kind, name=key, operation=operation, effect=METHOD_EFFECTS.get(method, "none"), connection=source,
                calls=_local_id(step["workflowId"]) if "workflowId" in step else None, retry=retry, inputs=tuple(inputs),
                note=str(step.get("description") or ""), unread={key: value for key, value in step.items() if key not in known},
                origin=self.base.at(pointer),
            )
        )  # fmt: skip
        self._read_actions(key, successes, after, pointer, "next")
        self._read_actions(
            key,
            [
                first
                for first in failures
                if as_dict(self._resolve_reusable(first, "failureActions")).get("type") != "retry"
            ],
            None,
            pointer,
            "error",
        )

    def _read_inputs_of_step(self, step: dict[str, Any]) -> list[Binding]:
        inputs = [
            self._make_binding(
                ".".join(str(parts[key]) for key in ("in", "name") if parts.get(key)) or "parameter", parts.get("value")
            )
            for raw in [*_only_objects(self.workflow.get("parameters")), *_only_objects(step.get("parameters"))]
            if isinstance(
                parts := {
                    **as_dict(self._resolve_reusable(raw, "parameters")),
                    **({"value": raw["value"]} if "value" in raw else {}),
                },
                dict,
            )
        ]
        body = as_dict(step.get("requestBody"))
        inputs += [self._make_binding(f"body.{key}", value) for key, value in body.items()]
        for place, criterion in enumerate(_only_objects(step.get("successCriteria"))):
            inputs.append(
                self._make_binding(
                    f"success.{place + 1}", criterion.get("condition") if set(criterion) == {"condition"} else criterion
                )
            )
        inputs += [self._make_binding(f"outputs.{key}", value) for key, value in as_dict(step.get("outputs")).items()]
        return inputs

    def _read_retry(self, failures: list[dict[str, Any]]) -> Retry | None:
        retry = None
        for raw in failures:
            action = as_dict(self._resolve_reusable(raw, "failureActions"))
            if action.get("type") == "retry" and retry is None:
                limit = action.get("retryLimit", 1)
                wait = action.get("retryAfter")
                retry = Retry(
                    attempts=limit if isinstance(limit, int) else 1,
                    wait=float(wait) if isinstance(wait, int | float) else None,
                )
        return retry

    def _read_actions(
        self, key: str, actions: list[dict[str, Any]], after: str | None, pointer: str, role: LinkRole
    ) -> None:
        """The arrows of success or failure actions; without any the next step follows."""
        failed: tuple[Outcome, ...] = ("failure",) if role == "error" else ()
        part = "failureActions" if role == "error" else "successActions"
        resolved = [as_dict(self._resolve_reusable(first, part)) for first in actions]
        conditional = [first for first in resolved if first.get("criteria")]
        source, link_role = self._add_decision(key, pointer, role, conditional)
        self._add_action_links(key, pointer, resolved, link_role, source, failed)
        goes_on = role == "next" and after is not None and len(conditional) == len(resolved)
        if goes_on and after is not None:
            label = "otherwise" if link_role == "case" else ""
            self.links.append(
                Link(source=source, target=after, role=link_role, label=label, origin=self.base.at(pointer))
            )

    def _add_decision(
        self, key: str, pointer: str, role: LinkRole, conditional: list[dict[str, Any]]
    ) -> tuple[str, LinkRole]:
        source, link_role = key, role
        if role == "next" and conditional:
            source, link_role = f"{key}.then", "case"
            self.steps.append(
                Step(
                    id=source,
                    kind="decide",
                    name=f"after {key}",
                    operation="onSuccess",
                    origin=self.base.at(f"{pointer}/onSuccess"),
                )
            )
            self.links.append(Link(source=key, target=source, origin=self.base.at(pointer)))
        return source, link_role

    def _add_action_links(
        self,
        key: str,
        pointer: str,
        resolved: list[dict[str, Any]],
        link_role: LinkRole,
        source: str,
        failed: tuple[Outcome, ...],
    ) -> None:
        for place, action in enumerate(resolved):
            words = " and ".join(str(mapping.get("condition", "")) for mapping in _only_objects(action.get("criteria")))
            target = self._action_target(key, action, place, pointer)
            if target is not None:
                label = str(action.get("name") or "") if link_role != "next" else ""
                self.links.append(
                    Link(source=source, target=target, role=link_role, label=label, condition=words, refs=self._read_refs(words),
                         after=failed, origin=self.base.at(pointer))
                )  # fmt: skip

    def _action_target(self, key: str, action: dict[str, Any], at: int, pointer: str) -> str | None:
        name = f"{key}.{escape_key(str(action.get('name') or at + 1))}"
        if action.get("type") == "goto" and action.get("stepId"):
            target = str(action["stepId"])
            if target in self.ids:
                return target
            self.problems.append(
                Problem(
                    "link-end",
                    "error",
                    f"expected a step of the workflow after goto, found '{target}'",
                    self.base.at(pointer),
                    "the link is left out",
                )
            )
            return None
        kind: StepKind = "subflow" if action.get("workflowId") else "end"
        calls = _local_id(action["workflowId"]) if action.get("workflowId") else None
        self.steps.append(
            Step(
                id=name,
                kind=kind,
                name=str(action.get("name") or "end"),
                operation=f"action {action.get('type', 'end')}",
                calls=calls,
                origin=self.base.at(pointer),
            )
        )
        return name
