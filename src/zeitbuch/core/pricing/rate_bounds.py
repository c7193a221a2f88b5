# Every number of a rate card has its bounds in one row here: what is no number, negative where it cannot be, or beyond what anybody pays
# is refused before anything is computed. A test holds the rows equal to the fields of the records.
"""Bounds of the numbers in rate cards."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any, NamedTuple

from .rate_card import RateCard
from .units import UNITS


class RateBounds(NamedTuple):
    """What a number is, in words, and the least and the most that it may be."""

    what: str
    least: Decimal
    most: Decimal


_LITTLE, _PRICE, _SUM, _COUNT = Decimal("1e-9"), Decimal("1e9"), Decimal("1e12"), Decimal("1e15")
_ZERO = Decimal(0)
RATE_BOUNDS: dict[tuple[str, str], RateBounds] = {
    **{("Price", unit): RateBounds(f"a price for {unit}", _ZERO, _PRICE) for unit in UNITS},
    ("Price", "deferred"): RateBounds("a share for `deferred`", _ZERO, Decimal(1)),
    ("ModelRate", "image_tokens"): RateBounds("tokens of an image", _ZERO, _PRICE),
    ("ModelRate", "context"): RateBounds("a context of tokens", Decimal(1), _SUM),
    ("Exchange", "rate"): RateBounds("a rate of exchange", _LITTLE, _PRICE),
    ("Meter", "unit"): RateBounds("a unit", _LITTLE, _SUM),
    ("MeterPrice", "each"): RateBounds("a price", _ZERO, _PRICE),
    ("MeterPrice", "included"): RateBounds("an allowance", _ZERO, _COUNT),
    ("Stair", "each"): RateBounds("a price", _ZERO, _PRICE),
    ("Stair", "above"): RateBounds("a stair", _ZERO, _COUNT),
    ("Host", "base"): RateBounds("a fee", _ZERO, _SUM),
}


def numbers_beyond(card: RateCard) -> Iterator[tuple[str, str]]:
    """The place and the message of every number of a card that is out of its bounds."""
    for place, record in _records_of(card):
        for (kind, field), bounds in RATE_BOUNDS.items():
            if kind != type(record).__name__:
                continue
            value = getattr(record, field)
            if value is not None and not _is_within(Decimal(value), bounds):
                said = f"expected {bounds.what} from {bounds.least:g} to {bounds.most:g}, found {value}"
                yield f"{place}/{field}", said


def _is_within(value: Decimal, bounds: RateBounds) -> bool:
    return value.is_finite() and bounds.least <= value <= bounds.most


def _records_of(card: RateCard) -> Iterator[tuple[str, Any]]:
    """All records of a card that hold numbers, with their places."""
    for name in ("exchange", "model", "meter", "host"):
        for index, record in enumerate(getattr(card, name)):
            place = f"/{name}/{index}"
            yield place, record
            for key, price in enumerate(getattr(record, "price", ())):
                yield f"{place}/price/{key}", price
                for stair, step in enumerate(getattr(price, "stair", ())):
                    yield f"{place}/price/{key}/stair/{stair}", step
