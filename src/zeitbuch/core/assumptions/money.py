# Amounts of money that know what they leave out, and what they rest on.
"""Money with unknowns, and shares of evidence."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.model.sheet import money_text, percent_text

from .values import EVIDENCE_WORDS, Evidence

ZERO = Decimal(0)


class Money(Struct, frozen=True, gc=False):
    """An amount in the rate card's currency; ``unknown`` names what has no price. Adds; unknown survives."""

    amount: Decimal = ZERO
    unknown: tuple[str, ...] = ()

    def __add__(self, other: Money) -> Money:
        if not other.unknown:
            return Money(self.amount + other.amount, self.unknown)
        return Money(self.amount + other.amount, tuple(dict.fromkeys(self.unknown + other.unknown)))

    def times(self, factor: float) -> Money:
        return Money(self.amount * Decimal(factor), self.unknown if factor else ())


class Shares(Struct, frozen=True, gc=False):
    """Shares (0..1) of a figure that rest on defaults, declared assumptions, measurement, or the export itself."""

    default: float = 0.0
    declared: float = 0.0
    measured: float = 0.0
    export: float = 0.0


def evidence_shares(parts: Iterable[tuple[Decimal, Evidence]]) -> Shares:
    """What share of a sum each class of evidence carries."""
    mapping: dict[Evidence, Decimal] = {}
    for amount, evidence in parts:
        if amount:
            mapping[evidence] = mapping.get(evidence, ZERO) + amount
    whole = sum(mapping.values(), ZERO)
    if not whole:
        return Shares()
    return Shares(**{name: float(amount / whole) for name, amount in mapping.items()})


def evidence_words(s: Shares) -> str:
    """'62 % default, 30 % declared, 8 % from the export', the largest share first."""
    named = sorted(((getattr(s, name), words) for name, words in EVIDENCE_WORDS.items()), key=lambda n: -n[0])
    return ", ".join(f"{percent_text(share)} {word}" for share, word in named if share > 0.0005) or "none"


def money_words(value: Money | None, currency: str = "") -> str:
    """An amount; what has no price is named by a question mark, never counted as 0."""
    if value is None:
        return "?"
    text = money_text(value.amount)
    if value.unknown:
        text = f"{text} + ?" if value.amount else "?"
    return f"{text} {currency}".strip()


def money_cell(amount: float | Decimal | None, unknown: tuple[str, ...]) -> object:
    """An amount for a cell of a table: a number, or with a question mark where something in it has no price."""
    if amount is None or not unknown:
        return amount
    return money_words(Money(Decimal(str(amount)), unknown))
