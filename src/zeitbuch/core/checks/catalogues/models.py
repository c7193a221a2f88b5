"""The models that flows name, with what the rate card says of them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from typing import Any

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column
from zeitbuch.core.pricing.rate_card import ModelRate, Price

from .records import Catalogue, Entry, Uses, all_steps


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[str, tuple[Uses, list[Step]]] = {}
    for flow, step in all_steps(estate):
        if step.kind in MODEL_KINDS and step.model is not None:
            uses, steps = found.setdefault(step.model.name or "", (Uses(), []))
            uses.add(flow, step)
            steps.append(step)
    for name, (uses, steps) in sorted(found.items()):
        spellings = {other for other in found if other.casefold() == name.casefold()}
        models = [step.model for step in steps if step.model is not None]
        rate = estate.rate_of(steps[0])
        yield {
            "name": name or "not named", "steps": len(steps), "temperature": _range([use.temperature for use in models]),
            "cap": _range([use.max_output for use in models]), **_of_card(rate, _price_today(estate, name)), **uses.columns,
            "marks": list(_marks(estate, name, rate, spellings)),
        }  # fmt: skip


def _price_today(estate: EstateView, name: str) -> Price | None:
    today = estate.facts.today
    return estate.card.price_of(name, date.fromisoformat(today)) if estate.card is not None and name and today else None


def _of_card(rate: ModelRate | None, price: Price | None) -> Entry:
    """The columns that the rate card fills."""
    prices = {"input": price.input, "output": price.output} if price is not None else {"input": None, "output": None}
    known = (
        {"context": rate.context, "replaced_by": rate.replaced_by}
        if rate is not None
        else {"context": None, "replaced_by": ""}
    )
    return {**prices, **known}


def _range(values: list[Any]) -> str:
    """'0 to 0.7', '400', 'not stated'; with how many state nothing."""
    known = sorted({value for value in values if value is not None})
    if not known:
        return "not stated"
    said = f"{known[0]:g}" if len(known) == 1 else f"{known[0]:g} to {known[-1]:g}"
    missing = sum(value is None for value in values)
    return f"{said}, {missing} not stated" if missing else said


def _marks(estate: EstateView, name: str, rate: ModelRate | None, spellings: set[str]) -> Iterator[str]:
    if not name:
        yield "no model named"
        return
    if len(spellings) > 1:
        yield f"also written {', '.join(sorted(spellings - {name}))}"
    if rate is None:
        yield from ["not on the rate card"] if estate.card is not None else []
        return
    if rate.retires is not None:
        yield f"{'gone since' if rate.retires.isoformat() <= estate.facts.today else 'ends on'} {rate.retires}"
    if estate.facts.today and _price_today(estate, name) is None:
        yield "no price today"


CATALOGUE = Catalogue(
    "models", "models, their settings, caps and prices", (
        Column("name", "model"), Column("steps", "steps", "count"), Column("temperature", "temperature", rank=1), Column("cap", "most tokens out", rank=1),
        Column("input", "1 M in", "money", rank=1), Column("output", "1 M out", "money", rank=1), Column("context", "context", "count", rank=3),
        Column("replaced_by", "replaced by", rank=3),
    ), _rows,
)  # fmt: skip
