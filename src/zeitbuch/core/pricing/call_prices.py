# What a quantity costs in a month, in the card's currency: prices hold by day, so that the price of a month is the mean of its days,
# weighted with what runs on them. An average month of a year has the mean of the year's days.
"""Prices of models in a month."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from copy import copy
from datetime import date
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.assumptions.days import Month
from zeitbuch.core.assumptions.money import ZERO

from . import token_count
from .call_content import Amount, Instead
from .rate_card import ModelRate, RateCard
from .spans import Weights, calendar_of
from .units import UNITS

Counter = Callable[[str], float]
_KEPT = 1000


class ModelPrice(Struct):
    """Prices of one unit each (not of a million) of one model; None where the card has none."""

    of: dict[str, Decimal | None]
    deferred: Decimal
    image_tokens: float | None  # as the card says
    known: bool


class Prices:
    """Prices of one rate card in one month. ``counters`` count tokens exactly for models that name a tokenizer file. ``weights``
    say how the runs lie over the spans of the ``calendar``; by default each day weighs the same. ``changes``: days on which
    something else than the card changes."""

    def __init__(
        self,
        card: RateCard | None,
        month: Month,
        counters: dict[str, Counter] | None = None,
        changes: Iterable[date] = (),
    ) -> None:
        self.card = card
        self.calendar = calendar_of(month, [*(card.change_dates() if card is not None else ()), *changes])
        self.weights = self.calendar.by_days
        self.counters = counters or {}
        self._made: dict[str, ModelPrice] = {}
        self._counting: dict[str, Counter] = {}
        self._weighted: dict[Weights, Prices] = {}

    def weighted(self, weights: Weights | None) -> Prices:
        """The prices for runs that lie otherwise over the month (None: by days)."""
        if weights is None or weights == self.weights:
            return self
        found = self._weighted.get(weights)
        if found is None:
            found = copy(self)
            found.weights, found._made, found._weighted = weights, {}, {}
            if len(self._weighted) < _KEPT:
                self._weighted[weights] = found
        return found

    def model_prices(self, name: str) -> ModelPrice:
        """The prices of a model."""
        found = self._made.get(name)
        if found is None:
            found = self._made[name] = self._find_price(name)
        return found

    def token_counter(self, name: str) -> Counter:
        """What counts the tokens of a model's prompts: its tokenizer, its family's estimate, or the general one."""
        found = self._counting.get(name)
        if found is None:
            rate = self.card.rate_of(name) if self.card is not None and name else None
            found = _remember_counts(_make_counter(rate, self.counters))
            self._counting[name] = found
        return found

    def _find_price(self, name: str) -> ModelPrice:
        rate = self.card.rate_of(name) if self.card is not None and name else None
        held = [(span.first, weight) for span, weight in zip(self.calendar.spans, self.weights, strict=True) if weight]
        parts = [(self._price_on_day(rate, day), Decimal(weight)) for day, weight in held] if rate is not None else []
        whole = [(*pair, weight) for pair, weight in parts if pair is not None]
        if rate is None or not parts or len(whole) < len(parts):
            return ModelPrice(dict.fromkeys(UNITS), ZERO, None, False)
        mapping = _mean_prices(whole)
        deferred = whole[0][1] if len(whole) == 1 else sum((later * weight for _, later, weight in whole), ZERO)
        return ModelPrice(mapping, deferred, rate.image_tokens, True)

    def _price_on_day(self, rate: ModelRate, day: date) -> tuple[dict[str, Decimal | None], Decimal] | None:
        assert self.card is not None
        valid = [price for price in rate.price if price.holds_on(day)]
        worth = self.card.currency_worth(rate.currency, day)
        if not valid or worth is None:
            return None
        price = max(valid, key=lambda p: p.since)
        mapping = {}
        for unit, row in UNITS.items():
            value = getattr(price, unit)
            mapping[unit] = None if value is None else Decimal(value) * worth / row.size
        return mapping, price.deferred if price.deferred is not None else ZERO

    def unit_price(self, model: str, amount: Amount, batched: float) -> Decimal | None:
        """Cost of one of the amount's unit, or None when the card has no price for it."""
        price = self._made.get(model) or self.model_prices(model)
        value = price.of.get(amount.unit)
        if value is not None and not batched:
            return value
        if value is None:
            value = _instead_of_price(amount, price)
        if value is None and UNITS[amount.unit].free_by_call and self._by_call(price):
            return ZERO
        if value is None:
            return None
        return value * (1 - Decimal(batched) * price.deferred) if batched and price.deferred else value

    def billed_by(self, model: str, amount: Amount) -> Instead | None:
        """The other unit that an amount is billed by: its own has no price, and that one has."""
        if amount.instead is None:
            return None
        price = self.model_prices(model)
        return _other_unit(amount.instead, amount, price) if price.of.get(amount.unit) is None else None

    @staticmethod
    def _by_call(price: ModelPrice) -> bool:
        """Whether a model is billed by the call only."""
        return price.known and price.of["call"] is not None

    def per_call(self, model: str) -> Decimal:
        """The fee of a call."""
        return self.model_prices(model).of["call"] or ZERO


def _instead_of_price(amount: Amount, price: ModelPrice) -> Decimal | None:
    if amount.unit == "cached":
        return price.of["input"]  # no price of its own: the cache is no cheaper
    other = _other_unit(amount.instead, amount, price) if amount.instead is not None else None
    return (price.of[other.unit] or ZERO) * Decimal(other.times) if other is not None else None


def _other_unit(instead: Instead, amount: Amount, price: ModelPrice) -> Instead | None:
    if price.of.get(instead.unit) is None:
        return None
    if amount.unit == "image" and price.image_tokens is not None and instead.evidence == "default" and instead.times:
        return Instead(instead.unit, price.image_tokens, "declared", "the rate card")
    return instead


def _mean_prices(whole: list[tuple[dict[str, Decimal | None], Decimal, Decimal]]) -> dict[str, Decimal | None]:
    """The mean of prices by their weights; None where one of the days has none."""
    if len(whole) == 1:
        return whole[0][0]
    mapping: dict[str, Decimal | None] = {}
    for unit in UNITS:
        values = [(prices.get(unit), weight) for prices, _, weight in whole]
        known = [amount * weight for amount, weight in values if amount is not None]
        mapping[unit] = sum(known, ZERO) if len(known) == len(values) else None
    return mapping


def _make_counter(rate: ModelRate | None, counters: dict[str, Counter]) -> Counter:
    if rate is not None and rate.tokenizer in counters:
        return counters[rate.tokenizer]
    family = rate.family if rate is not None else ""
    return lambda text: token_count.count_tokens(text, family)


def _remember_counts(count: Counter) -> Counter:
    """The same prompt is counted once: scenarios and drivers estimate the same flow many times."""
    seen: dict[str, float] = {}

    def counted(text: str) -> float:
        found = seen.get(text)
        if found is None:
            found = count(text)
            if len(seen) < 20_000:
                seen[text] = found
        return found

    return counted
