# One node of an Agent Spec flow -> one step. What each kind of node becomes is a table: a new kind is one row and, where it
# has fields of its own, one function.
"""Nodes of an Agent Spec flow as steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from zeitbuch.core.model.records import Binding, Repeat, Step
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS

from .parts import COMMON, Components, component_id, model_use, tool_step

_REQUEST = ("url", "http_method", "api_spec_uri", "data", "query_params", "headers")


class Node(NamedTuple):
    """A node with what is fed into it."""

    parts: Components
    raw: dict[str, Any]
    inputs: tuple[Binding, ...]

    @property
    def kind(self) -> str:
        """The component type, as written."""
        return str(self.raw.get("component_type") or "")

    def common_fields(self) -> dict[str, Any]:
        """What every step has."""
        return {
            "id": component_id(self.raw),
            "name": str(self.raw.get("name") or ""),
            "operation": self.kind,
            "note": str(self.raw.get("description") or ""),
            "origin": self.parts.origin_of(self.raw),
        }

    def unread_part(self, *known: str) -> dict[str, Any]:
        """Fields that are neither common nor ``known``, and that say something."""
        return {
            key: value
            for key, value in self.raw.items()
            if key not in COMMON and key not in known and value not in (None, [], {})
        }

    def plain_inputs(self, *names: str) -> tuple[Binding, ...]:
        """Fields as inputs of the step."""
        return tuple(
            Binding(name=name, value=self.raw[name]) for name in names if self.raw.get(name) not in (None, "", [], {})
        )


def step_of_node(node: Node) -> Step:
    """The step of a node; one whose kind is not known is ``other``."""
    return _STEPS.get(node.kind, _other_step)(node)


def inner_flows(node: Node) -> list[Any]:
    """The flows that a node runs inside itself."""
    field = _INNER.get(node.kind, "")
    found = node.raw.get(field)
    return (found or []) if field == "subflows" else [found] if field else []


def _end_step(node: Node) -> Step:
    return Step(kind="end", inputs=node.inputs, unread=node.unread_part("branch_name"), **node.common_fields())


def _model_step(node: Node) -> Step:
    use = model_use(node.parts, node.raw, node.inputs)
    unread = node.unread_part("llm_config", "prompt_template")
    return Step(kind="model", model=use, inputs=node.inputs, unread=unread, **node.common_fields())


def _called_agent_step(node: Node) -> Step:
    called = component_id(node.parts.component_of(node.raw.get("agent")))
    return Step(kind="subflow", calls=called, inputs=node.inputs, **node.common_fields())


def _tool_step(node: Node) -> Step:
    common = node.common_fields()
    tool = tool_step(node.parts, node.parts.component_of(node.raw.get("tool")), common["id"], None)
    inputs = (*[binding for binding in tool.inputs if binding.decided != "model"], *node.inputs)
    common["operation"] = f"{node.kind} {tool.operation}"
    return Step(kind="tool", effect=tool.effect, inputs=inputs, unread=tool.unread, **common)


def _subflow_step(node: Node) -> Step:
    called = component_id(node.parts.component_of(node.raw.get("subflow")))
    return Step(
        kind="subflow", calls=called, inputs=node.inputs, unread=node.unread_part("subflow"), **node.common_fields()
    )


def _loop_step(node: Node) -> Step:
    over = next((binding.name for binding in node.inputs if binding.name.startswith("iterated_")), "")
    return Step(
        kind="loop",
        repeat=Repeat(items=over or "items"),
        inputs=(*node.inputs, *node.plain_inputs("reducers")),
        unread=node.unread_part("subflow", "reducers"),
        **node.common_fields(),
    )


def _parallel_step(node: Node) -> Step:
    return Step(kind="parallel", inputs=node.inputs, unread=node.unread_part("subflows"), **node.common_fields())


def _guard_step(node: Node) -> Step:
    unread = node.unread_part("subflow")
    return Step(kind="guard", on_fault="route", inputs=node.inputs, unread=unread, **node.common_fields())


def _decision_step(node: Node) -> Step:
    return Step(
        kind="decide",
        condition=next((binding.name for binding in node.inputs), None),
        inputs=node.inputs,
        unread=node.unread_part("mapping"),
        **node.common_fields(),
    )


def _request_step(node: Node) -> Step:
    method = str(node.raw.get("http_method") or "get").lower()
    return Step(
        kind="http",
        effect=METHOD_EFFECTS.get(method, "write"),
        inputs=(*node.inputs, *node.plain_inputs(*_REQUEST)),
        unread=node.unread_part(*_REQUEST),
        **node.common_fields(),
    )


def _message_in_step(node: Node) -> Step:
    inputs = (*node.inputs, *node.plain_inputs("message"))
    return Step(kind="wait", inputs=inputs, unread=node.unread_part("message"), **node.common_fields())


def _message_out_step(node: Node) -> Step:
    inputs = (*node.inputs, *node.plain_inputs("message"))
    return Step(kind="send", effect="send", inputs=inputs, unread=node.unread_part("message"), **node.common_fields())


def _other_step(node: Node) -> Step:
    return Step(kind="other", inputs=node.inputs, unread=node.unread_part(), **node.common_fields())


_STEPS: dict[str, Callable[[Node], Step]] = {
    "EndNode": _end_step,
    "LlmNode": _model_step,
    "AgentNode": _called_agent_step,
    "ToolNode": _tool_step,
    "FlowNode": _subflow_step,
    "MapNode": _loop_step,
    "ParallelMapNode": _loop_step,
    "ParallelFlowNode": _parallel_step,
    "CatchExceptionNode": _guard_step,
    "BranchingNode": _decision_step,
    "ApiNode": _request_step,
    "InputMessageNode": _message_in_step,
    "OutputMessageNode": _message_out_step,
}
_INNER = {
    "MapNode": "subflow",
    "ParallelMapNode": "subflow",
    "ParallelFlowNode": "subflows",
    "CatchExceptionNode": "subflow",
}
