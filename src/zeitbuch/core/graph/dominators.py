# Where ways that part come together again for certain: the first step that every way from a step to the end leads through.
"""Immediate post-dominators (Cooper, Harvey, Kennedy: A Simple, Fast Dominance Algorithm, 2001)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import reduce

_END = ""  # stands behind all ends; no node has an empty name


def meeting_points(nodes: Iterable[str], ways: Mapping[str, Sequence[str]]) -> dict[str, str | None]:
    """For each node the first one that all its ways to an end lead through; None where they do not meet. ``ways`` are the nodes
    that follow a node; one without any is an end. Nodes from which no end is reached are left out."""
    back: dict[str, list[str]] = {_END: []}
    for node in nodes:
        for target in ways.get(node, ()) or (_END,):
            back.setdefault(target, []).append(node)
    order = _post_order(_END, back)
    number = {node: place for place, node in enumerate(order)}
    found: dict[str, str] = {_END: _END}
    changed = True
    while changed:
        changed = False
        for node in reversed(order[:-1]):
            known = [target for target in ways.get(node, ()) or (_END,) if target in found]
            best = reduce(lambda first, other: _meet(first, other, found, number), known) if known else None
            if best is not None and found.get(node) != best:
                found[node] = best
                changed = True
    return {node: point or None for node, point in found.items() if node}


def _meet(first: str, second: str, found: Mapping[str, str], number: Mapping[str, int]) -> str:
    while first != second:
        while number[first] < number[second]:
            first = found[first]
        while number[second] < number[first]:
            second = found[second]
    return first


def _post_order(root: str, back: Mapping[str, Sequence[str]]) -> list[str]:
    """The nodes that can be reached from the root, each behind all that are first reached through it."""
    order: list[str] = []
    seen = {root}
    work = [(root, iter(back.get(root, ())))]
    while work:
        node, rest = work[-1]
        target = next((one for one in rest if one not in seen), None)
        if target is None:
            work.pop()
            order.append(node)
        else:
            seen.add(target)
            work.append((target, iter(back.get(target, ()))))
    return order
