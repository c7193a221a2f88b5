# A change for machines: what is set, added or removed. Edits are complete: the old version with all of them is the new
# one. Ids in them are those of the new version.
"""Edits of a flow, and how they are carried out."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from operator import attrgetter
from typing import Any, Literal, TypeVar

from msgspec import Struct, structs

from zeitbuch.core.model.canonical import Ids, mapped
from zeitbuch.core.model.records import Binding, Flow, Link, ModelUse, Prompt

T = TypeVar("T")
Part = Literal["flow", "trigger", "step", "link", "connection", "variable"]


class Edit(Struct, frozen=True, omit_defaults=True):
    """``id`` is of the part in the new version (empty for the flow). ``field`` is the name of a field, or
    ``model.FIELD``, ``input.NAME``, ``prompt.N`` (N counted in the old version for set and remove, in the new one for
    add). ``old`` and ``new`` are values of the model; whole records where parts, inputs or prompts come and go."""

    op: Literal["set", "add", "remove"]
    part: Part
    id: str = ""
    field: str = ""
    old: Any = None
    new: Any = None


def inverse(edit: Edit) -> Edit:
    """The edit that takes another back."""
    op: dict[str, Literal["set", "add", "remove"]] = {"set": "set", "add": "remove", "remove": "add"}
    return structs.replace(edit, op=op[edit.op], old=edit.new, new=edit.old)


def _prompts(old: tuple[Prompt, ...], edits: list[Edit]) -> tuple[Prompt, ...]:
    kept: list[Prompt | None] = list(old)
    for e in edits:
        at = int(e.field[7:])
        if e.op != "add" and at < len(kept):
            kept[at] = e.new if e.op == "set" else None
    found = [p for p in kept if p is not None]
    for e in sorted((e for e in edits if e.op == "add"), key=lambda e: int(e.field[7:])):
        found.insert(min(int(e.field[7:]), len(found)), e.new)
    return tuple(found)


def _inputs(old: tuple[Binding, ...], edits: list[Edit]) -> tuple[Binding, ...]:
    found = list(old)
    for e in edits:
        name = e.field[6:]
        at = next((i for i, b in enumerate(found) if b.name == name), None)
        if e.op == "remove":
            if at is not None:
                found.pop(at)
        elif at is None:
            found.append(e.new)
        else:
            found[at] = e.new
    return tuple(found)


def edited(item: Any, edits: list[Edit]) -> Any:
    """A step or trigger with edits of its fields carried out."""
    values: dict[str, Any] = {}
    prompts = [e for e in edits if e.field.startswith("prompt.")]
    inputs = [e for e in edits if e.field.startswith("input.")]
    model: dict[str, Any] = {}
    for e in edits:
        if e.field.startswith("model."):
            model[e.field[6:]] = e.new
        elif e not in prompts and e not in inputs:
            values[e.field] = e.new
    if inputs:
        values["inputs"] = _inputs(values.get("inputs", item.inputs), inputs)
    if model or prompts:
        use = values.get("model", item.model) or ModelUse()
        if prompts:
            model["prompts"] = _prompts(use.prompts, prompts)
        values["model"] = structs.replace(use, **model)
    return structs.replace(item, **values) if values else item


def _changed(items: Iterable[T], edits: list[Edit], key: Callable[[T], str]) -> tuple[T, ...]:
    """Items with what is removed taken out, what is set edited, what is added at the end."""
    gone = {e.id for e in edits if e.op == "remove" and not e.field}
    by: dict[str, list[Edit]] = {}
    for e in edits:
        if e.field:
            by.setdefault(e.id, []).append(e)
    found = [edited(i, by[key(i)]) if key(i) in by else i for i in items if key(i) not in gone]
    return (*found, *[e.new for e in edits if e.op == "add" and not e.field])


def link_key(link: Link) -> tuple[object, ...]:
    """What makes two links the same, beside where they stand."""
    return link.source, link.target, link.role, link.label, link.condition, link.after


def apply(flow: Flow, edits: Iterable[Edit], ids: Ids | None = None) -> Flow:
    """The flow with edits carried out; with ``ids`` its own are first spelled as in the new version. What an edit names and
    the flow has not is passed over."""
    if ids is not None:
        flow = mapped(flow, ids)
    parts: dict[str, list[Edit]] = {}
    for e in edits:
        parts.setdefault(e.part, []).append(e)
    links = list(flow.links)
    for e in parts.get("link", []):
        if e.op == "remove":
            at = next((i for i, k in enumerate(links) if k == e.old), None)
            if at is None:
                at = next((i for i, k in enumerate(links) if link_key(k) == link_key(e.old)), None)
            if at is not None:
                links.pop(at)
    links += [e.new for e in parts.get("link", []) if e.op == "add"]
    values = {e.field: e.new for e in parts.get("flow", [])}

    by_id, by_name = attrgetter("id"), attrgetter("name")
    return structs.replace(
        flow,
        links=tuple(links),
        triggers=_changed(flow.triggers, parts.get("trigger", []), by_id),
        steps=_changed(flow.steps, parts.get("step", []), by_id),
        connections=_changed(flow.connections, parts.get("connection", []), by_id),
        variables=_changed(flow.variables, parts.get("variable", []), by_name),
        **values,
    )
