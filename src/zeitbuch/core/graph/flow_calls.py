# How the flows of an estate hang together: who calls whom, who is told of whose faults, what they share.
"""Calls between flows, fault handlers, shared stores and connections."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal
from urllib.parse import urlsplit

from msgspec import Struct

from zeitbuch.core.model.kinds import EFFECT_ROWS
from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.records import Estate, Flow, Step

How = Literal["subflow", "tool", "webhook", "fault", "store"]
HOW_WORDS: dict[How, str] = {
    "subflow": "calls", "tool": "lends to an agent as a tool", "webhook": "starts by web request",
    "fault": "hands its faults to", "store": "fills what is read by",
}  # fmt: skip
_STORES = frozenset(row.effect for row in EFFECT_ROWS if row.changes_stores)


class Call(Struct, frozen=True):
    """One flow leads to another: by calling it, lending it as a tool, by web request, by failing, or through a store.

    ``steps`` are the ids of the steps of the source that do it; ``target`` is empty when no such flow was read, and
    ``name`` says what the export names.
    """

    source: str
    target: str
    how: How
    steps: tuple[str, ...]
    name: str


class Shared(Struct, frozen=True):
    """A connection or service that several flows use, with those that change something through it."""

    name: str
    flows: tuple[str, ...]
    writers: tuple[str, ...]


def _web_paths(flow: Flow) -> list[str]:
    """The paths of the web requests that set a flow off."""
    return [
        part
        for trigger in flow.triggers
        if trigger.kind == "webhook" and trigger.event and (part := _path_of_url(trigger.event))
    ]


def _path_of_url(text: str) -> str:
    """The path of a URL, or of a text that is only a path; empty when it has none."""
    words = text.strip().split()
    if not words:
        return ""
    url = urlsplit(words[-1] if "/" in words[-1] else words[0])
    return url.path.strip("/").casefold()


def _path_tails(path: str) -> list[str]:
    """'a/b/c' -> 'a/b/c', 'b/c', 'c'."""
    parts = path.split("/")
    return ["/".join(parts[place:]) for place in range(len(parts))] if path else []


def _addresses_of(step: Step) -> list[str]:
    """Texts of a step that may be addresses."""
    return [
        second.value
        for second in step.inputs
        if isinstance(second.value, str) and "/" in second.value and len(second.value) < 2000
    ]


CALLING_KINDS = frozenset({"http", "tool", "other", "send", "read", "write"})  # steps that may call a web address


def calls_of(estate: Estate) -> list[Call]:
    """Every way in which one flow of the estate leads to another, in the order of the flows."""
    by_name = _flows_by_name(estate)
    hooks = _flows_by_path(estate)
    handlers = [
        (trigger.event, flow)
        for flow in estate.flows
        for trigger in flow.triggers
        if trigger.kind == "fault" and trigger.event
    ]
    found: list[Call] = []
    for flow in estate.flows:
        found += _calls_of_steps(flow, by_name, hooks)
        found += _fault_calls(flow, handlers, by_name)
    return found


def _fault_calls(flow: Flow, handlers: list[tuple[str, Flow]], by_name: dict[str, Flow]) -> list[Call]:
    """Who takes the faults of a flow: flows that it names, and flows that name it. A flow that only says that it takes faults
    says nothing of whose."""
    named = {name: by_name.get(name.casefold()) for name in flow.fault_handlers}
    found = {
        (handler.id if handler is not None else "", handler.title if handler is not None else name): None
        for name, handler in named.items()
    }
    for event, handler in handlers:
        if handler.id != flow.id and pattern_fits(event, flow.id, flow.name):
            found[handler.id, handler.title] = None
    return [Call(flow.id, target, "fault", (), name) for target, name in found]


def _flows_by_path(estate: Estate) -> dict[str, list[Flow]]:
    hooks: dict[str, list[Flow]] = {}
    for flow in estate.flows:
        for path in _web_paths(flow):
            hooks.setdefault(path, []).append(flow)
    return hooks


def _flows_by_name(estate: Estate) -> dict[str, Flow]:
    """Flows by id and name, case ignored; the first of a name counts, and an id before a name."""
    by_name: dict[str, Flow] = {}
    for flow in reversed(estate.flows):
        by_name[flow.id.casefold()] = flow
        if flow.name:
            by_name.setdefault(flow.name.casefold(), flow)
    return by_name


def _calls_of_steps(flow: Flow, by_name: dict[str, Flow], hooks: dict[str, list[Flow]]) -> list[Call]:
    """Calls by steps: as sub-flow, as tool of an agent, or through a web address that another flow listens on."""
    attached = {link.source for link in flow.links if link.role == "attach"}
    groups: dict[tuple[str, How, str], list[str]] = {}
    for step in flow.steps:
        if step.calls:
            other = by_name.get(step.calls.casefold())
            how: How = "tool" if step.id in attached else "subflow"
            groups.setdefault((other.id if other is not None else "", how, step.calls), []).append(step.id)
        elif step.kind in CALLING_KINDS and hooks:
            for other in _listening_flows(step, hooks):
                if other.id != flow.id:
                    groups.setdefault((other.id, "webhook", other.title), []).append(step.id)
    return [Call(flow.id, target, how, tuple(ids), name) for (target, how, name), ids in groups.items()]


def _listening_flows(step: Step, hooks: dict[str, list[Flow]]) -> list[Flow]:
    # An address may have more before the path that the trigger names.
    tails = {tail for address in _addresses_of(step) for tail in _path_tails(_path_of_url(address))}
    return [flow for tail in sorted(tails & hooks.keys()) for flow in hooks[tail]]


def _services_of(flow: Flow) -> dict[str, tuple[str, set[str]]]:
    """Connection key -> (name, what the flow's steps do through it)."""
    found: dict[str, tuple[str, set[str]]] = {}
    used = [(step.connection, str(step.effect)) for step in flow.steps] + [
        (trigger.connection, "read") for trigger in flow.triggers
    ]
    for key, effect in used:
        if key:
            name = service_name(flow, key)
            found.setdefault(name.casefold(), (name, set()))[1].add(effect)
    return found


def service_name(flow: Flow, connection: str) -> str:
    """What a connection is called, or the service behind it."""
    c = next((c for c in flow.connections if c.id == connection), None)
    return (c.name or c.service or c.id) if c is not None else connection


def shared_of(estate: Estate) -> list[Shared]:
    """Connections that more than one flow uses, the most shared first."""
    users: dict[str, list[tuple[str, set[str]]]] = {}
    names: dict[str, str] = {}
    for flow in estate.flows:
        for key, (name, effects) in _services_of(flow).items():
            names.setdefault(key, name)
            users.setdefault(key, []).append((flow.id, effects))
    found = [
        Shared(
            names[key],
            tuple(name for name, _ in flows),
            tuple(name for name, effects in flows if effects & {"write", "delete", "send", "spend"}),
        )
        for key, flows in users.items()
        if len(flows) > 1
    ]
    return sorted(found, key=lambda s: (-len(s.flows), s.name.casefold()))


def stores_of(estate: Estate) -> list[Call]:
    """Pairs of flows of which one changes and another reads the same connection."""
    found: list[Call] = []
    services = {flow.id: _services_of(flow) for flow in estate.flows}
    readers = _readers_of_stores(services)
    for writer in estate.flows:
        _stores_written(services, writer, found, readers)
    return found


def _readers_of_stores(services: dict[str, dict[str, tuple[str, set[str]]]]) -> dict[str, list[str]]:
    readers: dict[str, list[str]] = {}
    for id, used in services.items():
        for key, (_, effects) in used.items():
            if "read" in effects:
                readers.setdefault(key, []).append(id)
    return readers


def _stores_written(
    services: dict[str, dict[str, tuple[str, set[str]]]], writer: Flow, found: list[Call], readers: dict[str, list[str]]
) -> None:
    for key, (name, effects) in services[writer.id].items():
        if not effects & _STORES:
            continue
        steps = tuple(
            step.id
            for step in writer.steps
            if step.effect in _STORES and step.connection and service_name(writer, step.connection).casefold() == key
        )
        found += [Call(writer.id, text, "store", steps, name) for text in readers.get(key, ()) if text != writer.id]


def call_words(call: Call, names: dict[str, str]) -> str:
    """'‘Customer letters’ calls ‘Booking check’'."""
    target = f"‘{names[call.target]}’" if call.target else f"‘{call.name}’, which was not read"
    through = f" through ‘{call.name}’" if call.how == "store" else ""
    return f"‘{names[call.source]}’ {HOW_WORDS[call.how]} {target}{through}"


def titles_of(flows: Iterable[Flow]) -> dict[str, str]:
    """The titles of flows by their ids in small letters; of two with one id the first."""
    found: dict[str, str] = {}
    for flow in flows:
        found.setdefault(flow.id.casefold(), flow.title)
    return found
