# Which flow calls which, condensed into components once: costs are summed from the called flows upwards, volumes from the
# callers downwards, and flows that call each other in a circle are settled together. Nothing here recurses: chains of
# thousands of flows and estates in which every flow of a level calls every flow of the next are ordinary.
"""Flows that call each other, as a graph of components."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from .components import components

Times = dict[str, float]


class CallGraph(Struct, frozen=True):
    """Calls between flows by key: ``callees[a][b]`` is how often a run of ``a`` runs ``b`` (over 0), ``callers`` the same the
    other way round, with calls that never happen too (0); ``missing`` names what a flow calls and no flow of the estate is;
    ``components`` holds every key once, called flows before those that call them."""

    callees: dict[str, Times]
    callers: dict[str, Times]
    missing: dict[str, list[str]]
    components: tuple[tuple[str, ...], ...]

    def is_circle(self, component: Sequence[str]) -> bool:
        """Whether the flows of a component call each other again and again (one flow: itself)."""
        return len(component) > 1 or component[0] in self.callees[component[0]]


def build_call_graph(calls: Mapping[str, Mapping[str, float]], key_by_name: Mapping[str, str]) -> CallGraph:
    """The call graph of flows.

    ``calls``: key of each flow -> name or id of each flow it calls -> calls in one run. ``key_by_name``: name or id -> key.
    """
    callees: dict[str, Times] = {key: {} for key in calls}
    callers: dict[str, Times] = {key: {} for key in calls}
    missing: dict[str, list[str]] = {}
    for key, named in calls.items():
        for name, times in named.items():
            other = key_by_name.get(name)
            if other is None:
                missing.setdefault(key, []).append(name)
                continue
            callers[other][key] = callers[other].get(key, 0.0) + times
            if times:
                callees[key][other] = callers[other][key]
    edges = [(key, other) for key, others in callees.items() for other in others]
    return CallGraph(callees, callers, missing, tuple(tuple(group) for group in components(calls, edges)))


def next_in_circle(graph: CallGraph, key: str, component: Sequence[str]) -> str:
    """The flow of its own circle that a flow calls first."""
    inside = set(component)
    return next(other for other in graph.callees[key] if other in inside)


def solve_circle(graph: CallGraph, component: Sequence[str], outside: Sequence[float]) -> list[float] | None:
    """What each flow of a circle adds up to when runs of it lead to runs of the others.

    ``outside`` is each flow's amount without the calls within the circle; the result x solves x = outside + T x, where
    T[a, b] is how often a run of a runs b. None where the calls do not die out (the spectral radius of T is 1 or more): the
    matrix I - T of a strongly connected circle has a positive solution for a positive right side exactly when they do
    (Berman and Plemmons 1994, chapter 6, theorem 2.3, conditions I27 and N38).
    """
    import numpy as np
    from scipy.sparse import csc_matrix, identity
    from scipy.sparse.linalg import splu

    place = {key: place for place, key in enumerate(component)}
    entries = [
        (place[key], place[other], times)
        for key in component
        for other, times in graph.callees[key].items()
        if other in place
    ]
    rows, columns, values = zip(*entries, strict=True)
    size = len(component)
    system = identity(size, format="csc") - csc_matrix((values, (rows, columns)), shape=(size, size))
    try:
        solver = splu(system.tocsc())
    except RuntimeError:  # exactly singular
        return None
    repeats = solver.solve(np.ones(size))
    if not np.all(np.isfinite(repeats)) or repeats.min() < 1:
        return None
    solved: list[float] = solver.solve(np.asarray(outside, dtype=float)).tolist()
    return solved
