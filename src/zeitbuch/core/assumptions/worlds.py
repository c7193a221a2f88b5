# What nobody knows exactly is drawn: every assumption is one unknown of a month, with one value in each of many worlds, the same for all
# that it applies to. A default is one too.
"""Drawn worlds: a value for every assumption in each of them."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec import structs
from numpy.typing import NDArray

from .beta_quantiles import beta_quantiles
from .quantities import DEFAULT_ENDS, DEFAULT_HIGH, DEFAULT_LOW, DOUBTFUL, QUANTITIES
from .uncertain import Uncertain
from .values import Value

WORLDS, WORLDS_OF_MANY, MANY = 4000, 1000, 2000  # fewer for estates of more flows: their sums even out
Floats = NDArray[Any]
_LEAST_SHAPE = 1e-6  # a mean at an end of its range: nearly all of the distribution lies there


@lru_cache(maxsize=256)
def beta_slices(alpha: float, count: int) -> Floats:
    """Quantiles of Beta(alpha, 6 - alpha) at the middles of ``count`` equal slices."""
    return beta_quantiles(alpha, (np.arange(count) + 0.5) / count)


def pert_shape(low: float, mean: float, high: float) -> float:
    """The first parameter of the beta distribution behind a PERT distribution with this mean; the other is 6 less it."""
    return min(max(round(6 * (mean - low) / (high - low), 9), _LEAST_SHAPE), 6 - _LEAST_SHAPE)


def worlds_for(flows: int) -> Worlds:
    """As many worlds as an estate of so many flows is drawn in."""
    return Worlds(WORLDS if flows <= MANY else WORLDS_OF_MANY)


class Worlds:
    """Draws for ``count`` worlds. The same key has the same draws in whatever estimate it stands."""

    def __init__(self, count: int = WORLDS) -> None:
        self.count = count
        self._kept: dict[tuple[str, float, float, float], Floats] = {}

    def draw_between(self, key: str, low: float, mean: float, high: float, keep: bool = True) -> Floats:
        """One value of a PERT distribution a world, by strata (one of each of as many equal slices), shape (W,)."""
        place = (key, low, mean, high)
        found = self._kept.get(place)
        if found is None:
            rng = np.random.Generator(np.random.SFC64(zlib.crc32(key.encode("utf-8", "replace"))))
            found = low + (high - low) * rng.permutation(beta_slices(pert_shape(low, mean, high), self.count))
            if keep:
                self._kept[place] = found
        return found

    def in_worlds(self, key: str, quantity: str, value: Value) -> Value:
        """A value with what it is in every world. A default may be half or double; what is declared or measured is in doubt as far as
        it says."""
        least, top, _ = QUANTITIES[quantity]
        low, high = self.doubt_of(quantity, value)
        if not low < value.amount < high:
            return value
        draws = self.draw_value(key, quantity, value, low, high)
        amount = Uncertain(value.amount, draws)
        if quantity in DOUBTFUL or not value.ranged:
            return structs.replace(value, amount=amount)
        # From run to run it varies in proportion to how far its mean is above the least there is.
        factor = (draws - least) / (value.amount - least)
        ends = [Uncertain(end, np.minimum(least + (end - least) * factor, top)) for end in (value.low, value.high)]
        return structs.replace(value, amount=amount, low=ends[0], high=ends[1])

    def draw_value(self, key: str, quantity: str, value: Value, low: float, high: float) -> Floats:
        """What the mean of a value is in every world, shape (W,)."""
        return self.draw_between(key, low, float(value.amount), high)

    def doubt_of(self, quantity: str, value: Value) -> tuple[float, float]:
        """Between what the mean of a value lies in a month."""
        return doubt_of(quantity, value)

    def in_equal_parts(self, key: str, what: Sequence[str], whole: float) -> list[float]:
        """What parts of a whole are when nothing says that one is larger than another: each may weigh half or double."""
        drawn = [self.draw_between(f"{key} {p}", DEFAULT_LOW, 1.0, DEFAULT_HIGH, False) for p in range(len(what))]
        total = sum(drawn[1:], drawn[0])
        return [whole * Uncertain(1 / len(what), weight / total) for weight in drawn]


def doubt_of(quantity: str, value: Value) -> tuple[float, float]:
    """Between what the mean of a value lies in a month."""
    if value.evidence == "default":
        if quantity in DEFAULT_ENDS:
            return DEFAULT_ENDS[quantity]
        least, top, _ = QUANTITIES[quantity]
        over = value.amount - least
        top = value.high if quantity == "turns" and value.ranged else top  # an agent's own cap
        return least + over * DEFAULT_LOW, min(top, least + over * DEFAULT_HIGH)
    if quantity in DOUBTFUL:
        return value.low, value.high
    return value.mean_low, value.mean_high
