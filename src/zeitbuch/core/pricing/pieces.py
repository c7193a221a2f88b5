# Texts are cut into pieces before they are embedded, and a search hands some of them on: how large and how many the export may say.
"""Pieces of texts that an export states."""

from __future__ import annotations

from typing import Literal

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.uncertain import most, rounded_up
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Pieces, Step
from zeitbuch.core.model.words import name_words

_CUT = frozenset({"chunk", "piece", "segment", "window"})
_SIZES = frozenset({"size", "length", "tokens", "characters", "letters"})


def pieces_of(step: Step) -> Pieces | None:
    """How a step cuts texts: as the export states it, or as its inputs of such names say."""
    if step.pieces is not None or step.kind not in ("shape", "embed", "parse"):
        return step.pieces
    said: dict[str, int] = {}
    for binding in step.inputs:
        words = set(name_words(binding.name)) if isinstance(binding.value, int) else set()
        if words & _CUT or words == {"overlap"}:
            field = "overlap" if "overlap" in words else "size" if words & _SIZES else ""
            if field and binding.value is not True and binding.value > 0:
                said[field] = binding.value
    return Pieces(size=said["size"], overlap=said.get("overlap")) if "size" in said else None


def stated_size(step: Step, field: Literal["size", "overlap"], lookup: AssumptionLookup) -> Value | None:
    """The size or overlap of pieces that the export states, in tokens."""
    pieces = pieces_of(step)
    said = getattr(pieces, field) if pieces is not None else None
    if pieces is None or said is None or (field == "size" and said < 1):
        return None
    if pieces.unit == "letters":
        letters = lookup.of_step("letters_per_token", step)
        words = f"{said:,} letters from the export, at {letters.amount:g} letters per token"
        return Value(most(1.0, said / letters.amount), letters.evidence, words)
    if pieces.unit is None:
        return Value(float(said), "default", f"{said:,} from the export, whose unit is not stated: taken for tokens")
    return Value(float(said), "export", f"{said:,} tokens from the export")


def size_in_store(step: Step, graph: Graph, lookup: AssumptionLookup) -> Value | None:
    """The size of the pieces that a search finds: its own, or that with which the flow fills the same store."""
    own = stated_size(step, "size", lookup)
    store = step.pieces.store if step.pieces is not None else None
    if own is not None or store is None:
        return own
    filling = (
        one
        for one in graph.steps.values()
        if one.kind == "embed" and one.pieces is not None and one.pieces.store == store
    )
    return next((size for one in filling if (size := stated_size(one, "size", lookup)) is not None), None)


def pieces_between(tokens: float, chunk: float, shared: float) -> float:
    """Pieces of a text: ceil((T - o) / (c - o)), one at least, in every world; none of no text."""
    return most(1.0, rounded_up((tokens - shared) / (chunk - shared))) if tokens else 0.0
