# The Open Agent Specification, JSON or YAML -> flows: a flow component with its nodes and edges, an agent by itself, or
# agents that work together. Components are written in place or by reference.
"""Reading Agent Spec components."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Content, Flow, Link, Origin, Repeat, Step, Trigger, Variable
from zeitbuch.readers.input.limits import count_values

from .parts import Components, agent_use, edge_binding, is_agent, model_use, tool_step

_COMMON = frozenset(
    {"component_type", "id", "name", "description", "metadata", "inputs", "outputs", "agentspec_version", "branches"}
)
ROOTS = ("Flow", "Swarm", "ManagerWorkers")


def recognises(document: Any) -> bool:
    """Whether a document is a component that can run: a flow, an agent or several agents."""
    kind = document.get("component_type") if isinstance(document, dict) else None
    return kind in ROOTS or is_agent(kind)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The flow of the document, and one for each flow inside it."""
    parts = Components(document, base)
    every = parts.all_flows() if document["component_type"] == "Flow" else [("", document), *parts.all_flows()]
    called = {str(_component_id(field)) for _, field in every[1:]}
    for pointer, component in every:
        share = count if len(every) == 1 else count_values(component)
        reader = FlowReader(parts, component, pointer, str(_component_id(component)) in called)
        yield reader.read_flow(share), reader.problems


def _component_id(component: dict[str, Any]) -> str:
    return str(component.get("id") or component.get("name") or "component")


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
            "system_prompt", "tools", "toolboxes", "first_agent", "relationships", "group_manager", "workers", *_COMMON,
        }  # fmt: skip
        unread: dict[str, Any] = {
            key: value for key, value in component.items() if key not in known and value not in (None, [], {})
        }
        if component.get("metadata"):
            unread["metadata"] = component["metadata"]
        missed = count_values(unread) if unread else 0
        missed += sum(count_values(step.unread) for step in self.steps if step.unread)
        return Flow(
            id=_component_id(component),
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
            first = self.parts.component_of(component.get("first_agent"))
            self._read_agent(first, _component_id(first))
            for pair in component.get("relationships") or []:
                if isinstance(pair, list) and len(pair) == 2:
                    left, second = (self.parts.component_of(part) for part in pair)
                    for agent in (left, second):
                        if not any(step.id == _component_id(agent) for step in self.steps):
                            self._read_agent(agent, _component_id(agent))
                    if _component_id(second) != _component_id(first):
                        self.links.append(Link(source=_component_id(second), target=_component_id(left), role="attach"))
            self.links.append(Link(source="start", target=_component_id(first)))
        elif kind == "ManagerWorkers":
            manager = self.parts.component_of(component.get("group_manager"))
            self._read_agent(manager, _component_id(manager))
            for worker in self.parts.components_of(component.get("workers")):
                self._read_agent(worker, _component_id(worker))
                self.links.append(Link(source=_component_id(worker), target=_component_id(manager), role="attach"))
            self.links.append(Link(source="start", target=_component_id(manager)))
        else:
            self._read_agent(component, f"{_component_id(component)}.agent")
            self.links.append(Link(source="start", target=f"{_component_id(component)}.agent"))

    def _read_agent(
        self,
        agent: dict[str, Any],
        key: str,
        scope: str | None = None,
        name: str = "",
        inputs: tuple[Binding, ...] = (),
    ) -> None:
        """An agent with its tools attached."""
        known = _COMMON | {"llm_config", "system_prompt", "tools", "toolboxes", "agent", "$referenced_components"}
        self.steps.append(
            Step(
                id=key, kind="agent", name=name or str(agent.get("name") or key), operation=str(agent.get("component_type") or "Agent"),
                scope=scope, model=agent_use(self.parts, agent), inputs=inputs, note=str(agent.get("description") or ""),
                unread={key: value for key, value in agent.items() if key not in known and value not in (None, [], {}, False)}, origin=self.parts.origin_of(agent),
            )
        )  # fmt: skip
        helpers = [*self.parts.components_of(agent.get("tools")), *self.parts.components_of(agent.get("toolboxes"))]
        for tool in helpers:
            helper = tool_step(self.parts, tool, f"{key}.{_component_id(tool)}", scope)
            self.steps.append(helper)
            self.links.append(Link(source=helper.id, target=key, role="attach", origin=self.parts.origin_of(tool)))

    # -- flows --------------------------------------------------------------------------------------------------------

    def _read_nodes(self) -> None:
        component = self.component
        nodes = [self.parts.component_of(number) for number in component.get("nodes") or []]
        start = self.parts.component_of(component.get("start_node"))
        if start and not any(_component_id(mapping) == _component_id(start) for mapping in nodes):
            nodes.insert(0, start)
        feeds: dict[str, list[Binding]] = {}
        for edge in self.parts.components_of(component.get("data_flow_connections")):
            source, target = (
                self.parts.component_of(edge.get("source_node")),
                self.parts.component_of(edge.get("destination_node")),
            )
            if source and target:
                feeds.setdefault(_component_id(target), []).append(edge_binding(edge, _component_id(source)))
        for node in nodes:
            self._read_node(node, tuple(feeds.get(_component_id(node), ())))
        kinds = {step.id: step.kind for step in self.steps}
        known = {*kinds, *[trigger.id for trigger in self.triggers]}
        for edge in self.parts.components_of(component.get("control_flow_connections")):
            source, target = (
                self.parts.component_of(edge.get("from_node")),
                self.parts.component_of(edge.get("to_node")),
            )
            origin = self.parts.origin_of(edge)
            ends = [_component_id(mapping) if mapping else "?" for mapping in (source, target)]
            if not set(ends) <= known:
                lost = " and ".join(repr(name) for name in ends if name not in known)
                self.problems.append(
                    Problem(
                        "link-end",
                        "error",
                        f"expected an edge between nodes of the flow, found {lost}",
                        origin,
                        "the edge is left out",
                    )
                )
                continue
            branch = str(edge.get("from_branch") or "")
            if kinds.get(ends[0]) == "decide":
                mapping = source.get("mapping") if isinstance(source.get("mapping"), dict) else {}
                values = sorted(str(key) for key, value in (mapping or {}).items() if value == branch)
                condition = f"= {' or '.join(values)}" if values else ""
                self.links.append(
                    Link(
                        source=ends[0],
                        target=ends[1],
                        role="case",
                        label=branch or "next",
                        condition=condition,
                        origin=origin,
                    )
                )
            elif "exception" in branch:
                self.links.append(
                    Link(
                        source=ends[0],
                        target=ends[1],
                        role="error",
                        label="on error",
                        after=("failure",),
                        origin=origin,
                    )
                )
            else:
                self.links.append(
                    Link(source=ends[0], target=ends[1], label="" if branch in ("", "next") else branch, origin=origin)
                )

    def _read_node(self, node: dict[str, Any], inputs: tuple[Binding, ...]) -> None:
        kind = str(node.get("component_type") or "")
        key, name = _component_id(node), str(node.get("name") or "")
        origin = self.parts.origin_of(node)
        given: dict[str, Any] = {
            "id": key,
            "name": name,
            "operation": kind,
            "note": str(node.get("description") or ""),
            "origin": origin,
        }

        def rest(*known: str) -> dict[str, Any]:
            return {
                key: value
                for key, value in node.items()
                if key not in _COMMON and key not in known and value not in (None, [], {})
            }

        match kind:
            case "StartNode":
                self._read_start(key, name, "")
            case "EndNode":
                self.steps.append(Step(kind="end", inputs=inputs, unread=rest("branch_name"), **given))
            case "LlmNode":
                use = model_use(self.parts, node, inputs)
                self.steps.append(
                    Step(kind="model", model=use, inputs=inputs, unread=rest("llm_config", "prompt_template"), **given)
                )
            case "AgentNode":
                agent = self.parts.component_of(node.get("agent"))
                if agent.get("component_type") == "Flow":
                    self.steps.append(Step(kind="subflow", calls=_component_id(agent), inputs=inputs, **given))
                else:
                    self._read_agent(agent, key, None, name, inputs)
            case "ToolNode":
                tool = self.parts.component_of(node.get("tool"))
                helper = tool_step(self.parts, tool, key, None)
                self.steps.append(
                    Step(
                        kind="tool",
                        effect=helper.effect,
                        inputs=(*[second for second in helper.inputs if second.decided != "model"], *inputs),
                        unread=helper.unread,
                        **{**given, "operation": f"{kind} {helper.operation}"},
                    )
                )
            case "FlowNode":
                self.steps.append(
                    Step(
                        kind="subflow",
                        calls=_component_id(self.parts.component_of(node.get("subflow"))),
                        inputs=inputs,
                        unread=rest("subflow"),
                        **given,
                    )
                )
            case "MapNode" | "ParallelMapNode":
                over = next((second.name for second in inputs if second.name.startswith("iterated_")), "")
                self.steps.append(
                    Step(
                        kind="loop",
                        repeat=Repeat(items=over or "items"),
                        inputs=(*inputs, *self._read_plain_node(node, "reducers")),
                        unread=rest("subflow", "reducers"),
                        **given,
                    )
                )
                self._read_inner_flow(node.get("subflow"), key, origin)
            case "ParallelFlowNode":
                self.steps.append(Step(kind="parallel", inputs=inputs, unread=rest("subflows"), **given))
                for flow in node.get("subflows") or []:
                    self._read_inner_flow(flow, key, origin)
            case "CatchExceptionNode":
                self.steps.append(Step(kind="guard", on_fault="route", inputs=inputs, unread=rest("subflow"), **given))
                self._read_inner_flow(node.get("subflow"), key, origin)
            case "BranchingNode":
                self.steps.append(
                    Step(
                        kind="decide",
                        condition=next((second.name for second in inputs), None),
                        inputs=inputs,
                        unread=rest("mapping"),
                        **given,
                    )
                )
            case "ApiNode":
                method = str(node.get("http_method") or "get").lower()
                effect: Any = {"get": "read", "head": "read", "delete": "delete"}.get(method, "write")
                told = self._read_plain_node(
                    node, "url", "http_method", "api_spec_uri", "data", "query_params", "headers"
                )
                self.steps.append(
                    Step(
                        kind="http",
                        effect=effect,
                        inputs=(*inputs, *told),
                        unread=rest("url", "http_method", "api_spec_uri", "data", "query_params", "headers"),
                        **given,
                    )
                )
            case "InputMessageNode":
                self.steps.append(
                    Step(
                        kind="wait",
                        inputs=(*inputs, *self._read_plain_node(node, "message")),
                        unread=rest("message"),
                        **given,
                    )
                )
            case "OutputMessageNode":
                self.steps.append(
                    Step(
                        kind="send",
                        effect="send",
                        inputs=(*inputs, *self._read_plain_node(node, "message")),
                        unread=rest("message"),
                        **given,
                    )
                )
            case _:
                self.steps.append(Step(kind="other", inputs=inputs, unread=rest(), **given))

    def _read_plain_node(self, node: dict[str, Any], *names: str) -> tuple[Binding, ...]:
        return tuple(Binding(name=name, value=node[name]) for name in names if node.get(name) not in (None, "", [], {}))

    def _read_inner_flow(self, flow: Any, scope: str, origin: Origin | None) -> None:
        """A flow that a node runs inside: one step that calls it."""
        whole = self.parts.component_of(flow)
        key = f"{scope}.{_component_id(whole)}"
        self.steps.append(
            Step(
                id=key,
                kind="subflow",
                name=str(whole.get("name") or ""),
                operation="subflow",
                calls=_component_id(whole),
                scope=scope,
                origin=origin,
            )
        )


def _schema_title(schema: dict[str, Any]) -> str:
    return str(schema.get("title") or "input")
