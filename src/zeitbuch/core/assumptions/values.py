# A number of an assumption: its mean, how it varies from run to run, between what its mean lies in a month, on what evidence, and where
# it came from.
"""Assumed numbers with ranges and evidence."""

from __future__ import annotations

from typing import Literal

from msgspec import UNSET, Struct, UnsetType

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .quantities import DOUBTFUL, QUANTITIES, SPREAD_OF_DEFAULTS

Evidence = Literal["default", "declared", "measured", "export"]
# From weak to strong, with the words that users read.
EVIDENCE_WORDS: dict[Evidence, str] = {
    "default": "default", "declared": "declared", "measured": "measured", "export": "from the export",
}  # fmt: skip
EVIDENCE: tuple[Evidence, ...] = tuple(EVIDENCE_WORDS)
_STRENGTH: dict[str, int] = {name: index for index, name in enumerate(EVIDENCE)}


class Range(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a number varies, and between what its mean lies.

    ``low``, ``likely``, ``high``: a PERT distribution with mean (low + 4 likely + high) / 6; or ``mean`` alone for a number that does
    not vary. ``mean_low`` and ``mean_high``: the mean of a month lies between them."""

    low: float | UnsetType = UNSET
    likely: float | UnsetType = UNSET
    high: float | UnsetType = UNSET
    mean: float | UnsetType = UNSET
    mean_low: float | UnsetType = UNSET
    mean_high: float | UnsetType = UNSET

    def given_numbers(self) -> dict[str, float]:
        """The numbers that are said, by name."""
        return {name: value for name in self.__struct_fields__ if (value := getattr(self, name)) is not UNSET}


Figure = float | Range


class Value(Struct, frozen=True, gc=False):
    """A number with its evidence and, for people, where it came from.

    ``amount`` is the mean. ``low`` and ``high`` are the ends of its range, ``mean_low`` and ``mean_high`` those between which its mean
    lies; equal to the amount, or no number, for a point.
    """

    amount: float
    evidence: Evidence
    why: str = ""
    low: float = float("nan")
    high: float = float("nan")
    mean_low: float = float("nan")
    mean_high: float = float("nan")

    @property
    def ranged(self) -> bool:
        return self.high > self.low

    @property
    def variance(self) -> float:
        """Variance of the PERT distribution: (mean - low)(high - mean) / 7; 0 for a point."""
        return (self.amount - self.low) * (self.high - self.amount) / 7 if self.high > self.low else 0.0


def value_of(quantity: str, figure: Figure, evidence: Evidence, why: str = "") -> Value:
    """A figure of a rule as a value."""
    if not isinstance(figure, Range):
        return Value(figure, evidence, why)
    said = figure.given_numbers()
    ends = (said["low"], said["high"]) if "low" in said else _NO_RANGE
    doubt = (said["mean_low"], said["mean_high"]) if "mean_low" in said else _NO_RANGE
    words = why + (f" ({ends[0]:g} to {ends[1]:g})" if "low" in said else "")
    words += f" (its mean from {doubt[0]:g} to {doubt[1]:g})" if "mean_low" in said else ""
    # What is the same for all runs of a month does not vary between them: both ways of saying its range say the same.
    varied = doubt if quantity in DOUBTFUL and "low" not in said else ends
    return Value(_mean_of(said), evidence, words, *varied, *doubt)


_NO_RANGE = (float("nan"), float("nan"))


def _mean_of(said: dict[str, float]) -> float:
    return said["mean"] if "mean" in said else (said["low"] + 4 * said["likely"] + said["high"]) / 6


def spread_default(amount: float, why: str) -> Value:
    """A default size: it varies from run to run by a part of itself either way, so that its mean stays."""
    part = amount * SPREAD_OF_DEFAULTS
    return Value(amount, "default", why, amount - part, amount + part)


def weakest_evidence(*evidence: Evidence) -> Evidence:
    """The weakest of several."""
    if len(evidence) == 2:
        first, second = evidence
        return first if _STRENGTH[first] <= _STRENGTH[second] else second
    return min(evidence, key=_STRENGTH.__getitem__) if evidence else "export"


def range_problems(quantity: str, figure: Figure, place: Origin) -> list[Problem]:
    low, high, meaning = QUANTITIES[quantity]
    said = figure.given_numbers() if isinstance(figure, Range) else {"": figure}
    hint = "nothing is computed from this value; correct it"
    message = ""
    for value in said.values():
        if not low <= value <= high:
            message = f"expected {quantity} ({meaning}) from {low:g} to {high:g}, found {value:g}"
    if not message and isinstance(figure, Range):
        message = _wrong_range(quantity, said)
    return [Problem("assume-range", "error", message, place, hint)] if message else []


_VARIES, _DOUBTED = ("low", "likely", "high"), ("mean_low", "mean_high")
_FORMS = (_VARIES, (*_VARIES, *_DOUBTED), ("mean", *_DOUBTED))


def _wrong_range(quantity: str, said: dict[str, float]) -> str:
    """What is wrong with a range; nothing where it is one."""
    if tuple(said) not in _FORMS:
        return f"expected low, likely and high, or mean, mean_low and mean_high for {quantity}, found {', '.join(said) or 'none'}"
    if quantity in DOUBTFUL and tuple(said) == _FORMS[1]:
        return f"expected low, likely and high alone for {quantity}, which is the same for all runs of a month, found mean_low too"
    orders = [_VARIES] if "low" in said else []
    orders += [("mean_low", "mean", "mean_high")] if "mean_low" in said else []
    for names in orders:
        numbers = [_mean_of(said) if name == "mean" else said[name] for name in names]
        # A mean at an end of its range is no range: nothing could make up for what lies on the other side.
        within = names is _VARIES or numbers[0] == numbers[2] or numbers[0] < numbers[1] < numbers[2]
        if numbers != sorted(numbers) or not within:
            order = (" <= " if names is _VARIES else " < ").join(names)
            return f"expected {order} for {quantity}, found {', '.join(f'{number:g}' for number in numbers)}"
    return ""
