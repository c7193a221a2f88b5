# The Open Agent Specification, JSON or YAML -> flows: a flow component with its nodes and edges, an agent by itself, or
# agents that work together. Components are written in place or by reference.
"""Reading Agent Spec components."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Content, Flow, Link, Origin, Step, Trigger, Variable
from zeitbuch.readers.input.limits import count_values

from .nodes import Node, inner_flows, step_of_node
from .parts import COMMON, Components, agent_use, component_id, edge_binding, is_agent, tool_step

ROOTS = ("Flow", "Swarm", "ManagerWorkers")


def recognises(document: Any) -> bool:
    """Whether a document is a component that can run: a flow, an agent or several agents."""
    kind = document.get("component_type") if isinstance(document, dict) else None
    return kind in ROOTS or is_agent(kind)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The flow of the document, and one for each flow inside it."""
    parts = Components(document, base)
    every = parts.all_flows() if document["component_type"] == "Flow" else [("", document), *parts.all_flows()]
    called = {str(component_id(field)) for _, field in every[1:]}
    for pointer, component in every:
        share = count if len(every) == 1 else count_values(component)
        reader = FlowReader(parts, component, pointer, str(component_id(component)) in called)
        yield reader.read_flow(share), reader.problems


def _branch_condition(source: dict[str, Any], branch: str) -> str:
    """The values of a branching node that lead to a branch."""
    mapping = source.get("mapping")
    values = sorted(str(key) for key, value in mapping.items() if value == branch) if isinstance(mapping, dict) else []
    return f"= {' or '.join(values)}" if values else ""


class FlowReader:
    """Reads one flow, agent or group of agents."""

    def __init__(self, parts: Components, component: dict[str, Any], pointer: str, called: bool) -> None:
        self.parts = parts
        self.component = component
        self.pointer = pointer
        self.called = called
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.triggers: list[Trigger] = []
        self.problems: list[Problem] = []

    def read_flow(self, count: int) -> Flow:
        """The component as a flow."""
        component = self.component
        kind = component["component_type"]
        if kind == "Flow":
            self._read_nodes()
        else:
            self._read_single(kind)
        known = {
            "nodes", "start_node", "control_flow_connections", "data_flow_connections", "$referenced_components", "llm_config",
            "system_prompt", "tools", "toolboxes", "first_agent", "relationships", "group_manager", "workers", *COMMON,
        }  # fmt: skip
        unread, missed = self._unread_parts(component, known)
        return Flow(
            id=component_id(component),
            name=str(component.get("name") or ""),
            description=str(component.get("description") or ""),
            version=str(component.get("agentspec_version") or ""),
            triggers=tuple(self.triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            variables=tuple(
                Variable(name=f"inputs.{_schema_title(parts)}", value=parts.get("default"), description=str(parts.get("description") or ""))
                for parts in self.parts.components_of(component.get("inputs"))
            ),
            unread=unread,
            format="agent-spec",
            content=Content(values=count, unread=missed),
            origin=self.parts.base.at(self.pointer),
        )  # fmt: skip

    def _unread_parts(self, component: dict[str, Any], known: set[str]) -> tuple[dict[str, Any], int]:
        unread: dict[str, Any] = {
            key: value for key, value in component.items() if key not in known and value not in (None, [], {})
        }
        if component.get("metadata"):
            unread["metadata"] = component["metadata"]
        missed = count_values(unread) if unread else 0
        missed += sum(count_values(step.unread) for step in self.steps if step.unread)
        return unread, missed

    # -- agents by themselves -----------------------------------------------------------------------------------------

    def _read_start(self, key: str, name: str, pointer: str) -> None:
        kind: Any = "call" if self.called else "chat" if self.component["component_type"] != "Flow" else "manual"
        self.triggers.append(
            Trigger(id=key, kind=kind, name=name, operation="StartNode", origin=self.parts.base.at(pointer))
        )

    def _read_single(self, kind: str) -> None:
        component = self.component
        self._read_start("start", "", self.pointer)
        if kind == "Swarm":
            self._read_swarm(component)
        elif kind == "ManagerWorkers":
            self._read_workers(component)
        else:
            self._read_agent(component, f"{component_id(component)}.agent")
            self.links.append(Link(source="start", target=f"{component_id(component)}.agent"))

    def _read_swarm(self, component: dict[str, Any]) -> None:
        first = self.parts.component_of(component.get("first_agent"))
        self._read_agent(first, component_id(first))
        for pair in component.get("relationships") or []:
            if isinstance(pair, list) and len(pair) == 2:
                left, second = (self.parts.component_of(part) for part in pair)
                for agent in (left, second):
                    if not any(step.id == component_id(agent) for step in self.steps):
                        self._read_agent(agent, component_id(agent))
                if component_id(second) != component_id(first):
                    self.links.append(Link(source=component_id(second), target=component_id(left), role="attach"))
        self.links.append(Link(source="start", target=component_id(first)))

    def _read_workers(self, component: dict[str, Any]) -> None:
        manager = self.parts.component_of(component.get("group_manager"))
        self._read_agent(manager, component_id(manager))
        for worker in self.parts.components_of(component.get("workers")):
            self._read_agent(worker, component_id(worker))
            self.links.append(Link(source=component_id(worker), target=component_id(manager), role="attach"))
        self.links.append(Link(source="start", target=component_id(manager)))

    def _read_agent(
        self,
        agent: dict[str, Any],
        key: str,
        scope: str | None = None,
        name: str = "",
        inputs: tuple[Binding, ...] = (),
    ) -> None:
        """An agent with its tools attached."""
        known = COMMON | {"llm_config", "system_prompt", "tools", "toolboxes", "agent", "$referenced_components"}
        self.steps.append(
            Step(
                id=key, kind="agent", name=name or str(agent.get("name") or key), operation=str(agent.get("component_type") or "Agent"),
                scope=scope, model=agent_use(self.parts, agent), inputs=inputs, note=str(agent.get("description") or ""),
                unread={key: value for key, value in agent.items() if key not in known and value not in (None, [], {}, False)}, origin=self.parts.origin_of(agent),
            )
        )  # fmt: skip
        helpers = [*self.parts.components_of(agent.get("tools")), *self.parts.components_of(agent.get("toolboxes"))]
        for tool in helpers:
            helper = tool_step(self.parts, tool, f"{key}.{component_id(tool)}", scope)
            self.steps.append(helper)
            self.links.append(Link(source=helper.id, target=key, role="attach", origin=self.parts.origin_of(tool)))

    # -- flows --------------------------------------------------------------------------------------------------------

    def _read_nodes(self) -> None:
        component = self.component
        nodes = [self.parts.component_of(number) for number in component.get("nodes") or []]
        start = self.parts.component_of(component.get("start_node"))
        if start and not any(component_id(mapping) == component_id(start) for mapping in nodes):
            nodes.insert(0, start)
        feeds = self._read_data_edges(component)
        for node in nodes:
            self._read_node(node, tuple(feeds.get(component_id(node), ())))
        kinds = {step.id: step.kind for step in self.steps}
        known = {*kinds, *[trigger.id for trigger in self.triggers]}
        for edge in self.parts.components_of(component.get("control_flow_connections")):
            self._read_control_edge(edge, kinds, known)

    def _read_control_edge(self, edge: dict[str, Any], kinds: Mapping[str, str], known: set[str]) -> None:
        source, target = self.parts.component_of(edge.get("from_node")), self.parts.component_of(edge.get("to_node"))
        origin = self.parts.origin_of(edge)
        ends = [component_id(node) if node else "?" for node in (source, target)]
        if not set(ends) <= known:
            lost = " and ".join(repr(name) for name in ends if name not in known)
            message = f"expected an edge between nodes of the flow, found {lost}"
            self.problems.append(Problem("link-end", "error", message, origin, "the edge is left out"))
            return
        branch = str(edge.get("from_branch") or "")
        given: dict[str, Any] = {"label": "" if branch in ("", "next") else branch}
        if kinds.get(ends[0]) == "decide":
            given = {"role": "case", "label": branch or "next", "condition": _branch_condition(source, branch)}
        elif "exception" in branch:
            given = {"role": "error", "label": "on error", "after": ("failure",)}
        self.links.append(Link(source=ends[0], target=ends[1], origin=origin, **given))

    def _read_data_edges(self, component: dict[str, Any]) -> dict[str, list[Binding]]:
        feeds: dict[str, list[Binding]] = {}
        for edge in self.parts.components_of(component.get("data_flow_connections")):
            source, target = (
                self.parts.component_of(edge.get("source_node")),
                self.parts.component_of(edge.get("destination_node")),
            )
            if source and target:
                feeds.setdefault(component_id(target), []).append(edge_binding(edge, component_id(source)))
        return feeds

    def _read_node(self, raw: dict[str, Any], inputs: tuple[Binding, ...]) -> None:
        node = Node(self.parts, raw, inputs)
        key, name = component_id(raw), str(raw.get("name") or "")
        agent = self.parts.component_of(raw.get("agent")) if node.kind == "AgentNode" else {}
        if node.kind == "StartNode":
            self._read_start(key, name, "")
        elif node.kind == "AgentNode" and agent.get("component_type") != "Flow":
            self._read_agent(agent, key, None, name, inputs)
        else:
            self.steps.append(step_of_node(node))
            for flow in inner_flows(node):
                self._read_inner_flow(flow, key, self.parts.origin_of(raw))

    def _read_inner_flow(self, flow: Any, scope: str, origin: Origin | None) -> None:
        """A flow that a node runs inside: one step that calls it."""
        whole = self.parts.component_of(flow)
        key = f"{scope}.{component_id(whole)}"
        self.steps.append(
            Step(
                id=key,
                kind="subflow",
                name=str(whole.get("name") or ""),
                operation="subflow",
                calls=component_id(whole),
                scope=scope,
                origin=origin,
            )
        )


def _schema_title(schema: dict[str, Any]) -> str:
    return str(schema.get("title") or "input")
