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


_NO_END = 1e-12  # of a flow's runs so few end within the circle that its calls never die out


def solve_circle(graph: CallGraph, component: Sequence[str], outside: Sequence[float]) -> list[float] | None:
    """What each flow of a circle adds up to when runs of it lead to runs of the others.

    ``outside`` is each flow's amount without the calls within the circle; the result x solves x = outside + T x, where
    T[a, b] is how often a run of a runs b. None where the calls do not die out (the spectral radius of T is 1 or more): flow by flow is
    put into those that call it, and the pivots of the matrix I - T stay above 0 exactly where they do (Berman and Plemmons 1994,
    chapter 6, theorem 2.3, condition E17). Nothing but these pivots is subtracted, so that little is lost to rounding.
    """
    inside = set(component)
    calls = {key: {other: times for other, times in graph.callees[key].items() if other in inside} for key in component}
    callers: dict[str, set[str]] = {key: set() for key in component}
    for key, others in calls.items():
        for other in others:
            callers[other].add(key)
    order = sorted(component, key=lambda key: len(calls[key]) * len(callers[key]))  # a hub that all call comes last
    found = dict(zip(component, map(float, outside), strict=True))
    for key in order:
        if not _put_into_callers(key, calls, callers, found):
            return None
    for key in reversed(order):  # by now each calls only those that come behind it
        found[key] += sum([times * found[other] for other, times in calls[key].items()])
    return [found[key] for key in component]


def _put_into_callers(
    key: str, calls: dict[str, dict[str, float]], callers: dict[str, set[str]], found: dict[str, float]
) -> bool:
    """Replaces the calls of a flow by what it calls itself; False where its calls of itself do not die out."""
    own = calls[key]
    ends = 1.0 - own.pop(key, 0.0)
    callers[key].discard(key)
    if ends <= _NO_END:
        return False
    for other in own:
        own[other] /= ends
        callers[other].discard(key)
    found[key] /= ends
    for caller in callers[key]:
        times = calls[caller].pop(key)
        found[caller] += times * found[key]
        for other, more in own.items():
            calls[caller][other] = calls[caller].get(other, 0.0) + times * more
            callers[other].add(caller)
    return True
