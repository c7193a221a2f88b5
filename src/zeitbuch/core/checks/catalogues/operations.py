"""The builders' operations, by kind."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses, all_parts


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[tuple[str, str, str], tuple[Uses, list[int], set[str]]] = {}
    for flow, part in all_parts(estate):
        words = KINDS[part.kind].words if isinstance(part, Step) else f"trigger: {part.kind}"
        uses, count, effects = found.setdefault((flow.format, words, part.operation), (Uses(), [0], set()))
        uses.add(flow)
        count[0] += 1
        if isinstance(part, Step) and part.effect != "none":
            effects.add(part.effect)
    for (form, words, operation), (uses, count, effects) in sorted(found.items()):
        own = estate.facts.own_operations.get(form)
        marks = ["of a third party"] if own and operation and not operation.startswith(own) else []
        marks += ["not classified"] if words == KINDS["other"].words else []
        yield {
            "kind": words,
            "operation": operation,
            "format": form,
            "steps": count[0],
            "effects": sorted(effects),
            **uses.columns,
            "marks": marks,
        }


CATALOGUE = Catalogue(
    "operations", "the builders' operations by kind", (
        Column("kind", "kind"), Column("operation", "operation"), Column("format", "format", rank=1), Column("steps", "steps", "count"),
        Column("effects", "effects", "list", rank=1),
    ), _rows,
)  # fmt: skip
