# Flows of models, agents and tools in the Open Agent Specification: nodes, the edges of control between them, and edges of data
# where an input comes from a step. Blocks, branches side by side and ways on after failures would need flows within flows.
"""Writing Agent Spec flows."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Estate, Flow, Link, Step
from zeitbuch.writers.theme.terminal import TextLook

from .agent_spec_nodes import node_of, tool_of
from .sayable import Exchanged, NotSayable, Outline, exchange_documents

_VERSION = "25.4.1"
_VALUES = re.compile(r"= ?(?P<values>.+)", re.DOTALL)


def exchange_flows(estate: Estate) -> Exchanged:
    """A component for each flow that can be said."""
    return exchange_documents(estate, _write_flow)


def write_agent_spec(estate: Estate, look: TextLook) -> str:
    """Flows as Agent Spec components."""
    return exchange_flows(estate).text


def _write_flow(flow: Flow) -> tuple[dict[str, Any], dict[str, str]]:
    writer = _FlowWriter(flow)
    return writer.write_component(), writer.names


class _FlowWriter:
    """Writes one flow."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        self.outline = outline = Outline(flow)
        self.names = {step.id: step.id for step in outline.steps.values()}
        self.control: list[dict[str, Any]] = []
        self.data: list[dict[str, Any]] = []
        self.ends: list[str] = []
        self.tools: dict[str, list[Step]] = {}
        known = {step.id: step for step in flow.steps}
        for link in flow.links:
            if link.role == "attach" and known[link.source].kind == "tool":
                self.tools.setdefault(link.target, []).append(known[link.source])
        for step in outline.steps.values():
            if outline.inside.get(step.id) or step.scope is not None:
                raise NotSayable(
                    f"'{step.title}' is a block or stands in one, which would have to be a flow of its own"
                )
            if not step.enabled:
                raise NotSayable(f"'{step.title}' is switched off")

    def write_component(self) -> dict[str, Any]:
        """The flow component."""
        flow = self.flow
        entries = self.outline.entries.get(None, [])
        if len(entries) != 1:
            raise NotSayable("it does not begin with one step")
        first = next(link for link in flow.links if link.target == entries[0] and link.source in self.outline.triggers)
        trigger = next(one for one in flow.triggers if one.id == first.source)
        start = trigger.id if trigger.id not in self.outline.steps else f"{trigger.id}.start"
        nodes = [{"component_type": "StartNode", "id": start, "name": trigger.title}]
        self._add_edge(start, entries[0], first)
        nodes += [self._write_node(self.outline.steps[key]) for key in self.outline.steps]
        nodes += self._end_node()
        inputs = [
            self._declared(variable.name.removeprefix("inputs."), variable.value)
            for variable in flow.variables
            if variable.name.startswith("inputs.")
        ]
        whole = {
            "component_type": "Flow", "agentspec_version": _VERSION, "id": flow.id, "name": flow.name,
            "description": flow.description, "inputs": inputs, "start_node": {"$component_ref": start}, "nodes": nodes,
            "control_flow_connections": self.control, "data_flow_connections": self.data,
        }  # fmt: skip
        return {key: value for key, value in whole.items() if value not in ("", [])}

    def _end_node(self) -> list[dict[str, Any]]:
        """The end of the flow, where steps have nothing behind them."""
        if not self.ends:
            return []
        end = "end" if "end" not in self.outline.steps else "end of the flow"
        for key in self.ends:
            self._add_edge(key, end, Link(source=key, target=end))
        return [{"component_type": "EndNode", "id": end, "name": "End"}]

    def _declared(self, name: str, value: Any) -> dict[str, Any]:
        return {"title": name, **(value if isinstance(value, dict) else {})}

    def _write_node(self, step: Step) -> dict[str, Any]:
        fed = [binding for binding in step.inputs if self._feed(step, binding)]
        plain = [binding for binding in step.inputs if binding not in fed]
        tools = self.tools.get(step.id, [])
        self.names |= {tool.id: f"{step.id}.{tool_of(step, tool)['id']}" for tool in tools}
        node = node_of(step, plain, fed, tools, self.flow)
        ways = self.outline.ways(step.id, "next", "case")
        if self.outline.ways(step.id, "error"):
            raise NotSayable(f"what follows a failure of '{step.title}' would have to stand in a flow of its own")
        if step.kind == "decide":
            node["mapping"] = self._mapping(step, ways)
        elif len(ways) > 1:
            raise NotSayable(f"several ways lead on from '{step.title}'")
        for link in ways:
            self._add_edge(step.id, link.target, link, step.kind == "decide")
        if not ways and step.kind != "end":
            self.ends.append(step.id)
        return node

    def _feed(self, step: Step, binding: Binding) -> bool:
        """Adds an edge of data for an input that comes from one step."""
        sources = {ref.step for ref in binding.refs if ref.step in self.outline.steps}
        sources |= {ref.step for ref in binding.refs if ref.step in self.outline.triggers}
        if binding.value is not None or len(binding.refs) != 1 or len(sources) != 1:
            return False
        (ref,) = binding.refs
        self.data.append({
            "component_type": "DataFlowEdge", "id": f"{ref.step}-{step.id}.{binding.name}",
            "name": binding.description or f"{ref.path or 'output'} to {binding.name}", "source_node": {"$component_ref": ref.step},
            "source_output": ref.path or "output", "destination_node": {"$component_ref": step.id}, "destination_input": binding.name,
        })  # fmt: skip
        return True

    def _mapping(self, step: Step, ways: list[Link]) -> dict[str, str]:
        """Which values lead to which branch. Only conditions on one value can be said, and one branch without any."""
        found: dict[str, str] = {}
        bare = [link for link in ways if not link.condition]
        if len(bare) > 1:
            raise NotSayable(f"cases of '{step.title}' have no condition")
        for link in ways:
            said = _VALUES.fullmatch(link.condition) if link.condition else None
            if link.condition and said is None:
                raise NotSayable(f"a case of '{step.title}' is more than a value: {link.condition[:80]}")
            if said is not None:
                found |= {value.strip(): _branch_of(link) for value in said["values"].split(" or ")}
        return found

    def _add_edge(self, source: str, target: str, link: Link, decides: bool = False) -> None:
        branch = {"from_branch": _branch_of(link)} if decides else {}
        self.control.append({
            "component_type": "ControlFlowEdge", "id": link.id or f"{source}-{target}", "name": link.note or f"{source} to {target}",
            "from_node": {"$component_ref": source}, **branch, "to_node": {"$component_ref": target},
        })  # fmt: skip


def _branch_of(link: Link) -> str:
    return link.label if link.condition else "default"
