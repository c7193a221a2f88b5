# Flows that call described interfaces, as Arazzo 1.0 (OpenAPI Initiative): steps in a row, success and failure actions where
# they lead elsewhere. What is no call of a described interface has no place there.
"""Writing Arazzo descriptions."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Estate, Flow, Link, Step, Variable
from zeitbuch.writers.theme.terminal import TextLook

from .sayable import Exchanged, NotSayable, Outline, group_documents

_PLACES = ("path", "query", "header", "cookie")
_CHANNEL = ("action", "correlationId", "timeout", "dependsOn")
_TYPED = re.compile(r"(?P<words>.*) \((?:(?P<kind>\w+) ?)?(?:of (?P<context>.+))?\)", re.DOTALL)


def exchange_flows(estate: Estate) -> Exchanged:
    """The flows that can be said, those of one description together."""
    return group_documents(estate, _write_workflow, _write_document)


def write_arazzo(estate: Estate, look: TextLook) -> str:
    """Flows as Arazzo descriptions."""
    return exchange_flows(estate).text


def _write_document(flows: list[Flow], workflows: list[Any]) -> dict[str, Any]:
    sources: dict[str, dict[str, Any]] = {}
    for flow in flows:
        for one in flow.connections:
            sources.setdefault(one.id, {"name": one.id, "url": one.name, "type": one.service or "openapi"})
    info = {"title": flows[0].folder or flows[0].title, "version": flows[0].version or "1.0.0"}
    listed = [source for source in sources.values() if source["type"] in ("openapi", "arazzo", "asyncapi")]
    if not listed:
        raise NotSayable("it names no description of an interface")
    channels = any(source["type"] == "asyncapi" for source in listed)
    return {
        "arazzo": "1.1.0" if channels else "1.0.1", "info": info, "sourceDescriptions": listed, "workflows": workflows,
    }  # fmt: skip


def _write_workflow(flow: Flow) -> tuple[dict[str, Any], dict[str, str]]:
    if not any(connection.service in ("openapi", "arazzo", "asyncapi") for connection in flow.connections):
        raise NotSayable("it names no description of an interface")
    writer = _Workflow(flow)
    steps = writer.write_steps()
    after = [one.event.removesuffix(" has run") for one in flow.triggers if one.operation == "dependsOn"]
    outputs = {name: one.value for name, one in _variables(flow, "outputs.").items()}
    parts = {
        "summary": "" if flow.name == flow.id else flow.name, "description": flow.description, "dependsOn": after,
        "inputs": _inputs_of(flow), "steps": steps, "outputs": outputs,
    }  # fmt: skip
    return {"workflowId": flow.id, **{name: value for name, value in parts.items() if value}}, writer.names


def _variables(flow: Flow, prefix: str) -> dict[str, Variable]:
    return {one.name.removeprefix(prefix): one for one in flow.variables if one.name.startswith(prefix)}


def _inputs_of(flow: Flow) -> dict[str, Any]:
    """The inputs of a workflow as one schema."""
    inputs = _variables(flow, "inputs.")
    if not inputs:
        return {}
    needed = [name for name, one in inputs.items() if one.description == "required"]
    properties = {name: one.value or {} for name, one in inputs.items()}
    return {"type": "object", "properties": properties, **({"required": needed} if needed else {})}


class _Workflow:
    """Writes the steps of one flow."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        self.outline = outline = Outline(flow)
        self.gates = {key: step for key, step in outline.steps.items() if step.kind == "decide"}
        self.acts = {key: step for key, step in outline.steps.items() if step.operation.startswith("action ")}
        self.calls = [
            step
            for key, step in outline.steps.items()
            if key not in self.gates and key not in self.acts and step.kind != "end"
        ]
        self.names = {step.id: step.id for step in flow.steps}

    def write_steps(self) -> list[dict[str, Any]]:
        """All steps in their order, also those that nothing leads to; the first is the one that the flow begins with."""
        entries = self.outline.entries.get(None, [])
        if len(entries) != 1 or not self.calls:
            raise NotSayable("it does not begin with one step")
        order = [step.id for step in self.calls]
        order.sort(key=lambda key: key != entries[0])
        if not order or order[0] != entries[0]:
            raise NotSayable(f"it begins with '{self.outline.title(entries[0])}', which is no call of an interface")
        return [
            self._write_step(self.outline.steps[key], order[place + 1] if place + 1 < len(order) else None)
            for place, key in enumerate(order)
        ]

    def _write_step(self, step: Step, following: str | None) -> dict[str, Any]:
        if self.outline.inside.get(step.id) or step.scope is not None or not step.enabled:
            raise NotSayable(f"'{step.title}' is a block, stands in one, or is switched off")
        made: dict[str, Any] = {"stepId": step.id, **self._called(step)}
        if step.note:
            made["description"] = step.note
        made |= _parts_of_inputs(step.inputs)
        success = self._success_of(step, following)
        failure = [*_retry_of(step), *(self._action(link, 0) for link in self.outline.ways(step.id, "error"))]
        made |= {"onSuccess": success} if success else {}
        return made | ({"onFailure": failure} if failure else {})

    def _called(self, step: Step) -> dict[str, Any]:
        """What a step calls: another workflow, a channel, an operation by its id or its path."""
        if step.calls:
            whole = step.operation if step.operation.endswith(step.calls) else step.calls
            return {"workflowId": whole}
        if any(one.name == "action" for one in step.inputs):
            return {"channelPath": step.operation}
        if "#/" in step.operation:
            return {"operationPath": step.operation}
        known = step.operation.startswith("$sourceDescriptions.") or self.flow.format == "arazzo"
        if step.kind == "http" and known and step.operation and " " not in step.operation:
            return {"operationId": step.operation}
        raise NotSayable(f"'{step.title}' is no call of a described interface")

    def _success_of(self, step: Step, following: str | None) -> list[dict[str, Any]]:
        """Where a step leads when it went well; nothing where that is the next one."""
        on = self.outline.ways(step.id, "next", "case")
        if not on:
            return [{"name": "end", "type": "end"}] if following is not None else []
        if len(on) == 1 and on[0].target in self.gates:
            cases = self.outline.ways(on[0].target, "next", "case")
        else:
            cases = on
        bare = [link for link in cases if not link.condition]
        if len(bare) > 1:
            raise NotSayable(f"'{step.title}' has several ways on without a condition")
        actions = [self._action(link, place) for place, link in enumerate(cases) if link.condition]
        if bare and bare[0].target != following:
            actions.append(self._action(bare[0], len(actions)))
        return actions

    def _action(self, link: Link, place: int) -> dict[str, Any]:
        target = self.outline.steps[link.target]
        if target.kind == "decide":
            raise NotSayable(f"a decision follows the decision before '{target.title}'")
        name = link.label or (target.name if target.id in self.acts else "") or f"way {place + 1}"
        made: dict[str, Any] = {"name": name, "type": "end" if target.kind == "end" else "goto"}
        if target.id in self.acts and target.calls:
            made["workflowId"] = target.calls
        elif target.kind != "end":
            made["stepId"] = target.id
        if link.condition:
            made["criteria"] = [_criterion(link.condition)]
        return made


def _criterion(words: str) -> dict[str, Any]:
    """A criterion from its words: "CONDITION (KIND of CONTEXT)" where it has them."""
    found = _TYPED.fullmatch(words)
    if found is None or " and " in words or not found["context"]:
        return {"condition": words}
    kind = {"type": found["kind"]} if found["kind"] else {}
    return {"context": found["context"], "condition": found["words"], **kind}


def _retry_of(step: Step) -> list[dict[str, Any]]:
    retry = step.retry
    if retry is None:
        return []
    said = {one.name: one.value for one in step.inputs}
    made: dict[str, Any] = {"name": said.get("retry.name") or "retry", "type": "retry"}
    made |= {"retryAfter": retry.wait} if retry.wait is not None else {}
    made["retryLimit"] = retry.attempts
    words = said.get("retry.when")
    return [made | ({"criteria": [_criterion(str(words))]} if words else {})]


def _parts_of_inputs(inputs: tuple[Binding, ...]) -> dict[str, Any]:
    """Parameters, body, criteria and outputs of a step."""
    parameters: list[dict[str, Any]] = []
    body: dict[str, Any] = {}
    criteria: list[Any] = []
    outputs: dict[str, Any] = {}
    channel: dict[str, Any] = {}
    for one in inputs:
        head, dot, rest = one.name.partition(".")
        if head == "body" and dot:
            body[rest] = one.value
        elif head == "success" and dot:
            criteria.append(one.value if isinstance(one.value, dict) else {"condition": one.value})
        elif head == "outputs" and dot:
            outputs[rest] = one.value
        elif one.name in _CHANNEL:
            channel[one.name] = one.value
        elif head != "retry":
            parameters.append(_parameter(one, head if dot and head in _PLACES else "", rest))
    parts = {"parameters": parameters, "requestBody": body, "successCriteria": criteria, "outputs": outputs}
    return {**channel, **{name: value for name, value in parts.items() if value}}


def _parameter(binding: Binding, place: str, name: str) -> dict[str, Any]:
    words = next((ref.text for ref in binding.refs if ref.text), None)
    value = binding.value if binding.value is not None else words
    return {"name": name, "in": place, "value": value} if place else {"name": binding.name, "value": value}
