# Flows against flows: which of two estates' flows are alike though ids and names were changed.
"""Likeness of whole flows."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.words import trigger_words

from .ones_matrix import Matrix
from .similarity import overlap_matrix, trigrams_of

_WORD = re.compile(r"\w+")


def _step_sorts(flow: Flow) -> set[str]:
    """Each step's sort, numbered where it comes more than once."""
    seen: Counter[str] = Counter()
    found = set()
    for step in flow.steps:
        sort = f"{step.kind}/{step.operation}"
        seen[sort] += 1
        found.add(f"{sort}#{seen[sort]}")
    return found


def words_said(flow: Flow) -> set[str]:
    """The words of all prompts and fixed values."""
    texts = [prompt.text for step in flow.steps if step.model is not None for prompt in step.model.prompts]
    texts += [binding.value for step in flow.steps for binding in step.inputs if isinstance(binding.value, str)]
    return {word for text in texts for word in _WORD.findall(text.casefold())}


_SIDES: tuple[tuple[float, Callable[[Flow], set[str]]], ...] = (
    (2.0, _step_sorts),
    (3.0, lambda f: {item.name.casefold() for item in f.steps if item.name}),
    (2.5, words_said),
    (1.0, lambda f: {trigger_words(item) for item in f.triggers}),
    (1.5, lambda f: trigrams_of(f.name)),
)


def likeness_of(first: Flow, second: Flow) -> float:
    """Likeness of two flows (see ``flow_likeness``)."""
    total, whole = 0.0, 1e-9
    for weight, bag in _SIDES:
        one, other = bag(first), bag(second)
        if one or other:
            total, whole = total + weight * 2 * len(one & other) / (len(one) + len(other)), whole + weight
    return total / whole


def flow_likeness(old: Sequence[Flow], new: Sequence[Flow]) -> Matrix:
    """Likeness of flows, shape (old, new): steps' sorts, names and texts, triggers, name."""
    total: Any = 0.0
    weight: Any = 1e-9
    for w, bag in _SIDES:
        alike, known = overlap_matrix([bag(flow) for flow in old], [bag(flow) for flow in new])
        total = total + w * alike
        weight = weight + w * known
    return total / weight  # type: ignore[no-any-return]
