"""A check: steps of the quay that nobody gave a time limit."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.records import Check, Hit
from zeitbuch.core.checks.views import FlowView


def _no_limit(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        if step.timeout is None:
            yield Hit(step, f"{step.title} has no time limit")


CHECK = Check(
    "quay-no-limit",
    "low",
    "a step without a time limit",
    "A crane that hangs holds up the whole quay.",
    "Every step that is switched on.",
    "Limits that the quay sets for all.",
    "Set a limit.",
    _no_limit,
)
