# Flows that call each other in a circle have one solution where the calls die out. What is in doubt may make them die out in some worlds and
# not in others: there, what they lead to has no end.
"""Circles of calls, in every world."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zeitbuch.core.assumptions.uncertain import Uncertain, draws_of
from zeitbuch.core.graph.call_graph import CallGraph, solve_circle

_ROUNDS, _NEAR = 1000, 1e-6


def solve_in_worlds(graph: CallGraph, component: Sequence[str], outside: Sequence[float]) -> list[float] | None:
    """What each flow of a circle adds up to (see ``solve_circle``), in every world too; infinite in worlds in which the calls do not
    die out. None where they do not with the means of all that is assumed."""
    solved = solve_circle(graph, component, [float(amount) for amount in outside])
    inside = set(component)
    times = [times for key in component for other, times in graph.callees[key].items() if other in inside]
    if solved is None or not any(type(number) is Uncertain for number in (*outside, *times)):
        return solved
    drawn = _solve_by_rounds(graph, component, [draws_of(amount) for amount in outside])
    return [Uncertain(amount, drawn[key]) for key, amount in zip(component, solved, strict=True)]


def _solve_by_rounds(graph: CallGraph, component: Sequence[str], outside: Sequence[Any]) -> dict[str, Any]:
    """x = outside + T x, round after round one more call deep, for all worlds at once."""
    import numpy as np

    base = dict(zip(component, outside, strict=True))
    calls = {
        key: [(other, draws_of(times)) for other, times in graph.callees[key].items() if other in base]
        for key in component
    }
    found, more = dict(base), dict(base)
    with np.errstate(over="ignore", invalid="ignore"):
        for _ in range(_ROUNDS):
            more = {key: sum([times * more[other] for other, times in calls[key]], np.zeros(1)) for key in component}
            found = {key: found[key] + more[key] for key in component}
            if all(bool((more[key] <= _NEAR * found[key]).all()) for key in component):
                break
        return {key: np.where(more[key] > _NEAR * found[key], np.inf, found[key]) for key in component}
