# The Open Agent Specification, JSON or YAML -> flows: a flow component with its nodes and edges, an agent by itself, or
# agents that work together. Components are written in place or by reference.
"""Reading Agent Spec components."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Content, Flow, Link, Origin, Step, Trigger, Variable
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.views import View, noise_below

from .nodes import Node, about_part, inner_flows, step_of_node
from .parts import Components, agent_use, component_id, declared, edge_binding, is_agent, tool_step

ROOTS = ("Flow", "Swarm", "ManagerWorkers")


def recognises(document: Any) -> bool:
    """Whether a document is a component that can run: a flow, an agent or several agents."""
    kind = document.get("component_type") if isinstance(document, dict) else None
    return kind in ROOTS or is_agent(kind)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The flow of the document, and one for each flow inside it."""
    parts = Components(document, base)
    every = parts.all_flows() if document["component_type"] == "Flow" else [parts.root, *parts.all_flows()]
    called = {component_id(component) for component in every[1:]}
    readers = [FlowReader(parts, component, component_id(component) in called) for component in every]
    made = [reader.read_flow() for reader in readers]
    unread = _unread_parts(readers)
    values = _values_of(every, count)
    for place, (reader, flow) in enumerate(zip(readers, made, strict=True)):
        steps = tuple(structs.replace(step, unread=unread.get(reader.views.get(step.id), {})) for step in flow.steps)
        rest = {**unread[reader.component], **({"unread parts": reader.lost} if reader.lost else {})}
        missed = sum(count_values(left) for left in (rest, *[step.unread for step in steps]) if left)
        content = Content(values=values[place], unread=missed)
        problems = [*reader.problems, *([] if place else parts.problems)]
        noise = {} if place else noise_below(parts.root)
        yield structs.replace(flow, steps=steps, unread=rest, noise=noise, content=content), problems


def _unread_parts(readers: list[FlowReader]) -> dict[View | None, dict[str, Any]]:
    """What was not taken, by the component it stands in; the innermost first, so that nothing is told twice."""
    owners = [view for reader in readers for view in (*reader.views.values(), reader.component)]
    found: dict[View | None, dict[str, Any]] = {}
    for view in sorted(owners, key=lambda view: view.pointer.count("/"), reverse=True):
        if view not in found:
            found[view] = view.rest()
            view.mark(*view.value)  # told with its step
    return found


def _values_of(every: list[View], count: int) -> list[int]:
    """How many values belong to each flow: those of flows inside it are theirs."""
    own = [count if not view.pointer else count_values(view.value) for view in every]
    places = {view.pointer: place for place, view in enumerate(every)}
    whole = list(own)
    for place, view in enumerate(every):
        outer = view.pointer
        while outer:
            outer = outer.rpartition("/")[0]
            if outer in places:
                own[places[outer]] -= whole[place]
                break
    return own


def _branch_condition(source: View, branch: str) -> str:
    """The values of a branching node that lead to a branch."""
    mapping = source.view("mapping")
    values = sorted(str(key) for key, value in mapping.value.items() if value == branch)
    mapping.mark(*values)  # each stands in the condition
    return f"= {' or '.join(values)}" if values else ""


class FlowReader:
    """Reads one flow, agent or group of agents."""

    def __init__(self, parts: Components, component: View, called: bool) -> None:
        self.parts = parts
        self.component = component
        self.called = called
        self.steps: list[Step] = []
        self.views: dict[str, View] = {}
        self.links: list[Link] = []
        self.triggers: list[Trigger] = []
        self.problems: list[Problem] = []
        self.lost: list[Any] = []

    def read_flow(self) -> Flow:
        """The component as a flow, without what was not understood of it."""
        component = self.component
        kind = component.text("component_type")
        if kind == "Flow":
            self._read_nodes()
        else:
            self._read_single(kind)
        bindings = declared(component)
        used = {step.connection for step in self.steps if step.connection}
        return Flow(
            id=component_id(component),
            name=component.text("name"),
            description=component.text("description"),
            triggers=tuple(self.triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            connections=tuple(made for key, made in self.parts.connections.items() if key in used),
            variables=tuple(map(_variable_of, bindings)),
            format="agent-spec",
            origin=self.parts.base.at(component.pointer),
        )

    # -- agents by themselves -----------------------------------------------------------------------------------------

    def _read_start(self, key: str, view: View | None) -> None:
        kind: Any = "call" if self.called else "chat" if self.component.peek("component_type") != "Flow" else "manual"
        inputs = () if view is None else declared(view)
        note = "" if view is None else view.text("description")
        self.triggers.append(
            Trigger(
                id=key, kind=kind, name="" if view is None else view.text("name"), operation="StartNode",
                inputs=(*inputs, *([Binding(name="description", value=note)] if note else [])),
                unread={} if view is None else self._rest_of_start(view),
                origin=self.parts.origin_of(view or self.component),
            )
        )  # fmt: skip

    def _rest_of_start(self, view: View) -> dict[str, Any]:
        rest = view.rest()
        view.mark(*rest)
        return rest

    def _read_single(self, kind: str) -> None:
        component = self.component
        self._read_start("start", None)
        if kind == "Swarm":
            self._read_swarm(component)
        elif kind == "ManagerWorkers":
            self._read_workers(component)
        else:
            self._read_agent(component, f"{component_id(component)}.agent")
            self.links.append(Link(source="start", target=f"{component_id(component)}.agent"))

    def _read_swarm(self, component: View) -> None:
        first = self.parts.component_of(component.view("first_agent"))
        self._read_agent(first, component_id(first))
        for pair in component.nested("relationships"):
            if len(pair) != 2:
                continue
            left, second = (self.parts.component_of(part) for part in pair)
            for agent in (left, second):
                if agent and not any(step.id == component_id(agent) for step in self.steps):
                    self._read_agent(agent, component_id(agent))
            if left and second and component_id(second) != component_id(first):
                self.links.append(Link(source=component_id(second), target=component_id(left), role="attach"))
        self.links.append(Link(source="start", target=component_id(first)))

    def _read_workers(self, component: View) -> None:
        manager = self.parts.component_of(component.view("group_manager"))
        self._read_agent(manager, component_id(manager))
        for worker in self.parts.components_of(component.views("workers")):
            self._read_agent(worker, component_id(worker))
            self.links.append(Link(source=component_id(worker), target=component_id(manager), role="attach"))
        self.links.append(Link(source="start", target=component_id(manager)))

    def _read_agent(self, agent: View, key: str, node: Node | None = None) -> None:
        """An agent with its tools attached, by itself or as the node that runs it."""
        use, connection = agent_use(self.parts, agent)
        name, note = agent.text("name") or key, agent.text("description")
        inputs = declared(agent)
        origin = self.parts.origin_of(agent)
        self.views.setdefault(key, agent if node is None else node.raw)
        operation = agent.text("component_type") or "Agent"
        if node is not None:
            common = node.common_fields()
            inputs = (*about_part(agent, "agent"), *inputs, *common["inputs"])
            name, note = common["name"] or key, common["note"]
        self.steps.append(
            Step(
                id=key, kind="agent", name=name, operation=operation, model=use, connection=connection,
                inputs=inputs, note=note, origin=origin,
            )
        )  # fmt: skip
        held = [*agent.views("tools"), *agent.views("toolboxes")]
        for tool in self.parts.components_of(held):
            helper = tool_step(self.parts, tool, f"{key}.{component_id(tool)}", None)
            self.steps.append(helper)
            self.views[helper.id] = tool
            self.links.append(Link(source=helper.id, target=key, role="attach", origin=self.parts.origin_of(tool)))

    # -- flows --------------------------------------------------------------------------------------------------------

    def _read_nodes(self) -> None:
        component = self.component
        nodes = self.parts.components_of(component.views("nodes"))
        start = self.parts.component_of(component.view("start_node"))
        if start and not any(component_id(node) == component_id(start) for node in nodes):
            nodes.insert(0, start)
        feeds = self._read_data_edges(component)
        for node in nodes:
            self._read_node(node, tuple(feeds.get(component_id(node), ())))
        kinds = {step.id: step.kind for step in self.steps}
        known = {*kinds, *[trigger.id for trigger in self.triggers]}
        for edge in self.parts.components_of(component.views("control_flow_connections")):
            self._read_control_edge(edge, kinds, known)

    def _read_control_edge(self, edge: View, kinds: Mapping[str, str], known: set[str]) -> None:
        source, target = (self.parts.component_of(edge.view(end)) for end in ("from_node", "to_node"))
        origin = self.parts.origin_of(edge)
        ends = [component_id(node) if node else "?" for node in (source, target)]
        edge.expect("component_type", "ControlFlowEdge")
        key, words = edge.text("id"), [edge.text("name"), edge.text("description")]
        branch = edge.text("from_branch")
        if not set(ends) <= known:
            lost = " and ".join(repr(name) for name in ends if name not in known)
            message = f"expected an edge between nodes of the flow, found {lost}"
            hint = "the edge is left out and listed under unread parts"
            self.problems.append(Problem("link-end", "finding", message, origin, hint))
            self.lost.append(
                {"edge": key, "from": ends[0], "to": ends[1], "branch": branch, "said": list(filter(None, words))}
            )
            return
        given: dict[str, Any] = {
            "label": "" if branch in ("", "next") else branch,
            "outlet": "next" if branch == "next" else "",
        }
        if kinds.get(ends[0]) == "decide":
            given = {"role": "case", "label": branch or "next", "condition": _branch_condition(source, branch)}
        elif "exception" in branch:
            given = {"role": "error", "label": "on error", "after": ("failure",), "outlet": branch}
        note = "\n".join(filter(None, words))
        self.links.append(Link(source=ends[0], target=ends[1], origin=origin, id=key, note=note, **given))

    def _read_data_edges(self, component: View) -> dict[str, list[Binding]]:
        feeds: dict[str, list[Binding]] = {}
        for edge in self.parts.components_of(component.views("data_flow_connections")):
            source, target = (self.parts.component_of(edge.view(end)) for end in ("source_node", "destination_node"))
            if source and target:
                feeds.setdefault(component_id(target), []).append(edge_binding(edge, component_id(source)))
        return feeds

    def _read_node(self, raw: View, fed: tuple[Binding, ...]) -> None:
        node = Node(self.parts, raw, fed)
        key = component_id(raw)
        agent = self.parts.component_of(raw.view("agent")) if node.kind == "AgentNode" else View({})
        if node.kind == "StartNode":
            raw.take("component_type")
            self._read_start(key, raw)
        elif node.kind == "AgentNode" and agent.peek("component_type") != "Flow":
            self._read_agent(agent, key, node)
        else:
            self.views[key] = raw
            self.steps.append(step_of_node(node))
            for flow in inner_flows(node):
                self._read_inner_flow(flow, key, self.parts.origin_of(raw))

    def _read_inner_flow(self, whole: View, scope: str, origin: Origin | None) -> None:
        """A flow that a node runs inside: one step that calls it."""
        key = f"{scope}.{component_id(whole)}"
        self.steps.append(
            Step(
                id=key, kind="subflow", name=whole.text("name"), operation="subflow", calls=component_id(whole), scope=scope,
                origin=origin,
            )
        )  # fmt: skip


def _variable_of(binding: Binding) -> Variable:
    """An input or output of a flow, with its type where it has one."""
    name = binding.name if binding.name.startswith("outputs.") else f"inputs.{binding.name}"
    value = binding.value if binding.type is None else {"type": binding.type, "default": binding.value}
    if isinstance(value, dict):
        value = {key: item for key, item in value.items() if item is not None}
    return Variable(name=name, value=value, description=binding.description or "")
