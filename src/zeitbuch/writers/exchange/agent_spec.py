# Flows of models, agents and tools in the Open Agent Specification: nodes, the edges of control between them, and edges of data
# where an input comes from a step. A block is a flow within the flow; so is a step with a way on after its failure.
"""Writing Agent Spec flows."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Estate, Flow, Link, Step
from zeitbuch.writers.theme.terminal import TextLook

from .agent_spec_nodes import node_of, tool_of
from .sayable import Exchanged, NotSayable, Outline, Written, exchange_documents

_VERSION = "25.4.1"
_VALUES = re.compile(r"= ?(?P<values>.+)", re.DOTALL)


def exchange_flows(estate: Estate) -> Exchanged:
    """A component for each flow that can be said."""
    return exchange_documents(estate, _write_flow)


def write_agent_spec(estate: Estate, look: TextLook) -> str:
    """Flows as Agent Spec components."""
    return exchange_flows(estate).text


def _write_flow(flow: Flow) -> tuple[dict[str, Any], Written]:
    shared = _Shared(flow)
    component = _LevelWriter(shared, None).write_component()
    return {"agentspec_version": _VERSION, **component}, Written(flow, shared.names, shared.inner)


class _Shared:
    """What all levels of one flow share: its outline, the tools of its agents, the names of its steps, the flows within it."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        self.outline = outline = Outline(flow)
        self.names = {step.id: step.id for step in outline.steps.values()}
        self.inner = 0
        self.tools: dict[str, list[Step]] = {}
        tools = {step.id: step for step in flow.steps if step.kind == "tool"}
        for link in flow.links:
            if link.role == "attach" and link.source in tools:
                self.tools.setdefault(link.target, []).append(tools[link.source])
        off = next((step for step in outline.steps.values() if not step.enabled), None)
        if off is not None:
            raise NotSayable(f"'{off.title}' is switched off")


class _LevelWriter:
    """Writes the steps of one level: of the whole flow, or of a block, which is a flow of its own."""

    def __init__(self, shared: _Shared, scope: str | None, keys: list[str] | None = None) -> None:
        self.shared = shared
        self.flow = shared.flow
        self.outline = shared.outline
        self.scope = scope
        self.keys = self.outline.inside.get(scope, []) if keys is None else keys
        self.control: list[dict[str, Any]] = []
        self.data: list[dict[str, Any]] = []
        self.ends: list[str] = []

    def write_component(self) -> dict[str, Any]:
        """The flow component of the level."""
        start, title, entry = self._start()
        nodes = [{"component_type": "StartNode", "id": start, "name": title}]
        nodes += [node for key in self.keys for node in self._write_node(self.outline.steps[key])]
        nodes += self._end_node()
        whole = {
            "component_type": "Flow", **self._head(entry), "start_node": {"$component_ref": start}, "nodes": nodes,
            "control_flow_connections": self.control, "data_flow_connections": self.data,
        }  # fmt: skip
        return {key: value for key, value in whole.items() if value not in ("", [])}

    def _start(self) -> tuple[str, str, str]:
        """Id and name of the start, and the step it leads to; there must be one."""
        entries = [key for key in self.outline.entries.get(self.scope, []) if key in self.keys]
        if len(entries) != 1:
            where = "it" if self.scope is None else f"'{self.outline.title(self.scope)}'"
            raise NotSayable(f"{where} does not begin with one step")
        if self.scope is not None:
            start = f"{self.scope}.{entries[0]}.start"
            self._add_edge(start, self._node_id(entries[0]), Link(source=start, target=entries[0]))
            return start, "Start", entries[0]
        link = next(one for one in self.flow.links if one.target == entries[0] and one.source in self.outline.triggers)
        trigger = next(one for one in self.flow.triggers if one.id == link.source)
        start = trigger.id if trigger.id not in self.outline.steps else f"{trigger.id}.start"
        self._add_edge(start, self._node_id(entries[0]), link)
        return start, trigger.title, entries[0]

    def _head(self, entry: str) -> dict[str, Any]:
        if self.scope is not None:
            self.shared.inner += 1
            return {"id": f"{self.scope}.{entry}.flow", "name": self.outline.title(self.scope)}
        inputs = [
            self._declared(variable.name.removeprefix("inputs."), variable.value)
            for variable in self.flow.variables
            if variable.name.startswith("inputs.")
        ]
        return {"id": self.flow.id, "name": self.flow.name, "description": self.flow.description, "inputs": inputs}

    def _end_node(self) -> list[dict[str, Any]]:
        """The end of the flow, where steps have nothing behind them."""
        if not self.ends:
            return []
        end = "end" if self.scope is None else f"{self.scope}.{self.keys[0]}.end"
        end = end if end not in self.outline.steps else f"{end} of the flow"
        for key in self.ends:
            self._add_edge(key, end, Link(source=key, target=end))
        return [{"component_type": "EndNode", "id": end, "name": "End"}]

    def _declared(self, name: str, value: Any) -> dict[str, Any]:
        return {"title": name, **(value if isinstance(value, dict) else {})}

    def _write_node(self, step: Step) -> list[dict[str, Any]]:
        """The node of a step; one with a way on after its failure stands in a node that catches it."""
        errors = self.outline.ways(step.id, "error")
        ways = self.outline.ways(step.id, "next", "case")
        key = self._node_id(step.id)
        if key != step.id:
            if ways and step.kind == "decide":
                raise NotSayable(f"what follows a failure of the decision '{step.title}' has no place")
            node = self._catching(key, f"{step.title} guarded", self._alone(step))
        else:
            node = self._node_of(step)
        if step.kind == "decide":
            node["mapping"] = self._mapping(step, ways)
        elif len(ways) > 1:
            raise NotSayable(f"several ways lead on from '{step.title}'")
        for link in ways:
            self._add_edge(key, self._node_id(link.target), link, step.kind == "decide")
        for link in errors:
            self._add_edge(key, self._node_id(link.target), link)
        if not ways and step.kind != "end":
            self.ends.append(key)
        return [node]

    def _node_id(self, key: str) -> str:
        """The node that stands for a step: around one with a way on after its failure stands one that catches it."""
        caught = self.outline.ways(key, "error") and self.outline.steps[key].kind != "guard"
        return f"{key} guarded" if caught else key

    def _node_of(self, step: Step) -> dict[str, Any]:
        """A node by itself, with the flow that stands in a block."""
        fed = [binding for binding in step.inputs if self._feed(step, binding)]
        plain = [binding for binding in step.inputs if binding not in fed]
        tools = self.shared.tools.get(step.id, [])
        self.shared.names |= {tool.id: f"{step.id}.{tool_of(step, tool)['id']}" for tool in tools}
        if not self.outline.inside.get(step.id):
            return node_of(step, plain, fed, tools, self.flow)
        if step.kind == "parallel":
            return node_of(step, plain, fed, tools, self.flow) | {
                "component_type": "ParallelFlowNode",
                "subflows": [self._branch(step, entry) for entry in self.outline.entries.get(step.id, [])],
            }
        kinds = {"loop": "MapNode", "guard": "CatchExceptionNode"}
        inside = _LevelWriter(self.shared, step.id).write_component()
        node = node_of(step, plain, fed, tools, self.flow)
        node.pop("tool", None)
        return node | {"component_type": kinds.get(step.kind, "FlowNode"), "subflow": inside}

    def _branch(self, step: Step, entry: str) -> dict[str, Any]:
        keys = self.outline.reached_from([entry])
        others = [other for other in self.outline.entries.get(step.id, []) if other != entry]
        if not set(keys).isdisjoint(self.outline.reached_from(others)):
            raise NotSayable(f"branches of '{step.title}' meet within it")
        return _LevelWriter(self.shared, step.id, keys).write_component()

    def _alone(self, step: Step) -> dict[str, Any]:
        """A flow of one step."""
        self.shared.inner += 1
        start, end = f"{step.id}.start", f"{step.id}.end"
        writer = _LevelWriter(self.shared, step.id, [])  # whose data comes from nowhere near
        node = writer._node_of(step)
        writer._add_edge(start, step.id, Link(source=start, target=step.id))
        writer._add_edge(step.id, end, Link(source=step.id, target=end))
        return {
            "component_type": "Flow", "id": f"{step.id}.flow", "name": step.title, "start_node": {"$component_ref": start},
            "nodes": [{"component_type": "StartNode", "id": start, "name": "Start"}, node, {"component_type": "EndNode", "id": end, "name": "End"}],
            "control_flow_connections": writer.control,
        }  # fmt: skip

    def _catching(self, key: str, title: str, subflow: dict[str, Any]) -> dict[str, Any]:
        return {"component_type": "CatchExceptionNode", "id": key, "name": title, "subflow": subflow}

    def _feed(self, step: Step, binding: Binding) -> bool:
        """Adds an edge of data for an input that comes from one step."""
        near = set(self.keys) | (self.outline.triggers if self.scope is None else set())
        sources = {ref.step for ref in binding.refs if ref.step in near}
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
        if link.role == "error":
            branch = {"from_branch": "caught_exception_branch"}
        self.control.append({
            "component_type": "ControlFlowEdge", "id": link.id or f"{source}-{target}", "name": link.note or f"{source} to {target}",
            "from_node": {"$component_ref": source}, **branch, "to_node": {"$component_ref": target},
        })  # fmt: skip


def _branch_of(link: Link) -> str:
    return link.label if link.condition else "default"
