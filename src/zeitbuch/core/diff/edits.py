# A change for machines: what is set, added or removed. Edits are complete: the old version with all of them is the new
# one. Ids in them are those of the new version.
"""Edits of a flow, and how they are carried out."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from operator import attrgetter
from typing import Any, Literal, TypeVar

from msgspec import Struct, structs

from zeitbuch.core.model.canonical import Ids, map_ids
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


def inverse_edit(edit: Edit) -> Edit:
    """The edit that takes another back."""
    mapping: dict[str, Literal["set", "add", "remove"]] = {"set": "set", "add": "remove", "remove": "add"}
    return structs.replace(edit, op=mapping[edit.op], old=edit.new, new=edit.old)


def _edit_prompts(old: tuple[Prompt, ...], edits: list[Edit]) -> tuple[Prompt, ...]:
    kept: list[Prompt | None] = list(old)
    for edit in edits:
        place = int(edit.field[7:])
        if edit.op != "add" and place < len(kept):
            kept[place] = edit.new if edit.op == "set" else None
    found = [prompt for prompt in kept if prompt is not None]
    for edit in sorted((edit for edit in edits if edit.op == "add"), key=lambda e: int(e.field[7:])):
        found.insert(min(int(edit.field[7:]), len(found)), edit.new)
    return tuple(found)


def _edit_inputs(old: tuple[Binding, ...], edits: list[Edit]) -> tuple[Binding, ...]:
    found = list(old)
    for edit in edits:
        name = edit.field[6:]
        place = next((index for index, second in enumerate(found) if second.name == name), None)
        if edit.op == "remove":
            if place is not None:
                found.pop(place)
        elif place is None:
            found.append(edit.new)
        else:
            found[place] = edit.new
    return tuple(found)


def edit_record(item: Any, edits: list[Edit]) -> Any:
    """A step or trigger with edits of its fields carried out."""
    values: dict[str, Any] = {}
    prompts = [edit for edit in edits if edit.field.startswith("prompt.")]
    inputs = [edit for edit in edits if edit.field.startswith("input.")]
    model: dict[str, Any] = {}
    for edit in edits:
        if edit.field.startswith("model."):
            model[edit.field[6:]] = edit.new
        elif edit not in prompts and edit not in inputs:
            values[edit.field] = edit.new
    if inputs:
        values["inputs"] = _edit_inputs(values.get("inputs", item.inputs), inputs)
    _edit_model(item, model, prompts, values)
    return structs.replace(item, **values) if values else item


def _edit_model(item: Any, model: dict[str, Any], prompts: list[Edit], values: dict[str, Any]) -> None:
    if model or prompts:
        use = values.get("model", item.model) or ModelUse()
        if prompts:
            model["prompts"] = _edit_prompts(use.prompts, prompts)
        values["model"] = structs.replace(use, **model)


def _edit_items(items: Iterable[T], edits: list[Edit], key: Callable[[T], str]) -> tuple[T, ...]:
    """Items with what is removed taken out, what is set edited, what is added at the end."""
    gone = {edit.id for edit in edits if edit.op == "remove" and not edit.field}
    mapping: dict[str, list[Edit]] = {}
    for edit in edits:
        if edit.field:
            mapping.setdefault(edit.id, []).append(edit)
    found = [edit_record(i, mapping[key(i)]) if key(i) in mapping else i for i in items if key(i) not in gone]
    return (*found, *[edit.new for edit in edits if edit.op == "add" and not edit.field])


def link_key(link: Link) -> tuple[object, ...]:
    """What makes two links the same, beside where they stand."""
    return (
        link.source,
        link.target,
        link.role,
        link.label,
        link.condition,
        link.after,
        link.outlet,
        link.otherwise,
        link.note,
    )


def apply_edits(flow: Flow, edits: Iterable[Edit], ids: Ids | None = None) -> Flow:
    """The flow with edits carried out; with ``ids`` its own are first spelled as in the new version. What an edit names and
    the flow has not is passed over."""
    if ids is not None:
        flow = map_ids(flow, ids)
    parts: dict[str, list[Edit]] = {}
    for edit in edits:
        parts.setdefault(edit.part, []).append(edit)
    links = _edit_links(flow, parts)
    values = {edit.field: edit.new for edit in parts.get("flow", [])}

    by_id, by_name = attrgetter("id"), attrgetter("name")
    return structs.replace(
        flow,
        links=tuple(links),
        triggers=_edit_items(flow.triggers, parts.get("trigger", []), by_id),
        steps=_edit_items(flow.steps, parts.get("step", []), by_id),
        connections=_edit_items(flow.connections, parts.get("connection", []), by_id),
        variables=_edit_items(flow.variables, parts.get("variable", []), by_name),
        **values,
    )


def _edit_links(flow: Flow, parts: dict[str, list[Edit]]) -> list[Link]:
    """Links without those removed and with those added."""
    links = list(flow.links)
    for edit in parts.get("link", []):
        if edit.op == "remove":
            place = next((index for index, link in enumerate(links) if link == edit.old), None)
            if place is None:
                place = next((index for index, link in enumerate(links) if link_key(link) == link_key(edit.old)), None)
            if place is not None:
                links.pop(place)
    links += [edit.new for edit in parts.get("link", []) if edit.op == "add"]
    return links
