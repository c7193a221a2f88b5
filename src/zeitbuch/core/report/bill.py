# A bill of materials of an estate: what it is made of, as CycloneDX 1.6 (ECMA-424) says it, so that tools which know no flows can hold it against
# lists of what is allowed. Prompts stand in it by their hashes: who reads the bill does not read the house's words. Nothing in it depends on the
# clock or the order of the files: equal flows give equal bytes.
"""Bills of materials."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections.abc import Iterable
from typing import Any

from zeitbuch.core.checks.catalogues.records import all_steps
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.families.outside import is_personal, is_secret
from zeitbuch.core.checks.parts import refs_of_part, store_of
from zeitbuch.core.graph.flow_calls import calls_of
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.kinds import MODEL_KINDS, NOT_TOOLS
from zeitbuch.core.model.records import Connection, Estate, Flow, Ref, Step

Json = dict[str, Any]
_SPACE = uuid.UUID("6c3b1f0e-9f7a-5a55-8f0e-2d9b1a8c7e10")  # of the serial numbers of our bills
_MODES = {
    "text": "text",
    "vision": "image",
    "speech": "text",
    "image": "text",
    "transcription": "audio",
    "embedding": "text",
}
_GIVES = {
    "text": "text",
    "vision": "text",
    "speech": "audio",
    "image": "image",
    "transcription": "text",
    "embedding": "embedding",
}


class _Bill:
    """The bill as it grows: components and services by reference, and who depends on what."""

    def __init__(self) -> None:
        self.components: dict[str, Json] = {}
        self.services: dict[str, Json] = {}
        self.needs: dict[str, set[str]] = {}
        self.data: dict[str, set[tuple[str, str]]] = {}
        self.refs: dict[int, str] = {}

    def ref_of(self, flow: Flow) -> str:
        """The reference of a flow."""
        return self.refs[id(flow)]

    def needed(self, by: Flow, ref: str) -> None:
        """One dependency of a flow."""
        self.needs.setdefault(self.ref_of(by), set()).add(ref)


def bill_of(estate: EstateView, tool_version: str) -> Json:
    """The bill of an estate, as a JSON object that is valid against the schema of CycloneDX 1.6."""
    bill = _Bill()
    for flow in sorted(estate.flows, key=lambda one: (one.id, one.name, fingerprint(one))):
        _add_flow(bill, flow)
    for flow, step in all_steps(estate):
        _add_model(bill, flow, step)
        _add_prompts(bill, flow, step)
        _add_connection(bill, flow, step)
    for flow in estate.flows:
        _add_tools(bill, flow)
    by_id: dict[str, list[Flow]] = {}
    for flow in estate.flows:
        by_id.setdefault(flow.id, []).append(flow)
    for call in calls_of(Estate(flows=tuple(estate.flows))):
        for flow in by_id[call.source] if call.target else ():
            bill.needed(flow, f"flow:{call.target}")
    return _document(bill, tool_version)


def _document(bill: _Bill, tool_version: str) -> Json:
    for ref, data in bill.data.items():
        bill.services[ref]["data"] = [{"flow": way, "classification": kind} for way, kind in sorted(_joined(data))]
    refs = [*sorted(bill.components), *sorted(bill.services)]
    body: Json = {
        "version": 1,
        "metadata": {
            "tools": {"components": [{"type": "application", "name": "zeitbuch", "version": tool_version}]},
            "component": {"type": "application", "bom-ref": "estate", "name": "estate of flows"},
        },
        "components": [bill.components[ref] for ref in sorted(bill.components)],
        "services": [bill.services[ref] for ref in sorted(bill.services)],
        "dependencies": [
            {"ref": "estate", "dependsOn": [ref for ref in refs if ref.startswith("flow:")]},
            *[{"ref": ref, "dependsOn": sorted(bill.needs[ref])} for ref in sorted(bill.needs)],
        ],
    }  # fmt: skip
    serial = uuid.uuid5(_SPACE, json.dumps(body, sort_keys=True))
    return {
        "$schema": "http://cyclonedx.org/schema/bom-1.6.schema.json",
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": f"urn:uuid:{serial}",
        **body,
    }


def _joined(data: Iterable[tuple[str, str]]) -> set[tuple[str, str]]:
    """Both ways in one where a sort of data goes both."""
    ways: dict[str, set[str]] = {}
    for way, kind in data:
        ways.setdefault(kind, set()).add(way)
    return {("bi-directional" if len(found) > 1 else next(iter(found)), kind) for kind, found in ways.items()}


def _properties(**given: Iterable[str] | str) -> list[Json]:
    """Properties in our namespace, those that hold nothing left out."""
    found = [
        (name, value)
        for name, values in given.items()
        for value in ([values] if isinstance(values, str) else sorted(values))
        if value
    ]
    return [{"name": f"zeitbuch:{name.replace('_', '-')}", "value": value} for name, value in sorted(found)]


def _add_flow(bill: _Bill, flow: Flow) -> None:
    ref = f"flow:{flow.id}"
    if ref in bill.components:  # an id that comes twice names two flows
        ref += f"#{fingerprint(flow)[:16]}.{len(bill.components)}"
    bill.refs[id(flow)] = ref
    made: Json = {"type": "application", "bom-ref": ref, "name": flow.title}
    if flow.version:
        made["version"] = flow.version
    if flow.description.strip():
        made["description"] = flow.description
    made["properties"] = _properties(
        id=flow.id, state=flow.state, owner=flow.owners, folder=flow.folder, environment=flow.environment, format=flow.format,
        trigger={trigger.kind for trigger in flow.triggers}, fingerprint=fingerprint(flow),
    )  # fmt: skip
    bill.components[ref] = made
    bill.needs.setdefault(ref, set())


def _add_model(bill: _Bill, flow: Flow, step: Step) -> None:
    use = step.model
    if step.kind not in MODEL_KINDS or use is None or not use.name:
        return
    ref = f"model:{use.name}"
    made = bill.components.setdefault(ref, {
        "type": "machine-learning-model", "bom-ref": ref, "name": use.name,
        "modelCard": {"modelParameters": {"inputs": [], "outputs": []}}, "properties": [],
    })  # fmt: skip
    parameters = made["modelCard"]["modelParameters"]
    for side, modes in (("inputs", _MODES), ("outputs", _GIVES)):
        formats = {one["format"] for one in parameters[side]} | {modes[use.modality]}
        parameters[side] = [{"format": one} for one in sorted(formats)]
    data = _sorts_of_data(one for prompt in use.prompts for one in prompt.refs)
    _add_properties(made, _properties(task=use.task or "", given=data))
    bill.needed(flow, ref)


def _add_prompts(bill: _Bill, flow: Flow, step: Step) -> None:
    for prompt in step.model.prompts if step.model is not None else ():
        digest = hashlib.sha256(prompt.text.encode()).hexdigest()
        ref = f"prompt:{digest}"
        bill.components.setdefault(ref, {
            "type": "data", "bom-ref": ref, "name": f"prompt {digest[:12]}", "hashes": [{"alg": "SHA-256", "content": digest}],
            "data": [{"type": "configuration", "name": "prompt"}], "properties": [],
        })  # fmt: skip
        _add_properties(bill.components[ref], _properties(role=prompt.role))
        bill.needed(flow, ref)


def _add_tools(bill: _Bill, flow: Flow) -> None:
    graph = Graph(flow)
    for agent in [*graph.attached, *[key for key in graph.shared if key not in graph.attached]]:
        for tool in graph.used_by(agent):
            if not tool.enabled or tool.kind in NOT_TOOLS:
                continue
            ref = f"tool:{bill.ref_of(flow).removeprefix('flow:')}/{tool.id}"
            made = {"type": "application", "bom-ref": ref, "name": tool.title, "properties": []}
            chosen = [one.name for one in tool.inputs if one.decided == "model"]
            more = _properties(
                agent=graph.names[agent], effect=tool.effect, operation=tool.operation, decided_by_model=chosen
            )
            _add_properties(bill.components.setdefault(ref, made), more)
            bill.needed(flow, ref)


def _add_connection(bill: _Bill, flow: Flow, step: Step) -> None:
    ref = _service_of(bill, flow, step)
    if not ref:
        return
    kinds = _sorts_of_data(refs_of_part(step)) or {"not classified"}
    bill.data.setdefault(ref, set()).update((_direction(step), kind) for kind in kinds)
    bill.needed(flow, ref)


def _service_of(bill: _Bill, flow: Flow, step: Step) -> str:
    """The reference of the service that a step uses, added to the bill; empty for none."""
    if step.connection:
        one = next((one for one in flow.connections if one.id == step.connection), Connection(id=step.connection))
        ref = f"connection:{one.name or one.id}"
        made = bill.services.setdefault(ref, {"bom-ref": ref, "name": one.name or one.id, "properties": []})
        _add_properties(made, _properties(service=one.service, account=one.account, effect=step.effect))
        return ref
    store = store_of(step) if step.kind in ("embed", "retrieve") else ""
    if store:
        made = {"bom-ref": f"store:{store}", "name": store, "properties": _properties(service="shelf of texts")}
        bill.services.setdefault(f"store:{store}", made)
    return f"store:{store}" if store else ""


def _add_properties(made: Json, more: list[Json]) -> None:
    known = {(row["name"], row["value"]) for row in [*made["properties"], *more]}
    made["properties"] = [{"name": name, "value": value} for name, value in sorted(known)]


def _sorts_of_data(refs: Iterable[Ref]) -> set[str]:
    """What the names of values say of them."""
    return {"personal data" if is_personal(one) else "secrets" for one in refs if is_personal(one) or is_secret(one)}


def _direction(step: Step) -> str:
    if step.effect == "read":
        return "inbound"
    return "outbound" if step.effect != "none" or step.kind == "embed" else "unknown"
