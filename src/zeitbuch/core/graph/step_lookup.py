# A step as a person names it: by its id, its number, or its name as far as only one has it.
"""Looking steps up."""

from __future__ import annotations

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import count_words


def pick_step(graph: Graph, key: str) -> Step:
    """The step with this id, number or name. Raises ZeitbuchError with the steps there are when none fits."""
    low = key.casefold()
    for step in graph.flow.steps:
        if step.id == key or graph.numbers.get(step.id) == key:
            return step
    named = [step for step in graph.flow.steps if step.title.casefold() == low] or [
        step for step in graph.flow.steps if low in step.title.casefold()
    ]
    if len(named) == 1:
        return named[0]
    listed = named or [step for step in graph.in_order() if step.kind != "note"]
    steps = ", ".join(f"{graph.numbers.get(step.id, '')} {step.title}".strip() for step in listed[:12])
    found = f"{count_words(len(named), 'step')} of that name" if named else "none"
    raise fail("step-unknown", f"expected the id, number or name of a step, found {found}: '{key}'", f"steps: {steps}")
