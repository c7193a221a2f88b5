# A change of failure behaviour is told with what a failure leads to now: the same words as in the explanation of the flow.
"""What failures lead to after a change."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.estate_changes import versions_of
from zeitbuch.core.diff.flow_matching import FlowMatching
from zeitbuch.core.diff.records import Change, EstateChanges
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow

from .sentences import failing_words

_HEAD = "when it fails now"
_TYPES = frozenset({"error route added", "error route removed", "on error", "retry"})


def with_failure_words(found: EstateChanges, matching: FlowMatching) -> EstateChanges:
    """The changes, those of failure behaviour with what follows a failure in the newer version."""
    flows = [
        structs.replace(changes, changes=_told(changes.changes, new)) if new is not None else changes
        for changes, (_, new) in zip(found.flows, versions_of(found, matching), strict=True)
    ]
    return structs.replace(found, flows=tuple(flows))


def _told(changes: tuple[Change, ...], new: Flow) -> tuple[Change, ...]:
    if not any(change.type in _TYPES for change in changes):
        return changes
    graph = Graph(new)
    made = []
    for change in changes:
        step = graph.steps.get(change.step) if change.type in _TYPES else None
        if step is not None:
            words = failing_words(graph, step, _HEAD).removesuffix(".")
            words = words.replace(f"{_HEAD}. Nothing", f"{_HEAD}: nothing").replace(f"{_HEAD}. ", f"{_HEAD}: ")
            change = structs.replace(change, remarks=(*change.remarks, words))
        made.append(change)
    return tuple(made)
