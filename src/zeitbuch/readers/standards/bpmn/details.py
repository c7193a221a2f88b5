# Parts of BPMN elements that several readers need: event definitions, markers, what has no place in the model.
"""Details of BPMN elements."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Binding, Repeat
from zeitbuch.readers.input.xml_tree import Element


def local_name(name: str) -> str:
    """A reference without its prefix."""
    return name.strip() if name.startswith("secret:") else name.rpartition(":")[2].strip()


def unread_of(element: Element) -> dict[str, Any]:
    """What of an element has no place in the model."""
    known = {
        "id", "name", "default", "calledElement", "attachedToRef", "cancelActivity", "isInterrupting", "triggeredByEvent",
        "gatewayDirection", "scriptFormat", "messageRef", "isExpanded", "startQuantity", "completionQuantity",
    }  # fmt: skip
    rest: dict[str, Any] = {key: value for key, value in element.attributes.items() if key not in known}
    understood = {
        "documentation", "incoming", "outgoing", "sequenceFlow", "script", "text", "laneSet", "association", "dataObject",
        "dataObjectReference", "dataStoreReference", "property", "ioSpecification", "dataInputAssociation",
        "dataOutputAssociation", *E.NODES, *E.NOTES, *E.MARKERS, *E.DEFINITIONS,
    }  # fmt: skip
    for child in element.children:
        if child.tag not in understood:
            plain = child.as_plain()
            if plain not in ("", {}):
                rest[child.tag] = plain
    return rest


def repeat_of(marker: Element, data: dict[str, str]) -> Repeat:
    cardinality = marker.first_child("loopCardinality")
    over = marker.first_child("loopDataInputRef")
    until = marker.first_child("completionCondition", "loopCondition")
    count = cardinality.text.strip() if cardinality is not None else ""
    cap = marker.attribute("loopMaximum")
    items = local_name(over.text) if over is not None else ""
    items = data.get(items, items)
    return Repeat(
        items=items or (count if count and not count.isdecimal() else None),
        count=int(count) if count.isdecimal() else None,
        until=until.text.strip() if until is not None else None,
        cap=int(cap) if cap.isdecimal() else None,
    )


def definition_inputs(definition: Element, named: Callable[[str], str]) -> list[Binding]:
    """What an event definition says, as inputs."""
    found: list[Binding] = []
    for attribute in (
        "messageRef",
        "signalRef",
        "errorRef",
        "escalationRef",
        "activityRef",
        "operationRef",
        "name",
    ):
        if definition.attribute(attribute):
            value = (
                named(definition.attribute(attribute)) if attribute.endswith("Ref") else definition.attribute(attribute)
            )
            found.append(Binding(name=attribute.removesuffix("Ref"), value=value))
    for child in definition.children:
        if child.tag in ("timeDate", "timeCycle", "timeDuration", "condition"):
            found.append(Binding(name=child.tag, value=child.text.strip()))
    return found


def definition_of(event: Element) -> Element | None:
    return next((element for element in event.children if element.tag in E.DEFINITIONS), None)


def event_word(kind: str) -> str:
    word = kind.removesuffix("EventDefinition")
    return {"error": "on error", "timer": "on timeout", "cancel": "when cancelled"}.get(
        word, f"on {word}" if word else "on event"
    )


def one_by_one(marker: Element) -> tuple[Binding, ...]:
    found = []
    if marker.tag == "multiInstanceLoopCharacteristics":
        found.append(Binding(name="sequential", value=marker.attribute("isSequential") == "true"))
    if marker.attribute("testBefore"):
        found.append(Binding(name="test before", value=marker.attribute("testBefore") == "true"))
    return tuple(found)


def count_values(value: Any) -> int:
    if isinstance(value, dict):
        return sum(count_values(item) for item in value.values())
    if isinstance(value, list):
        return sum(count_values(item) for item in value)
    return 1
