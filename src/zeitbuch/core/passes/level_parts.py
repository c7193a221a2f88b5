# The steps of a level in parts: those that links connect, those that back edges go round, and those in which one pass may be hit by more than
# one loss, so that what they lose is no sum.
"""Parts of levels."""

from __future__ import annotations

from zeitbuch.core.graph.topology import Edge

from .plan import Node, ends_run, loses_passes, ties_of


def connected_parts(position: dict[str, int], edges: list[Edge]) -> list[int]:
    """The connected part of each step of a level, numbered."""
    root = list(range(len(position)))  # each part is known by its first step
    for edge in edges:
        first = position.get(edge.source)
        if first is None:
            continue
        second = position[edge.target]
        while root[first] != first:
            root[first] = first = root[root[first]]
        while root[second] != second:
            root[second] = second = root[root[second]]
        if first < second:
            root[second] = first
        else:
            root[first] = second
    for index, first in enumerate(root):
        root[index] = root[first]
    numbers: dict[int, int] = {}
    return [numbers.setdefault(first, len(numbers)) for first in root]


def circles_of(edges: list[Edge], position: dict[str, int]) -> list[tuple[int, int]]:
    """The places between the ends of back edges, those that overlap put together."""
    spans = sorted((position[edge.target], position[edge.source]) for edge in edges if edge.back)
    found: list[tuple[int, int]] = []
    for first, last in spans:
        if found and first <= found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], last))
        else:
            found.append((first, last))
    return found


def risky_parts(nodes: list[Node], entries: list[int]) -> list[int]:
    """Parts where branches run side by side, or go on behind an end of the run, and more than one step may lose a pass: their losses are no
    sum."""
    begun = [nodes[index].part for index in entries]
    splits = {node.part for node in nodes if node.ways and (_runs_beside(node) or ends_run(node.step))}
    splits |= {part for part in begun if begun.count(part) > 1}
    if not splits:
        return []
    losing: dict[int, int] = {}
    for node in nodes:
        if loses_passes(node):
            losing[node.part] = losing.get(node.part, 0) + 1
    return sorted(place for place in splits if losing.get(place, 0) > 1)


def is_sure(part: int, nodes: list[Node]) -> bool:
    """Whether a pass reaches every step of a part once, unless it gets lost: no decision, no way for failures or what is skipped, no way that
    counts for itself, no items. What several of its steps lose is a product then."""
    return all(
        all(way.plain and way.share is None for way in node.ways)
        and all(tie.mode != "each" for tie in ties_of(node.incoming))
        and not node.step.per_item
        for node in nodes
        if node.part == part
    )


def _runs_beside(node: Node) -> bool:
    """Whether a pass may go on by several ways at once (after one outcome all that always take it, and those of one case), or by one though
    it has got lost: what is skipped goes on whatever came of the steps before it, and what is left of its items goes on without those lost."""
    if node.ways and (node.step.per_item or any([way.skip for way in node.ways])):
        return True
    if len(node.ways) < 2:
        return False
    always = [way for way in node.ways if way.share is None]
    cases = [way.case for way in node.ways if way.share is not None]
    of_cases = len(cases) if node.step.inclusive else max([cases.count(case) for case in set(cases)], default=0)
    succeeding = sum([way.success for way in always]) + of_cases
    return max(succeeding, sum([way.failure for way in always]), sum([way.timeout for way in always])) > 1
