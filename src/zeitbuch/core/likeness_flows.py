# Flows against flows: which of two estates' flows are alike though ids and names were changed, and where the steps of one
# flow went when it was split or merged.
"""Likeness of whole flows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from .likeness import Matrix, overlap, trigrams
from .model import Flow, Step
from .words import trigger_words


def _sorts(flow: Flow) -> set[str]:
    """Each step's sort, numbered where it comes more than once."""
    seen: Counter[str] = Counter()
    found = set()
    for step in flow.steps:
        sort = f"{step.kind}/{step.operation}"
        seen[sort] += 1
        found.add(f"{sort}#{seen[sort]}")
    return found


def flow_likeness(old: Sequence[Flow], new: Sequence[Flow]) -> Matrix:
    """Likeness of flows, shape (old, new): steps' sorts and names, triggers, name."""
    sides = (
        (2.0, _sorts),
        (3.0, lambda f: {s.name.casefold() for s in f.steps if s.name}),
        (1.0, lambda f: {trigger_words(t) for t in f.triggers}),
        (1.5, lambda f: trigrams(f.name)),
    )
    total: Any = 0.0
    weight: Any = 1e-9
    for w, bag in sides:
        alike, known = overlap([bag(f) for f in old], [bag(f) for f in new])
        total = total + w * alike
        weight = weight + w * known
    return total / weight  # type: ignore[no-any-return]


def signature(step: Step) -> tuple[str, str, str]:
    """What tells a step in another flow: kind, operation, name."""
    return step.kind, step.operation, step.name.casefold()


def shared_steps(part: Sequence[Step], whole: Sequence[Step]) -> float:
    """Share of the named steps of ``part`` that stand in ``whole`` too."""
    named = Counter(signature(s) for s in part if s.name and s.kind != "note")
    if not named:
        return 0.0
    there = Counter(signature(s) for s in whole)
    return sum(min(n, there[k]) for k, n in named.items()) / sum(named.values())
