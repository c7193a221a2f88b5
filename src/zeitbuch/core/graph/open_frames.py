# A frame that somebody drew around steps is no block: where links go over its border, steps run as their links say, with it or without it.
"""Groups that only frame their steps."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import structs

from zeitbuch.core.model.records import Link, Step

from .topology import Edge, Graph


def open_frames(graph: Graph) -> Graph:
    """The graph for counting: of groups over whose border links go, the steps stand beside the others, and what is left of the group is a
    note. The graph itself where there is none."""
    frames = crossed_frames(graph)
    if not frames:
        return graph
    steps = [_without(step, frames, graph) for step in graph.flow.steps]
    return Graph(structs.replace(graph.flow, steps=tuple(steps)), graph.titles)


def crossed_frames(graph: Graph) -> frozenset[str]:
    """Groups that no link begins or ends at, while links lead from what is in them to what is not, or the other way."""
    frames = {
        step.id
        for step in graph.flow.steps
        if step.kind == "group" and _only_frames(step) and step.id not in graph.host
    }
    links = [link for link in graph.flow.links if link.role != "attach"] if frames else []
    frames -= {end for link in links for end in (link.source, link.target)}
    return frozenset(frames & {scope for link in links for scope in _scopes_crossed(graph, link)})


def _scopes_crossed(graph: Graph, link: Link) -> set[str]:
    """The scopes that hold one end of a link and not the other."""
    first, second = [
        {scope for scope in graph.scope_path(graph.card_of(end)) if scope is not None}
        for end in (link.source, link.target)
    ]
    return first ^ second


def odd_ways_out(graph: Graph) -> list[str]:
    """In words, ways that lead out of blocks from within, where it matters that they are counted as ways out of the whole block."""
    leaving: dict[str, list[Link]] = {}
    for link in graph.flow.links:
        block = _block_left(graph, link)
        if block is not None:
            leaving.setdefault(block, []).append(link)
    found = []
    for block, links in leaving.items():
        if len({link.source for link in links}) > 1 or any(_is_one_of_several(graph, link) for link in links):
            names = graph.names
            ends = ", ".join(f"'{names[link.source]}' to '{names[link.target]}'" for link in links)
            found.append(
                f"ways lead out of '{names[block]}' from within ({ends}); they are counted as taken where '{names[block]}' has ended"
            )
    return found


def numbers_within(graph: Graph, ways: Sequence[Edge]) -> list[str]:
    """For each way out of a block the number of the step in it that the way leaves, where they are several or not the only ones of their
    steps: as ways of the whole block they would say something else. '' for all others."""
    within = [way for way in ways if way.link.source not in (way.source, way.target)]
    if len({way.link.source for way in within}) < 2 and not any(_is_one_of_several(graph, way.link) for way in within):
        return [""] * len(ways)
    return [graph.numbers.get(way.link.source, "") if way in within else "" for way in ways]


def _block_left(graph: Graph, link: Link) -> str | None:
    """The outermost block that a link leads out of from within."""
    source, target = graph.steps.get(link.source), graph.steps.get(link.target)
    if link.role == "attach" or source is None or target is None or source.scope in (None, target.scope, target.id):
        return None
    around = graph.scope_path(target.id)
    left = [
        scope for scope in graph.scope_path(source.id) if scope not in around and scope not in (source.id, target.id)
    ]
    return left[0] if left else None


def _is_one_of_several(graph: Graph, link: Link) -> bool:
    """Whether a way is not the only one of its step, or only some outcomes take it."""
    beside = [other for other in graph.leaving.get(link.source, ()) if other is not link and other.role != "attach"]
    return bool(beside or link.after) or link.role in ("case", "error")


def _only_frames(step: Step) -> bool:
    """Whether nothing is said of a group but what it holds."""
    plain = step.enabled and not step.per_item and step.yields == "same" and step.on_fault == "stop"
    more = (step.retry, step.repeat, step.timeout, step.condition, step.approval, step.pause, step.calls, step.join)
    return plain and not any([one is not None for one in more])


def _without(step: Step, frames: frozenset[str], graph: Graph) -> Step:
    scope = step.scope
    while scope in frames:
        scope = graph.steps[scope].scope
    if step.id in frames:
        return structs.replace(step, kind="note", scope=scope)
    return step if scope == step.scope else structs.replace(step, scope=scope)
