# What BPMN itself says of an element that also carries a record of ours. The writer notes a short hash of each fact beside the
# record; the reader works them out anew, so that it knows which facts were edited in a modelling tool and takes those from the BPMN.
"""Facts of BPMN elements, and their hashes."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any, NamedTuple

from . import bpmn_terms as E

# Attributes that say nothing when they have this value (OMG formal/2011-01-03, defaults of the schema), or at all.
_DEFAULTS = {
    "isForCompensation": "false", "startQuantity": "1", "completionQuantity": "1", "isInterrupting": "true", "cancelActivity": "true",
    "parallelMultiple": "false", "isSequential": "false", "instantiate": "false", "triggeredByEvent": "false", "isClosed": "false",
    "implementation": "##unspecified", "isImmediate": "false", "processType": "None", "textFormat": "text/plain", "testBefore": "false",
}  # fmt: skip
_SILENT = frozenset({"id", "gatewayDirection", "default", "isExpanded"})
_APART = frozenset({
    *E.NODES, *E.NOTES, "sequenceFlow", "laneSet", "association", "extensionElements", "incoming", "outgoing", "dataObject",
    "dataObjectReference", "dataStoreReference", "property", "ioSpecification",
})  # fmt: skip


class Said(NamedTuple):
    """An element of any XML library: tag and attributes without namespaces."""

    tag: str
    attributes: Mapping[str, str]
    text: str
    children: tuple[Said, ...]


_NAMED = frozenset({
    "message", "signal", "error", "escalation", "itemDefinition", "categoryValue", "dataObjectReference", "dataStoreReference",
    "dataStore", "dataInput", "dataOutput",
})  # fmt: skip
_NAMES = ("name", "value", "errorCode", "escalationCode", "itemRef", "structureRef")


def said_of_named(tag: str, attributes: Mapping[str, str]) -> str | None:
    """What stands for a message, a signal, a data object and the like where something refers to it; None for all other elements."""
    if tag not in _NAMED:
        return None
    return "|".join(" ".join(attributes.get(name, "").split()) for name in _NAMES)


def facts_of(element: Said, names: Mapping[str, str]) -> dict[str, str]:
    """The hash of each thing that BPMN says of an element: its tag, its attributes, its parts. White space is folded; what a
    reference says is what stands in ``names`` for the id it refers to (see ``said_of_named``)."""
    found = {"tag": _hash_of(element.tag)}
    element = _resolved(element, names)
    for name, value in _speaking(element.attributes).items():
        found[name] = _hash_of(" ".join(value.split()))
    parts: dict[str, list[Any]] = {}
    for child in element.children:
        if child.tag not in _APART:
            parts.setdefault(child.tag, []).append(_plain(child))
    for tag, held in parts.items():
        found[tag] = _hash_of(json.dumps(held, sort_keys=True))
    return {name: value for name, value in found.items() if value}


def _resolved(element: Said, names: Mapping[str, str]) -> Said:
    """The element with references replaced by what they refer to."""

    def resolve(name: str, value: str) -> str:
        return names.get(value.rpartition(":")[2].strip(), value) if name.endswith("Ref") or name == "to" else value

    attributes = {name: resolve(name, value) for name, value in element.attributes.items()}
    children = tuple(_resolved(child, names) for child in element.children if child.tag not in _APART)
    return Said(element.tag, attributes, resolve(element.tag, element.text), children)


def _speaking(attributes: Mapping[str, str]) -> dict[str, str]:
    return {
        name: value
        for name, value in attributes.items()
        if name not in _SILENT and value and _DEFAULTS.get(name) != value
    }


def _plain(element: Said) -> list[Any]:
    inner = [_plain(child) for child in element.children if child.tag != "extensionElements"]
    return [element.tag, _speaking(element.attributes), " ".join(element.text.split()), inner]


def _hash_of(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:8]


def write_facts(facts: Mapping[str, str]) -> str:
    """Facts as the value of an attribute."""
    return " ".join(f"{name}:{value}" for name, value in sorted(facts.items()))


def changed_facts(written: str, now: Mapping[str, str]) -> set[str]:
    """The names of the facts that are not as they were written."""
    then = dict(item.split(":", 1) for item in written.split() if ":" in item)
    return {name for name in then.keys() | now.keys() if then.get(name) != now.get(name)}
