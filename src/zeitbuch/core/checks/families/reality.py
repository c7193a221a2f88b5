# What usage logs say against a definition; without logs these checks say nothing.
"""Checks of definitions against what really happened."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from ..records import Check, Hit
from ..views import FlowView


def _told(code: str, certain: bool = False) -> Callable[[FlowView], Iterator[Hit]]:
    def find(view: FlowView) -> Iterator[Hit]:
        for one in view.estate.usage_facts.get(view.flow.id, ()):
            if one.code == code:
                yield Hit(view.graph.steps.get(one.step), one.message, certain)

    return find


_NEEDS = "Usage logs (--usage), which name steps."
CHECKS: tuple[Check, ...] = (
    Check("case-never-taken", "low", "a case that the log never takes",
          "A label that no model answers any more, a condition that never holds: what stands behind it is never tried.",
          f"Steps behind one case alone, of which twelve calls or more were estimated, without a line. {_NEEDS}",
          "Cases behind which no model is called, where the log has calls alone.",
          "Ask whether it can still happen; correct the label, the condition, or the assumed share.", _told("case-never-taken")),
    Check("step-never-run", "low", "a step that the log never runs",
          "It was switched off elsewhere, is called by another name, or nothing leads to it.",
          f"Steps of which twelve calls or more were estimated, without a line, in a flow that has lines. {_NEEDS}",
          "Steps that call no model, where the log has calls alone.",
          "Look at the step; say its name in the log under [steps] of the mapping.", _told("step-never-run")),
    Check("model-not-named", "medium", "a model that no step names",
          "Somebody swapped it where the definition does not show: price, quality and where the words go are not what was reviewed.",
          "Models in the log of a flow that none of its steps names, after the names of the mapping and the rate card. Usage logs (--usage).",
          "Flows with a step that names no model.",
          "Ask who changed it, and export the flow again.", _told("model-not-named", True)),
    Check("log-newer", "low", "a flow that changed after its definition",
          "What was exported and reviewed is not what runs.",
          "Sizes, shares, items, turns or failures that are otherwise since a day behind the last change that the export says. Usage logs (--usage).",
          "Exports that do not say when they were changed.",
          "Export the flow again; where it is the same, ask what it is fed with.", _told("log-newer")),
)  # fmt: skip
