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
from zeitbuch.core.model.records import Flow, Link

WORDS: dict[Mark, str] = {"added": "new", "removed": "gone", "changed": "changed"}
ADDED: Mark = "added"
REMOVED: Mark = "removed"


class Maps(Struct):
    """Three maps: before, after, and both in one."""

    before: tuple[View, Showing]
    after: tuple[View, Showing]
    both: tuple[View, Showing]


def _links(edits: list[Edit], op: str) -> list[Link]:
    return [e.old if op == "remove" else e.new for e in edits if e.part == "link" and e.op == op]


def _key(link: Link) -> tuple[str, str, str]:
    return link.source, link.target, link.label


def _said(marks: dict[str, Mark], kinds: dict[str, list[str]]) -> dict[str, tuple[str, ...]]:
    """The word on each marked card, with what changed."""
    said: dict[str, tuple[str, ...]] = {}
    for step, mark in marks.items():
        types = list(dict.fromkeys(kinds.get(step, [])))
        said[step] = (f"{WORDS[mark]}: {', '.join(types)}" if mark == "changed" and types else WORDS[mark].upper(),)
    return said


def _labelled(link: Link, word: str) -> Link:
    return structs.replace(link, label=f"{link.label}: {word}" if link.label else word)


def change_maps(old: Flow, new: Flow, found: FlowChanges) -> Maps:
    """The maps of a changed flow; ``old`` has its ids spelled as in ``new``."""
    edits = [e for c in found.changes for e in c.edits]
    gone = {e.id for e in edits if e.part in ("step", "trigger") and e.op == "remove" and not e.field}
    come = {e.id for e in edits if e.part in ("step", "trigger") and e.op == "add" and not e.field}
    kinds: dict[str, list[str]] = {}
    for change in found.changes:
        for e in change.edits[:1]:
            owner = e.id if e.part in ("step", "trigger") else change.step if change.type == "step moved" else ""
            if owner and owner not in gone | come:
                kinds.setdefault(owner, []).append(change.type)
    changed: dict[str, Mark] = dict.fromkeys(kinds, "changed")
    left, right = _links(edits, "remove"), _links(edits, "add")
    was: dict[str, Mark] = {**changed, **dict.fromkeys(gone, REMOVED)}
    now: dict[str, Mark] = {**changed, **dict.fromkeys(come, ADDED)}
    before, after = Graph(old), Graph(new)
    return Maps(
        _marked(before, was, kinds, {_key(k): REMOVED for k in left}),
        _marked(after, now, kinds, {_key(k): ADDED for k in right}),
        _both(old, new, {**was, **now}, kinds, left, right),
    )


def _marked(
    graph: Graph, marks: dict[str, Mark], kinds: dict[str, list[str]], links: dict[tuple[str, str, str], Mark]
) -> tuple[View, Showing]:
    remarks = _said(marks, kinds)
    return View(graph, remarks), Showing(remarks=remarks, marks=marks, links=links)


def _both(
    old: Flow, new: Flow, marks: dict[str, Mark], kinds: dict[str, list[str]], left: list[Link], right: list[Link]
) -> tuple[View, Showing]:
    """One flow that holds the steps and links of both versions."""
    known = {s.id for s in new.steps}
    lost = [s for s in old.steps if s.id not in known]
    there = known | {s.id for s in lost}
    steps = [*new.steps, *[s if s.scope in there else structs.replace(s, scope=None) for s in lost]]
    triggers = [*new.triggers, *[t for t in old.triggers if t.id not in {x.id for x in new.triggers}]]
    fresh = {_key(k) for k in right}
    ends = there | {t.id for t in triggers}
    links: list[Link] = []
    shown: dict[tuple[str, str, str], Mark] = {}
    for link in new.links:
        if _key(link) in fresh and link.role != "attach":
            link = _labelled(link, "new")
            shown[_key(link)] = "added"
        links.append(link)
    for link in left:
        if {link.source, link.target} <= ends:
            if link.role != "attach":
                link = _labelled(link, "gone")
                shown[_key(link)] = "removed"
            links.append(link)
    flow = structs.replace(new, steps=tuple(steps), triggers=tuple(triggers), links=tuple(links))
    view, showing = _marked(Graph(flow), marks, kinds, shown)
    return structs.replace(view, note="both versions in one"), showing
