# What one node is: models, agents, requests and messages have kinds of their own; all else is a tool that somebody runs.
"""Nodes of Agent Spec flows, written."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.records import Binding, Flow, ModelUse, Step

from .sayable import NotSayable

_REQUEST = ("url", "http_method", "api_spec_uri", "data", "query_params", "headers")


class _Given(NamedTuple):
    """A step with its inputs: those with values, those fed by edges of data, and the tools of an agent."""

    step: Step
    plain: Sequence[Binding]
    fed: Sequence[Binding]
    tools: Sequence[Step]
    flow: Flow


def node_of(
    step: Step, plain: Sequence[Binding], fed: Sequence[Binding], tools: Sequence[Step], flow: Flow
) -> dict[str, Any]:
    """The node of a step."""
    given = _Given(step, plain, fed, tools, flow)
    made = _NODES.get(step.kind, _tool_node)(given)
    node = {"component_type": "", "id": step.id, "name": step.name or step.id}
    if step.note:
        node["description"] = step.note
    return node | made


def tool_of(step: Step, tool: Step) -> dict[str, Any]:
    """A tool of an agent: what the model decides are its inputs, the rest stands in it."""
    key = tool.id.removeprefix(f"{step.id}.")
    inputs = [_property(one) for one in tool.inputs if one.decided == "model"]
    fixed = {one.name: one.value for one in tool.inputs if one.decided != "model" and one.name in _REQUEST}
    kind = tool.operation if tool.operation.endswith("Tool") else "RemoteTool" if "url" in fixed else "ServerTool"
    made: dict[str, Any] = {"component_type": kind, "id": key, "name": tool.name or key}
    if tool.note:
        made["description"] = tool.note
    return {**made, "inputs": inputs, **fixed}


def _property(binding: Binding) -> dict[str, Any]:
    """An input as a JSON Schema."""
    made: dict[str, Any] = {"title": binding.name}
    if binding.type:
        made["type"] = binding.type.split(" or ") if " or " in binding.type else binding.type
    if binding.description:
        made["description"] = binding.description
    if binding.value is not None:
        made["default"] = binding.value
    return made


def _properties(given: _Given) -> dict[str, Any]:
    """The declared inputs and outputs of a node."""
    outputs = [
        {"title": one.name.removeprefix("outputs."), **one.value}
        for one in given.plain
        if one.name.startswith("outputs.") and isinstance(one.value, dict)
    ]
    plain = [one for one in given.plain if not one.name.startswith("outputs.")]
    inputs = [_property(one) for one in (*plain, *(one for one in given.fed if one.type))]
    return {**({"inputs": inputs} if inputs else {}), **({"outputs": outputs} if outputs else {})}


def _config_of(model: ModelUse, given: _Given) -> dict[str, Any]:
    """The configuration of a model, with its connection where the flow has one. The general type of the specification stands
    for what no type of it names."""
    held = next((one for one in given.flow.connections if one.id == given.step.connection), None)
    parameters = {"temperature": model.temperature, "max_tokens": model.max_output}
    known = {name: value for name, value in parameters.items() if value is not None}
    if not model.name:
        raise NotSayable(f"'{given.step.title}' does not say which model it uses")
    made: dict[str, Any] = {"component_type": "LlmConfig", "id": f"{given.step.id}.model", "name": model.name}
    if held is not None and held.service.endswith("Config"):
        made = {"component_type": held.service, "id": held.id, "name": held.name or model.name}
        made |= {"url": held.account} if held.account else {}
    return {**made, "model_id": model.name, **({"default_generation_parameters": known} if known else {})}


def _model_node(given: _Given) -> dict[str, Any]:
    model = given.step.model or ModelUse()
    text = "\n\n".join(prompt.text for prompt in model.prompts)
    return {
        "component_type": "LlmNode", **_properties(given), "llm_config": _config_of(model, given), "prompt_template": text,
    }  # fmt: skip


def _agent_node(given: _Given) -> dict[str, Any]:
    step = given.step
    graph = Graph(given.flow)
    model = model_of(graph, graph.steps[step.id]) or ModelUse()
    agent: dict[str, Any] = {
        "component_type": "Agent", "id": f"{step.id}.agent", "name": step.name or step.id,
        "llm_config": _config_of(model, given), "system_prompt": "\n\n".join(prompt.text for prompt in model.prompts),
        "tools": [tool_of(step, tool) for tool in given.tools],
    }  # fmt: skip
    return {"component_type": "AgentNode", **_properties(given), "agent": agent}


def _request_node(given: _Given) -> dict[str, Any]:
    fields = {one.name: one.value for one in given.plain if one.name in _REQUEST}
    if "url" not in fields:
        return _tool_node(given)
    rest = given._replace(plain=[one for one in given.plain if one.name not in fields])
    return {"component_type": "ApiNode", **_properties(rest), **fields}


def _message_node(given: _Given) -> dict[str, Any]:
    message = next((one.value for one in given.plain if one.name == "message"), None)
    kind = given.step.operation
    if kind not in ("InputMessageNode", "OutputMessageNode"):
        return _tool_node(given)
    rest = given._replace(plain=[one for one in given.plain if one.name != "message"])
    return {"component_type": kind, **_properties(rest), **({"message": message} if message is not None else {})}


def _tool_node(given: _Given) -> dict[str, Any]:
    step = given.step
    words = step.operation.split(" ")
    kind = words[1] if words[0] == "ToolNode" and len(words) > 1 else "ServerTool"
    name = next((one.value for one in given.plain if one.name == "tool"), None) or step.operation or step.kind
    rest = given._replace(plain=[one for one in given.plain if one.name not in ("tool", "tool.id")])
    tool = {"component_type": kind, "id": f"{step.id}.tool", "name": str(name)}
    return {"component_type": "ToolNode", **_properties(rest), "tool": tool}


_NODES: dict[str, Callable[[_Given], dict[str, Any]]] = {
    "model": _model_node,
    "agent": _agent_node,
    "http": _request_node,
    "send": _message_node,
    "wait": _message_node,
    "decide": lambda given: {"component_type": "BranchingNode", **_properties(given)},
    "end": lambda given: {"component_type": "EndNode", **_properties(given)},
}
