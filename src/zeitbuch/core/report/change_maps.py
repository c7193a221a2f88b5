# Both versions of a flow as maps: each with its marks, and one that holds all of both: what came, what went, what changed.
"""Maps of a comparison."""

from __future__ import annotations

from msgspec import Struct, structs

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.diff.records import FlowChanges
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.geometry import Mark
from zeitbuch.core.layout.views import View
from zeitbuch.core.model.records import Flow, Link, Step, Trigger

WORDS: dict[Mark, str] = {"added": "added", "removed": "removed", "changed": "changed"}
ADDED: Mark = "added"
REMOVED: Mark = "removed"


class Maps(Struct):
    """Three maps: before, after, and both in one."""

    before: tuple[View, Showing]
    after: tuple[View, Showing]
    both: tuple[View, Showing]


def _edited_links(edits: list[Edit], op: str) -> list[Link]:
    return [edit.old if op == "remove" else edit.new for edit in edits if edit.part == "link" and edit.op == op]


def _link_key(link: Link) -> tuple[str, str, str]:
    return link.source, link.target, link.label


def _mark_remarks(marks: dict[str, Mark], kinds: dict[str, list[str]]) -> dict[str, tuple[str, ...]]:
    """The word on each marked card, with what changed."""
    said: dict[str, tuple[str, ...]] = {}
    for step, mark in marks.items():
        types = list(dict.fromkeys(kinds.get(step, [])))
        said[step] = (f"{WORDS[mark]}: {', '.join(types)}" if mark == "changed" and types else WORDS[mark].upper(),)
    return said


def _label_link(link: Link, word: str) -> Link:
    return structs.replace(link, label=f"{link.label}: {word}" if link.label else word)


def change_maps(old: Flow, new: Flow, found: FlowChanges) -> Maps:
    """The maps of a changed flow; ``old`` has its ids spelled as in ``new``."""
    edits = [edit for change in found.changes for edit in change.edits]
    gone = {edit.id for edit in edits if edit.part in ("step", "trigger") and edit.op == "remove" and not edit.field}
    come = {edit.id for edit in edits if edit.part in ("step", "trigger") and edit.op == "add" and not edit.field}
    kinds = _kinds_of_changes(found, gone, come)
    changed: dict[str, Mark] = dict.fromkeys(kinds, "changed")
    left, right = _edited_links(edits, "remove"), _edited_links(edits, "add")
    was: dict[str, Mark] = {**changed, **dict.fromkeys(gone, REMOVED)}
    now: dict[str, Mark] = {**changed, **dict.fromkeys(come, ADDED)}
    before, after = Graph(old), Graph(new)
    return Maps(
        _marked_view(before, was, kinds, {_link_key(link): REMOVED for link in left}),
        _marked_view(after, now, kinds, {_link_key(link): ADDED for link in right}),
        _both_versions(old, new, {**was, **now}, kinds, left, right),
    )


def _kinds_of_changes(found: FlowChanges, gone: set[str], come: set[str]) -> dict[str, list[str]]:
    """The types of change of each step and trigger that stands in both versions."""
    kinds: dict[str, list[str]] = {}
    for change in found.changes:
        for edit in change.edits[:1]:
            owner = edit.id if edit.part in ("step", "trigger") else change.step if change.type == "step moved" else ""
            if owner and owner not in gone | come:
                kinds.setdefault(owner, []).append(change.type)
    return kinds


def _marked_view(
    graph: Graph, marks: dict[str, Mark], kinds: dict[str, list[str]], links: dict[tuple[str, str, str], Mark]
) -> tuple[View, Showing]:
    remarks = _mark_remarks(marks, kinds)
    return View(graph, remarks), Showing(remarks=remarks, marks=marks, links=links)


def _both_versions(
    old: Flow, new: Flow, marks: dict[str, Mark], kinds: dict[str, list[str]], left: list[Link], right: list[Link]
) -> tuple[View, Showing]:
    """One flow that holds the steps and links of both versions."""
    there, steps, triggers = _parts_of_both(old, new)
    fresh = {_link_key(link) for link in right}
    ends = there | {trigger.id for trigger in triggers}
    links: list[Link] = []
    shown: dict[tuple[str, str, str], Mark] = {}
    _links_of_both(new, left, fresh, shown, links, ends)
    flow = structs.replace(new, steps=tuple(steps), triggers=tuple(triggers), links=tuple(links))
    view, showing = _marked_view(Graph(flow), marks, kinds, shown)
    return structs.replace(view, note="both versions in one"), showing


def _links_of_both(
    new: Flow,
    left: list[Link],
    fresh: set[tuple[str, str, str]],
    shown: dict[tuple[str, str, str], Mark],
    links: list[Link],
    ends: set[str],
) -> None:
    for link in new.links:
        if _link_key(link) in fresh and link.role != "attach":
            link = _label_link(link, "added")
            shown[_link_key(link)] = "added"
        links.append(link)
    for link in left:
        if {link.source, link.target} <= ends:
            if link.role != "attach":
                link = _label_link(link, "removed")
                shown[_link_key(link)] = "removed"
            links.append(link)


def _parts_of_both(old: Flow, new: Flow) -> tuple[set[str], list[Step], list[Trigger]]:
    known = {step.id for step in new.steps}
    lost = [step for step in old.steps if step.id not in known]
    there = known | {step.id for step in lost}
    steps = [*new.steps, *[step if step.scope in there else structs.replace(step, scope=None) for step in lost]]
    triggers = [
        *new.triggers,
        *[trigger for trigger in old.triggers if trigger.id not in {trigger.id for trigger in new.triggers}],
    ]
    return there, steps, triggers
