# One side of a comparison in the words of the other: connections, accounts, hosts, flows, variables and texts that a mapping says are the
# same. What another line has left behind keeps its name, so that it is seen.
"""Spelling the older side as the newer one."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Hashable, Iterable, Sequence
from typing import Any, NamedTuple, TypeVar

from msgspec import structs

from zeitbuch.core.model.canonical import Ids, map_ids
from zeitbuch.core.model.records import Binding, Connection, Estate, Flow, ModelUse, Step, Trigger

from .mapping import Mapping, What


class Spelled(NamedTuple):
    """Both sides in the same words, and how often each entry of ``same`` fitted."""

    old: Estate
    new: Estate
    used: list[int]


def spell_alike(old: Estate, new: Estate, mapping: Mapping) -> Spelled:
    """The older side in the words of the newer one. Values of variables that may differ stand in neither."""
    used = [0] * len(mapping.same)
    for place, row in sorted(enumerate(mapping.same), key=lambda pair: _ORDER.index(pair[1].what)):
        if row.what == "variable":
            (old, first), (new, second) = (_without_values(side, row.names) for side in (old, new))
            used[place] = first + second
        elif "" in row.names:
            (old, first), (new, second) = (_without_text(side, row.names) for side in (old, new))
            used[place] = first + second
        else:
            old, used[place] = _APPLY[row.what](old, new, row.names)
    return Spelled(old, new, used)


# -- how each sort of names is spelled otherwise ----------------------------------------------------------------------

Outcome = tuple[Estate, int]
Names = tuple[str, ...]


def _map_connections(old: Estate, new: Estate, names: Names) -> Outcome:
    """Connections that are called by one of the names; the record is that of the newer side."""
    records = {one.id: one for flow in new.flows for one in flow.connections}
    target = records.get(_most_often(_connections(new, names), _connections(old, names)) or "")
    count, flows = 0, []
    for flow in old.flows:
        own = {one.id for one in flow.connections if _is_called(one, names)}
        parts: list[Step | Trigger] = [*flow.steps, *flow.triggers]
        own |= {part.connection for part in parts if part.connection is not None} & set(names)
        if target is None or not own or own == {target.id}:
            flows.append(flow)
            continue
        count += len(own)
        moved = map_ids(flow, Ids(connections=dict.fromkeys(own, target.id)))
        kept = {one.id: (target if one.id == target.id else one) for one in moved.connections}
        flows.append(structs.replace(moved, connections=tuple(kept.values())))
    return Estate(tuple(flows)), count


Key = TypeVar("Key", bound=Hashable)


def _most_often(here: Sequence[Key], there: Sequence[Key]) -> Key | None:
    """What stands on the newer side, and there more often than on the older one: a name of the other line may have been left."""
    counts, others = Counter(here), Counter(there)
    return max(counts, key=lambda one: counts[one] - others[one]) if counts else None


def _connections(side: Estate, names: Names) -> list[str]:
    return [one.id for flow in side.flows for one in flow.connections if _is_called(one, names)]


def _is_called(one: Connection, names: Names) -> bool:
    return bool({one.id, one.name} & set(names))


def _map_accounts(old: Estate, new: Estate, names: Names) -> Outcome:
    held = [
        [one.account for flow in side.flows for one in flow.connections if one.account in names] for side in (new, old)
    ]
    target = _most_often(*held)
    if target is None:
        return old, 0
    count, flows = 0, []
    for flow in old.flows:
        own = [one for one in flow.connections if one.account in names and one.account != target]
        count += len(own)
        connections = tuple(structs.replace(one, account=target) if one in own else one for one in flow.connections)
        flows.append(structs.replace(flow, connections=connections) if own else flow)
    return Estate(tuple(flows)), count


def _map_flows(old: Estate, new: Estate, names: Names) -> Outcome:
    target = next((flow for flow in new.flows if {flow.id, flow.name} & set(names)), None)
    source = next((flow for flow in old.flows if {flow.id, flow.name} & set(names)), None)
    if target is None or source is None or (source.id, source.name) == (target.id, target.name):
        return old, int(target is not None and source is not None)
    ids = Ids(flows={source.id: target.id})
    flows = []
    for flow in old.flows:
        moved = map_ids(flow, ids)
        handlers = tuple(ids.flows.get(one, one) for one in flow.fault_handlers)
        name = target.name if flow is source else flow.name
        flows.append(structs.replace(moved, fault_handlers=handlers, name=name))
    return Estate(tuple(flows)), 1


def _without_values(side: Estate, names: Names) -> Outcome:
    """Variables that are called by one of the names, under the last of these and without their values."""
    count, flows = 0, []
    for flow in side.flows:
        held = [one for one in flow.variables if one.name in names]
        count += len(held)
        renewed = [structs.replace(one, name=names[-1], value=None) if one in held else one for one in flow.variables]
        flows.append(structs.replace(flow, variables=tuple(renewed)) if held else flow)
    return Estate(tuple(flows)), count


def _map_hosts(old: Estate, new: Estate, names: Names) -> Outcome:
    others = "|".join(re.escape(name) for name in names)
    pattern = re.compile(rf"(?<=//)((?:[^/?#@\s]*@)?)({others})(?=[/:?#\s\"']|$)", re.IGNORECASE)

    held = [[found.group(2) for text in _texts_of(side) for found in pattern.finditer(text)] for side in (new, old)]
    target = _most_often(*held)
    if target is None:
        return old, 0
    return _with_texts(old, lambda text: pattern.sub(lambda found: found.group(1) + target, text))


def _map_texts(old: Estate, new: Estate, names: Names) -> Outcome:
    every = _any_of(names)
    held = [[found.group() for text in _texts_of(side) for found in every.finditer(text)] for side in (new, old)]
    target = _most_often(*held)
    if target is None:
        return old, 0
    pattern = re.compile(f"(?!{re.escape(target)})(?:{every.pattern})")
    return _with_texts(old, lambda text: pattern.sub(lambda _: target, text))


def _without_text(side: Estate, names: Names) -> Outcome:
    """A text that one line has and the other has not is left out of both."""
    pattern = _any_of(names)
    return _with_texts(side, lambda text: pattern.sub("", text))


def _any_of(names: Names) -> re.Pattern[str]:
    # The longest first: a name may be part of another.
    return re.compile("|".join(map(re.escape, sorted(filter(None, names), key=len, reverse=True))))


_ORDER: tuple[What, ...] = ("text", "flow", "connection", "account", "host", "variable")
_APPLY: dict[What, Callable[[Estate, Estate, Names], Outcome]] = {
    "connection": _map_connections,
    "account": _map_accounts,
    "host": _map_hosts,
    "flow": _map_flows,
    "text": _map_texts,
}


# -- texts ------------------------------------------------------------------------------------------------------------


def _texts_of(estate: Estate) -> Iterable[str]:
    """The texts of an estate that a mapping may spell otherwise."""
    found: list[str] = []

    def take(text: str) -> str:
        found.append(text)
        return text

    for flow in estate.flows:
        _flow_with(flow, take)
    return found


def _with_texts(estate: Estate, change: Callable[[str], str]) -> Outcome:
    count = 0

    def counted(text: str) -> str:
        nonlocal count
        made = change(text)
        count += made != text
        return made

    return Estate(tuple([_flow_with(flow, counted) for flow in estate.flows])), count


def _flow_with(flow: Flow, change: Callable[[str], str]) -> Flow:
    return structs.replace(
        flow,
        name=change(flow.name),
        description=change(flow.description),
        triggers=tuple([_part_with(trigger, change) for trigger in flow.triggers]),
        steps=tuple([_part_with(step, change) for step in flow.steps]),
        links=tuple(
            [structs.replace(link, condition=change(link.condition)) if link.condition else link for link in flow.links]
        ),
        variables=tuple([structs.replace(one, value=_value_with(one.value, change)) for one in flow.variables]),
    )


def _part_with(part: Any, change: Callable[[str], str]) -> Any:
    words: dict[str, Any] = {"inputs": tuple([_binding_with(one, change) for one in part.inputs])}
    if part.condition:
        words["condition"] = change(part.condition)
    if isinstance(part, Step) and isinstance(part.model, ModelUse) and part.model.prompts:
        prompts = tuple([structs.replace(prompt, text=change(prompt.text)) for prompt in part.model.prompts])
        words["model"] = structs.replace(part.model, prompts=prompts)
    if isinstance(part, Trigger) and part.event:
        words["event"] = change(part.event)
    return structs.replace(part, **words)


def _binding_with(one: Binding, change: Callable[[str], str]) -> Binding:
    return structs.replace(one, value=_value_with(one.value, change))


def _value_with(value: Any, change: Callable[[str], str]) -> Any:
    if isinstance(value, str):
        return change(value)
    if isinstance(value, dict):
        return {key: _value_with(item, change) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_value_with(item, change) for item in value]
    return value
