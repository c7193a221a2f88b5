# Texts are cut into pieces before they are embedded, and a search hands some of them on: how large and how many the export may say.
"""Pieces of texts that an export states."""

from __future__ import annotations

from typing import Literal

from zeitbuch.core.assumptions.quantities import LETTERS_PER_TOKEN
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Step


def stated_size(step: Step, field: Literal["size", "overlap"]) -> Value | None:
    """The size or overlap of pieces that the export states, in tokens."""
    pieces = step.pieces
    said = getattr(pieces, field) if pieces is not None else None
    if pieces is None or said is None or (field == "size" and said < 1):
        return None
    if pieces.unit == "letters":
        words = f"{said:,} letters from the export, at {LETTERS_PER_TOKEN:g} letters per token"
        return Value(max(1.0, said / LETTERS_PER_TOKEN), "default", words)
    if pieces.unit is None:
        return Value(float(said), "default", f"{said:,} from the export, whose unit is not stated: taken for tokens")
    return Value(float(said), "export", f"{said:,} tokens from the export")


def size_in_store(step: Step, graph: Graph) -> Value | None:
    """The size of the pieces that a search finds: its own, or that with which the flow fills the same store."""
    own = stated_size(step, "size")
    store = step.pieces.store if step.pieces is not None else None
    if own is not None or store is None:
        return own
    filling = (
        one
        for one in graph.steps.values()
        if one.kind == "embed" and one.pieces is not None and one.pieces.store == store
    )
    return next((size for one in filling if (size := stated_size(one, "size")) is not None), None)
