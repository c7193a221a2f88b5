# References between components, and the parts that flows and agents share: models, prompts, tools. A component is read where it
# stands, once, however many refer to it.
"""Components, models and tools of the Open Agent Specification."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Connection, ModelUse, Origin, Prompt, Ref, Step
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS
from zeitbuch.readers.input.views import View

REQUEST = ("url", "http_method", "api_spec_uri", "data", "query_params", "headers")


def component_id(component: View) -> str:
    """The id of a component, else its name."""
    return component.text("id") or component.text("name") or "component"


def is_agent(kind: Any) -> bool:
    """Whether a component type is an agent's: the specification names them all so, and lets others add theirs."""
    return isinstance(kind, str) and kind.endswith("Agent")


_PLACEHOLDER = re.compile(r"\{\{\s*([A-Za-z_][\w.]*)\s*\}\}")


class Components:
    """All components of a document by id, wherever they are written."""

    def __init__(self, document: dict[str, Any], base: Origin) -> None:
        self.root = View(document)
        self.base = base
        self.by_id: dict[str, View] = {}
        self.every: list[View] = []
        self.problems: list[Problem] = []
        self.missing: set[str] = set()
        self.connections: dict[str, Connection] = {}
        self._index()

    def _index(self) -> None:
        stack: list[View] = [self.root]
        while stack:
            view = stack.pop()
            view.expect(
                "agentspec_version", "25.", "26."
            )  # the version of the standard says nothing about the component
            if "component_type" in view:
                self.every.append(view)
                if isinstance(view.peek("id"), str):
                    self.by_id.setdefault(view.value["id"], view)
            stack += reversed(view.all_below())

    def component_of(self, held: View) -> View:
        """A component written in place or by reference; empty when there is none. One that is referred to and not there is told."""
        for _ in range(20):
            if "$component_ref" not in held:
                return held
            name = str(held.peek("$component_ref"))
            if name not in self.by_id:
                self._tell_missing(name, held)
                return View({})
            held.take("$component_ref")
            held = self.by_id[name]
        return View({})

    def _tell_missing(self, name: str, held: View) -> None:
        if name not in self.missing:
            self.missing.add(name)
            message = f"expected the component '{name}' in the document, found none with that id"
            hint = "export it together with what refers to it; the reference is kept under unread parts"
            self.problems.append(Problem("reference-missing", "finding", message, self.origin_of(held), hint))

    def components_of(self, held: list[View]) -> list[View]:
        """The components of a list."""
        return [component for item in held if (component := self.component_of(item))]

    def origin_of(self, component: View) -> Origin:
        """Where a component stands."""
        return self.base.at(component.pointer)

    def all_flows(self) -> list[View]:
        """All flow components, the outermost first."""
        found = [view for view in self.every if view.peek("component_type") == "Flow"]
        return sorted(found, key=lambda view: (len(view.pointer), view.pointer))

    # -- what steps share ---------------------------------------------------------------------------------------------

    def model_settings(self, component: View) -> tuple[dict[str, Any], str | None]:
        """Name, temperature and longest output of a model configuration, and the id of the connection that it is."""
        config = self.component_of(component.view("llm_config"))
        if not config:
            return {}, None
        key = component_id(config)
        given = config.view("default_generation_parameters")
        settings = {
            "name": config.text("model_id") or config.text("name") or None,
            "temperature": given.number("temperature"),
            "max_output": given.whole("max_tokens"),
        }
        self.connections.setdefault(
            key,
            Connection(
                id=key, name=config.text("name"), service=config.text("component_type"), account=config.text("url")
            ),
        )
        return settings, key


def edge_binding(edge: View, source: str) -> Binding:
    """A data edge as an input of the node it leads to."""
    name = edge.text("destination_input") or "input"
    ref = Ref(step=source, path=edge.text("source_output"), text="{{" + name + "}}")
    edge.expect("component_type", "DataFlowEdge")
    edge.noise("id")  # an arrow of data is its two ends
    about = ": ".join(words for words in (edge.text("name"), edge.text("description")) if words)
    return Binding(name=name, decided="data", refs=(ref,), description=about or None)


def declared(component: View, fed: tuple[Binding, ...] = (), decided: Any = "fixed") -> tuple[Binding, ...]:
    """The inputs that a component declares (JSON Schema of each), those that are fed completed, and its outputs."""
    found = {binding.name: binding for binding in fed}
    for schema in component.views("inputs"):
        name = schema.text("title") or "input"
        kind, about, value = schema.take("type"), schema.text("description"), schema.take("default")
        held = found.get(name) or Binding(name=name, value=value, decided=decided)
        found[name] = Binding(
            name=name,
            value=held.value if held.value is not None else value,
            decided=held.decided,
            refs=held.refs,
            type=_type_words(kind),
            description=about or held.description,
        )
    outputs = []
    for schema in component.views("outputs"):
        title, said = schema.text("title") or "output", dict(schema.value)
        schema.mark(*said)
        outputs.append(
            Binding(name=f"outputs.{title}", value={key: item for key, item in said.items() if key != "title"})
        )
    return (*found.values(), *outputs)


def _type_words(kind: Any) -> str | None:
    if kind is None or isinstance(kind, str):
        return kind or None
    return " or ".join(map(str, kind)) if isinstance(kind, list) else str(kind)


def plain_inputs(component: View, *names: str) -> tuple[Binding, ...]:
    """Fields as inputs of the step."""
    found = [(name, component.take(name)) for name in names if component.peek(name) not in (None, "", [], {})]
    return tuple([Binding(name=name, value=value) for name, value in found])


def model_use(parts: Components, node: View, inputs: tuple[Binding, ...]) -> tuple[ModelUse, str | None]:
    """How an LLM node uses its model, and its connection."""
    text = node.text("prompt_template")
    refs: list[Ref] = []
    for matched in _PLACEHOLDER.finditer(text):
        fed = next((binding.refs[0] for binding in inputs if binding.name == matched[1] and binding.refs), None)
        refs.append(
            Ref(step=fed.step, path=fed.path, text=matched[0])
            if fed is not None
            else Ref(variable=matched[1], text=matched[0])
        )
    prompts = (Prompt(text=text, refs=tuple(dict.fromkeys(refs))),) if text else ()
    settings, connection = parts.model_settings(node)
    return ModelUse(prompts=prompts, **settings), connection


def agent_use(parts: Components, agent: View) -> tuple[ModelUse, str | None]:
    """How an agent uses its model, and its connection."""
    text = agent.text("system_prompt")
    refs = tuple(dict.fromkeys(Ref(variable=matched[1], text=matched[0]) for matched in _PLACEHOLDER.finditer(text)))
    settings, connection = parts.model_settings(agent)
    prompts = (Prompt(text=text, role="system", refs=refs),) if text else ()
    return ModelUse(prompts=prompts, **settings), connection


def tool_inputs(tool: View) -> tuple[Binding, ...]:
    """What a tool is given: what its inputs hold the model decides, the rest stands in the tool."""
    inputs = (*declared(tool, decided="model"), *plain_inputs(tool, *REQUEST))
    confirm = tool.flag("requires_confirmation")
    return (*inputs, Binding(name="requires_confirmation", value=True)) if confirm else inputs


def tool_step(parts: Components, tool: View, key: str, scope: str | None) -> Step:
    """A tool of an agent."""
    return Step(
        id=key, kind="tool", name=tool.text("name") or key, operation=tool.text("component_type") or "Tool", scope=scope,
        effect=METHOD_EFFECTS.get(str(tool.peek("http_method") or "").lower(), "none"), inputs=tool_inputs(tool),
        note=tool.text("description"), origin=parts.origin_of(tool),
    )  # fmt: skip
