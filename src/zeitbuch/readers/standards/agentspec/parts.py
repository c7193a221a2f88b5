# References between components, and the parts that flows and agents share: models, prompts, tools.
"""Components, models and tools of the Open Agent Specification."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, ModelUse, Origin, Prompt, Ref, Step
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS
from zeitbuch.readers.input.pointers import escape_key

COMMON = frozenset(
    {"component_type", "id", "name", "description", "metadata", "inputs", "outputs", "agentspec_version", "branches"}
)


def component_id(component: dict[str, Any]) -> str:
    """The id of a component, else its name."""
    return str(component.get("id") or component.get("name") or "component")


def is_agent(kind: Any) -> bool:
    """Whether a component type is an agent's: the specification names them all so, and lets others add theirs."""
    return isinstance(kind, str) and kind.endswith("Agent")


_PLACEHOLDER = re.compile(r"\{\{\s*([A-Za-z_][\w.]*)\s*\}\}")


class Components:
    """All components of a document by id, wherever they are written."""

    def __init__(self, document: dict[str, Any], base: Origin) -> None:
        self.document = document
        self.base = base
        self.by_id: dict[str, dict[str, Any]] = {}
        self.places: dict[int, str] = {}
        stack: list[tuple[str, Any]] = [("", document)]
        while stack:
            pointer, value = stack.pop()
            if isinstance(value, dict):
                if "component_type" in value:
                    self.places[id(value)] = pointer
                    if isinstance(value.get("id"), str):
                        self.by_id.setdefault(value["id"], value)
                stack += [(f"{pointer}/{escape_key(str(key))}", item) for key, item in reversed(list(value.items()))]
            elif isinstance(value, list):
                stack += [(f"{pointer}/{item}", v) for item, v in reversed(list(enumerate(value)))]

    def component_of(self, value: Any) -> dict[str, Any]:
        """A component written in place or by reference; empty when it is not there."""
        for _ in range(20):
            if not isinstance(value, dict):
                return {}
            reference = value.get("$component_ref")
            if reference is None:
                return value
            value = self.by_id.get(str(reference))
        return {}

    def components_of(self, value: Any) -> list[dict[str, Any]]:
        """The components of a list."""
        return [mapping for item in value if (mapping := self.component_of(item))] if isinstance(value, list) else []

    def origin_of(self, component: dict[str, Any]) -> Origin:
        """Where a component stands."""
        return self.base.at(self.places.get(id(component), ""))

    def all_flows(self) -> list[tuple[str, dict[str, Any]]]:
        """All flow components with their pointers, the outermost first."""
        found = [
            (pointer, mapping)
            for mapping in self._all_components()
            if mapping.get("component_type") == "Flow" and (pointer := self.places[id(mapping)]) is not None
        ]
        return sorted(found, key=lambda f: (len(f[0]), f[0]))

    def _all_components(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = []
        stack: list[Any] = [self.document]
        while stack:
            value = stack.pop()
            if isinstance(value, dict):
                if "component_type" in value:
                    found.append(value)
                stack += reversed(list(value.values()))
            elif isinstance(value, list):
                stack += reversed(value)
        return found


def edge_binding(edge: dict[str, Any], source: str) -> Binding:
    """A data edge as an input of the node it leads to."""
    name = str(edge.get("destination_input") or "input")
    ref = Ref(step=source, path=str(edge.get("source_output") or ""), text="{{" + name + "}}")
    return Binding(name=name, decided="data", refs=(ref,))


def _model_settings(parts: Components, component: dict[str, Any]) -> dict[str, Any]:
    """Name, temperature and longest output of a model configuration."""
    config = parts.component_of(component.get("llm_config"))
    settings = config.get("default_generation_parameters")
    settings = settings if isinstance(settings, dict) else {}
    temperature, most = settings.get("temperature"), settings.get("max_tokens")
    return {
        "name": str(config.get("model_id") or config.get("name") or "") or None,
        "temperature": float(temperature) if isinstance(temperature, int | float) else None,
        "max_output": most if isinstance(most, int) else None,
    }


def model_use(parts: Components, node: dict[str, Any], inputs: tuple[Binding, ...]) -> ModelUse:
    """How an LLM node uses its model."""
    text = str(node.get("prompt_template") or "")
    refs: list[Ref] = []
    for matched in _PLACEHOLDER.finditer(text):
        fed = next((second.refs[0] for second in inputs if second.name == matched[1] and second.refs), None)
        refs.append(
            Ref(step=fed.step, path=fed.path, text=matched[0])
            if fed is not None
            else Ref(variable=matched[1], text=matched[0])
        )
    prompts = (Prompt(text=text, refs=tuple(dict.fromkeys(refs))),) if text else ()
    return ModelUse(prompts=prompts, **_model_settings(parts, node))


def agent_use(parts: Components, agent: dict[str, Any]) -> ModelUse:
    """How an agent uses its model."""
    text = str(agent.get("system_prompt") or "")
    refs = tuple(dict.fromkeys(Ref(variable=matched[1], text=matched[0]) for matched in _PLACEHOLDER.finditer(text)))
    return ModelUse(
        prompts=(Prompt(text=text, role="system", refs=refs),) if text else (), **_model_settings(parts, agent)
    )


def tool_step(parts: Components, tool: dict[str, Any], key: str, scope: str | None) -> Step:
    """A tool; what its inputs are called the model decides."""
    method = str(tool.get("http_method") or "").lower()
    inputs, known = _inputs_of_tool(parts, tool)
    return Step(
        id=key, kind="tool", name=str(tool.get("name") or key), operation=str(tool.get("component_type") or "Tool"), scope=scope,
        effect=METHOD_EFFECTS.get(method, "none"), inputs=tuple(inputs), note=str(tool.get("description") or ""),
        unread={key: value for key, value in tool.items() if key not in known and value not in (None, [], {}, False)}, origin=parts.origin_of(tool),
    )  # fmt: skip


def _inputs_of_tool(parts: Components, tool: dict[str, Any]) -> tuple[list[Binding], set[str]]:
    inputs = [
        Binding(name=str(p.get("title") or "input"), decided="model", type=str(p.get("type") or "") or None,
                description=str(p.get("description") or "") or None)
        for p in parts.components_of(tool.get("inputs"))
    ]  # fmt: skip
    known = {
        "component_type", "id", "name", "description", "inputs", "outputs", "url", "http_method", "headers", "query_params", "data", "metadata",
        "agentspec_version", "requires_confirmation",
    }  # fmt: skip
    inputs += [
        Binding(name=name, value=tool[name])
        for name in ("url", "http_method", "headers", "query_params", "data")
        if tool.get(name)
    ]
    if tool.get("requires_confirmation"):
        inputs.append(Binding(name="requires_confirmation", value=True))
    return inputs, known
