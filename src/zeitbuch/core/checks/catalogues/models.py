"""The models that flows name, with what the rate card says of them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from typing import Any

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column
from zeitbuch.core.pricing.rate_card import ModelRate

from .records import Catalogue, Entry, Uses, all_steps


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[str, tuple[Uses, list[Step]]] = {}
    for flow, step in all_steps(estate):
        if step.kind in MODEL_KINDS and step.model is not None:
            uses, steps = found.setdefault(step.model.name or "", (Uses(), []))
            uses.add(flow, step)
            steps.append(step)
    spellings: dict[str, set[str]] = {}
    for name in found:
        spellings.setdefault(name.casefold(), set()).add(name)
    today = date.fromisoformat(estate.facts.today) if estate.facts.today else None
    for name, (uses, steps) in sorted(found.items()):
        rate = estate.card.rate_of(name) if estate.card is not None and name else None
        price = estate.card.price_of(name, today) if estate.card is not None and name and today is not None else None
        marks = list(_marks(estate, name, rate, spellings[name.casefold()], today))
        if estate.card is not None and rate is not None and price is None and today is not None:
            marks.append("no price today")
        yield {
            "name": name or "not named", "steps": len(steps), "temperature": _range([step.model.temperature for step in steps if step.model]),
            "cap": _range([step.model.max_output for step in steps if step.model]), "input": price.input if price is not None else None,
            "output": price.output if price is not None else None, "context": rate.context if rate is not None else None,
            "replaced_by": rate.replaced_by if rate is not None else "", **uses.columns, "marks": marks,
        }  # fmt: skip


def _range(values: list[Any]) -> str:
    """'0 to 0.7', '400', 'not stated'; with how many state nothing."""
    known = sorted({value for value in values if value is not None})
    if not known:
        return "not stated"
    said = f"{known[0]:g}" if len(known) == 1 else f"{known[0]:g} to {known[-1]:g}"
    missing = sum(value is None for value in values)
    return f"{said}, {missing} not stated" if missing else said


def _marks(
    estate: EstateView, name: str, rate: ModelRate | None, spellings: set[str], today: date | None
) -> Iterator[str]:
    if not name:
        yield "no model named"
        return
    if len(spellings) > 1:
        yield f"also written {', '.join(sorted(spellings - {name}))}"
    if estate.card is not None and rate is None:
        yield "not on the rate card"
    if rate is not None and rate.retires is not None:
        yield f"{'gone since' if today is not None and rate.retires <= today else 'ends on'} {rate.retires}"


CATALOGUE = Catalogue(
    "models", "models, their settings, caps and prices", (
        Column("name", "model"), Column("steps", "steps", "count"), Column("temperature", "temperature", rank=1), Column("cap", "most tokens out", rank=1),
        Column("input", "1 M in", "money", rank=1), Column("output", "1 M out", "money", rank=1), Column("context", "context", "count", rank=3),
        Column("replaced_by", "replaced by", rank=3),
    ), _rows,
)  # fmt: skip
