# Prices of models, with the dates from which they hold. Money is decimal; the currency is explicit.
"""Rate cards: records, checks and lookup."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct, field

from .problems import Problem

UNITS: dict[str, tuple[str, int]] = {
    "input": ("input tokens", 1_000_000),
    "output": ("output tokens", 1_000_000),
    "characters": ("characters of speech", 1_000_000),
    "call": ("call", 1),
    "image": ("image", 1),
}


class Price(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Prices from a date on: per million input and output tokens or characters, per call, per image."""

    since: date = field(name="from")
    input: Decimal | None = None
    output: Decimal | None = None
    characters: Decimal | None = None
    call: Decimal | None = None
    image: Decimal | None = None


class ModelRate(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A model: its name, other names for it (patterns with ``*``), and its prices by date."""

    name: str
    also: tuple[str, ...] = ()
    vendor: str = ""
    price: tuple[Price, ...] = ()


class RateCard(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A rate card: prices of models in one currency (ISO 4217)."""

    currency: str
    rate_card: Literal[1] = 1
    model: tuple[ModelRate, ...] = ()

    def rate(self, name: str) -> ModelRate | None:
        """The model of that name: the exact name first, then the first pattern that fits."""
        for model in self.model:
            if model.name == name or name in model.also:
                return model
        return next((m for m in self.model if any(fnmatchcase(name, p) for p in m.also)), None)

    def price(self, name: str, on: date) -> Price | None:
        """The price of a model on a day, or None when the card has none."""
        model = self.rate(name)
        if model is None:
            return None
        valid = [p for p in model.price if p.since <= on]
        return max(valid, key=lambda p: p.since) if valid else None

    def newest(self) -> date | None:
        """The last date from which any price holds."""
        return max((p.since for m in self.model for p in m.price), default=None)


def problems(card: RateCard, source: str) -> list[Problem]:
    """Negative prices, models without prices, dates that occur twice, names that occur twice."""
    found: list[Problem] = []
    names: set[str] = set()
    if len(card.currency) != 3 or not card.currency.isalpha() or not card.currency.isupper():
        message = f"{source}: expected a currency code of three capital letters (ISO 4217), found '{card.currency}'"
        found.append(Problem("rate-currency", "error", message))
    for model in card.model:
        where = f"{source}: model '{model.name}'"
        if model.name in names:
            found.append(Problem("rate-twice", "error", f"{where}: expected each model once, found it again"))
        names.add(model.name)
        if not model.price:
            found.append(
                Problem(
                    "rate-empty",
                    "warning",
                    f"{where}: expected a [[model.price]], found none",
                    hint="its cost is shown as unknown",
                )
            )
        dates = [p.since for p in model.price]
        if len(set(dates)) != len(dates):
            found.append(Problem("rate-twice", "error", f"{where}: expected one price a date, found a date twice"))
        for price in model.price:
            for unit in UNITS:
                value = getattr(price, unit)
                if value is not None and (value < 0 or not value.is_finite()):
                    message = f"{where}, from {price.since}: expected a price of 0 or more for {unit}, found {value}"
                    found.append(Problem("rate-negative", "error", message))
    return found
