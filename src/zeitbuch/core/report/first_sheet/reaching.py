# What a flow may do outside, and to whom: by effect, the gravest first, tools of agents included.
"""What a flow reaches."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Effect, Step
from zeitbuch.core.model.words import join_words
from zeitbuch.core.report.step_phrases import chosen_by_model, place_of, recipient_of

_VERBS: tuple[tuple[Effect, str], ...] = (
    ("spend", "Spend money"), ("delete", "Delete"), ("send", "Send"), ("write", "Write"), ("read", "Read"),
)  # fmt: skip
_UNTOLD = frozenset({"code", "other"})  # kinds that may do anything


def reaching_lines(graph: Graph, running: frozenset[str]) -> list[str]:
    """'Send: ‘Tell accounting’ to accounting@...'; a line an effect. ``running``: the steps that some run comes to; others reach nothing,
    and of code and of what no rule classifies nobody knows what it reaches."""
    lines = []
    for effect, verb in _VERBS:
        steps = [step for step in graph.flow.steps if step.effect == effect and step.id in running]
        if steps:
            found = list(dict.fromkeys(_reached(graph, step) for step in steps))
            lines.append(f"{verb}: {join_words(found)}.")
    lines = lines or ["It reaches nothing outside, as far as the export says."]
    unknown = [one for one in graph.in_order() if one.kind in _UNTOLD and one.effect == "none" and one.id in running]
    if unknown:
        lines.append(f"What {_names(unknown)} may do outside the export does not say.")
    idle = [one for one in graph.in_order() if one.effect not in ("none", "read") and one.id not in running]
    if idle:
        lines.append(f"Not as it stands: {_names(idle)}, switched off or where no run comes.")
    return lines


def _names(steps: Sequence[Step]) -> str:
    return join_words([quote_name(step.title) for step in steps])


def _reached(graph: Graph, step: Step) -> str:
    """What one step reaches: recipient and place, with the name of the step where neither says enough."""
    to, place = recipient_of(graph, step) if step.effect == "send" else "", place_of(graph, step)
    if chosen_by_model(step):
        to = "whom the model chooses"
    words = f" to {to}" if to else ""
    words += f" through {place}" if place and place != to else ""
    if step.effect in ("read", "write") and place:
        return place
    return f"{quote_name(step.title)}{words}"
