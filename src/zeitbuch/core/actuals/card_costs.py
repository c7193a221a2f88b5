# What the tokens of a log cost by the rate card: the yardstick that tells a longer prompt from a dearer price.
"""Costs of logged usage at the prices of a rate card."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.pricing.units import UNITS

from .columns import UNIT_COLUMNS
from .grouping import UsageSum


class CardCosts:
    """Prices of single days."""

    def __init__(self, card: RateCard | None) -> None:
        self.card = card
        self._months: dict[tuple[int, int], Prices] = {}
        self._kept: dict[tuple[str, date], dict[str, Decimal | None] | None] = {}

    def cost_of(self, used: UsageSum, model: str, day: date) -> Decimal | None:
        """What usage costs with a model on a day; None where the card has no price for some of it."""
        parts = self.parts_of(used, model, day)
        return None if parts is None else sum(parts.values(), Decimal(0))

    def parts_of(self, used: UsageSum, model: str, day: date) -> dict[str, Decimal] | None:
        """The same by units; None where the card has no price for one of them."""
        prices = self.prices_of(model, day)
        if prices is None:
            return None
        found: dict[str, Decimal] = {}
        for unit in UNIT_COLUMNS:
            quantity, price = used.units(unit), prices[unit]
            if unit == "cached" and price is None:
                price = prices["input"]  # a cache without a price of its own is no cheaper
            if not quantity or (unit == "call" and price is None):
                continue
            if price is not None:
                found[unit] = price * Decimal(repr(quantity))
            elif prices["call"] is None or not UNITS[unit].free_by_call:
                return None
        return found

    def prices_of(self, model: str, day: date) -> dict[str, Decimal | None] | None:
        """The prices of one unit each of a model on a day; None where the card does not have it."""
        key = model, day
        if key not in self._kept:
            self._kept[key] = self._find(model, day)
        return self._kept[key]

    def _find(self, model: str, day: date) -> dict[str, Decimal | None] | None:
        if self.card is None or not model or self.card.rate_of(model) is None:
            return None
        month = day.year, day.month
        prices = self._months.get(month)
        if prices is None:
            prices = self._months[month] = Prices(self.card, month)
        spans = prices.calendar.spans
        weights = tuple(1.0 if span.first <= day < span.after else 0.0 for span in spans)
        found = prices.weighted(weights).model_prices(model)
        return found.of if found.known else None
