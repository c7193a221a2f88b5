# One node of an Agent Spec flow -> one step. What each kind of node becomes is a table: a new kind is one row and, where it
# has fields of its own, one function.
"""Nodes of an Agent Spec flow as steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from zeitbuch.core.model.records import Binding, Repeat, Step
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS
from zeitbuch.readers.input.views import View

from .parts import REQUEST, Components, component_id, declared, model_use, plain_inputs, tool_inputs


class Node(NamedTuple):
    """A node with what is fed into it."""

    parts: Components
    raw: View
    fed: tuple[Binding, ...]

    @property
    def kind(self) -> str:
        """The component type, as written."""
        return self.raw.text("component_type")

    def common_fields(self, *names: str) -> dict[str, Any]:
        """What every step has; the fields named become inputs too."""
        return {
            "id": component_id(self.raw),
            "name": self.raw.text("name"),
            "operation": self.kind,
            "note": self.raw.text("description"),
            "inputs": (*declared(self.raw, self.fed), *plain_inputs(self.raw, *names)),
            "origin": self.parts.origin_of(self.raw),
        }


def step_of_node(node: Node) -> Step:
    """The step of a node; one whose kind is not known is ``other``."""
    return _STEPS.get(node.kind, _other_step)(node)


def inner_flows(node: Node) -> list[View]:
    """The flows that a node runs inside itself."""
    field = _INNER.get(node.kind, "")
    if field == "subflows":
        return node.parts.components_of(node.raw.views(field))
    held = node.parts.component_of(node.raw.view(field)) if field else View({})
    return [held] if held else []


def about_part(part: View, name: str) -> tuple[Binding, ...]:
    """A component that a node stands for, by its name, id and description."""
    title, key, about = part.text("name"), part.text("id"), part.text("description")
    found = [Binding(name=name, value=title or key, description=about or None)] if title or key or about else []
    return (*found, Binding(name=f"{name}.id", value=key)) if key and title and key != title else tuple(found)


def _end_step(node: Node) -> Step:
    return Step(kind="end", **node.common_fields("branch_name"))


def _model_step(node: Node) -> Step:
    use, connection = model_use(node.parts, node.raw, node.fed)
    return Step(kind="model", model=use, connection=connection, **node.common_fields())


def _called_step(node: Node, field: str) -> Step:
    called = component_id(node.parts.component_of(node.raw.view(field)))
    return Step(kind="subflow", calls=called, **node.common_fields())


def _tool_step(node: Node) -> Step:
    common = node.common_fields()
    tool = node.parts.component_of(node.raw.view("tool"))
    fed = {binding.name for binding in common["inputs"]}
    inputs = [binding for binding in tool_inputs(tool) if binding.decided != "model" or binding.name not in fed]
    common["inputs"] = (*about_part(tool, "tool"), *inputs, *common["inputs"])
    common["operation"] = f"{node.kind} {tool.text('component_type') or 'Tool'}"
    return Step(kind="tool", effect=METHOD_EFFECTS.get(str(tool.peek("http_method") or "").lower(), "none"), **common)


def _loop_step(node: Node) -> Step:
    over = next((binding.name for binding in node.fed if binding.name.startswith("iterated_")), "")
    return Step(kind="loop", repeat=Repeat(items=over or "items"), **node.common_fields("reducers"))


def _guard_step(node: Node) -> Step:
    return Step(kind="guard", on_fault="route", **node.common_fields())


def _decision_step(node: Node) -> Step:
    return Step(kind="decide", condition=next((binding.name for binding in node.fed), None), **node.common_fields())


def _request_step(node: Node) -> Step:
    method = str(node.raw.peek("http_method") or "get").lower()
    return Step(kind="http", effect=METHOD_EFFECTS.get(method, "write"), **node.common_fields(*REQUEST))


_STEPS: dict[str, Callable[[Node], Step]] = {
    "EndNode": _end_step,
    "LlmNode": _model_step,
    "AgentNode": lambda node: _called_step(node, "agent"),
    "ToolNode": _tool_step,
    "FlowNode": lambda node: _called_step(node, "subflow"),
    "MapNode": _loop_step,
    "ParallelMapNode": _loop_step,
    "ParallelFlowNode": lambda node: Step(kind="parallel", **node.common_fields()),
    "CatchExceptionNode": _guard_step,
    "BranchingNode": _decision_step,
    "ApiNode": _request_step,
    "InputMessageNode": lambda node: Step(kind="wait", **node.common_fields("message")),
    "OutputMessageNode": lambda node: Step(kind="send", effect="send", **node.common_fields("message")),
}


def _other_step(node: Node) -> Step:
    return Step(kind="other", **node.common_fields())


_INNER = {
    "MapNode": "subflow",
    "ParallelMapNode": "subflow",
    "ParallelFlowNode": "subflows",
    "CatchExceptionNode": "subflow",
}
