# Strongly connected components, once for steps of a flow and for flows that call each other.
"""Components of a directed graph."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable
from typing import TypeVar

N = TypeVar("N", bound=Hashable)
T = TypeVar("T")


def components(nodes: Iterable[N], edges: Iterable[tuple[N, N]]) -> list[list[N]]:
    """Strongly connected components in reverse topological order (Tarjan 1972, without recursion)."""
    out: dict[N, list[N]] = {name: [] for name in nodes}
    for first, second in edges:
        out[first].append(second)
    index: dict[N, int] = {}
    low: dict[N, int] = {}
    stack: list[N] = []
    members: set[N] = set()
    found: list[list[N]] = []
    for root in out:
        if root in index:
            continue
        work = [(root, iter(out[root]))]
        index[root] = low[root] = len(index)
        stack.append(root)
        members.add(root)
        while work:
            node, rest = work[-1]
            for other in rest:
                if other not in index:
                    index[other] = low[other] = len(index)
                    stack.append(other)
                    members.add(other)
                    work.append((other, iter(out[other])))
                    break
                if other in members:
                    low[node] = min(low[node], index[other])
            else:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[node])
                if low[node] == index[node]:
                    _take_component(stack, members, node, found)
    return found


def _take_component(stack: list[N], members: set[N], node: N, found: list[list[N]]) -> None:
    group = []
    while True:
        top = stack.pop()
        members.discard(top)
        group.append(top)
        if top == node:
            break
    found.append(group)


def group_items(items: Iterable[T], key: Callable[[T], str]) -> dict[str, list[T]]:
    """Items by their key, each group in the order of the items."""
    found: dict[str, list[T]] = {}
    for item in items:
        found.setdefault(key(item), []).append(item)
    return found
