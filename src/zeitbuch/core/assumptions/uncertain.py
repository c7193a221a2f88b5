# A month is worked out once for what is assumed on average, and at the same time in every one of many drawn worlds, in each of which all
# that is in doubt has a value of its own. The same sums and products serve both: a number carries its worlds along.
"""Numbers that know what they are in each drawn world."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:  # most estimates of means do without NumPy
    from numpy.typing import NDArray

    Floats = NDArray[Any]


class Uncertain(float):
    """A number, with ``draws`` of shape (W,): what it is in each of W worlds.

    The number itself is what holds where every assumption has its mean; it decides comparisons, is shown and rounded. Sums,
    differences, products, quotients and powers keep the worlds. What does not (``float``, ``round``, ``Decimal``) takes the number.
    """

    __slots__ = ("draws",)
    __array_ufunc__ = None  # an array times such a number is a mistake: its worlds would get lost
    draws: Floats

    def __new__(cls, value: float, draws: Floats) -> Uncertain:
        made = float.__new__(cls, value)
        made.draws = draws
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        return Uncertain, (float(self), self.draws)

    def __add__(self, other: float) -> Uncertain:
        return Uncertain(float.__add__(self, other), self.draws + draws_of(other))

    __radd__ = __add__

    def __sub__(self, other: float) -> Uncertain:
        return Uncertain(float.__sub__(self, other), self.draws - draws_of(other))

    def __rsub__(self, other: float) -> Uncertain:
        return Uncertain(float.__rsub__(self, other), draws_of(other) - self.draws)

    def __mul__(self, other: float) -> Uncertain:
        return Uncertain(float.__mul__(self, other), self.draws * draws_of(other))

    __rmul__ = __mul__

    def __truediv__(self, other: float) -> Uncertain:
        value = float.__truediv__(self, other) if float(other) else 0.0
        return Uncertain(value, _ratio(self.draws, draws_of(other)))

    def __rtruediv__(self, other: float) -> Uncertain:
        value = float.__rtruediv__(self, other) if float(self) else 0.0
        return Uncertain(value, _ratio(draws_of(other), self.draws))

    def __pow__(self, other: float, modulus: None = None) -> Uncertain:
        return Uncertain(float.__pow__(self, other), self.draws ** draws_of(other))

    def __rpow__(self, other: float, modulus: None = None) -> Uncertain:
        return Uncertain(float.__rpow__(self, other), draws_of(other) ** self.draws)

    def __neg__(self) -> Uncertain:
        return Uncertain(float.__neg__(self), -self.draws)

    def __bool__(self) -> bool:
        """Whether it is other than 0 in any world: what is nothing where every assumption has its mean need not be nothing."""
        return float.__bool__(self) or bool(self.draws.any())


_GRID = {1: 65, 2: 17, 3: 9}  # points of a grid in each direction, by how many numbers are in doubt


def _over_grid(result_of: Callable[..., float], numbers: tuple[float, ...], points: int) -> Any:
    """What a smooth function is in every world, from its values on a grid over the numbers that are in doubt."""
    import itertools

    import numpy as np

    from .interpolation import between_grid

    parts = np.linspace(0.0, 1.0, points)
    axes = [np.unique(np.quantile(n.draws, parts)) if type(n) is Uncertain else np.array([float(n)]) for n in numbers]
    values = np.array([result_of(*at) for at in itertools.product(*(axis.tolist() for axis in axes))])
    wide = [place for place, axis in enumerate(axes) if len(axis) > 1]
    if not wide:
        return np.full(len(next(n.draws for n in numbers if type(n) is Uncertain)), values[0])
    shaped = values.reshape([len(axes[place]) for place in wide])
    drawn = np.column_stack([draws_of(numbers[place]) for place in wide])
    return between_grid([axes[place] for place in wide], shaped, drawn)


def _ratio(over: Any, under: Any) -> Any:
    """A quotient; 0 in worlds in which there is nothing to divide by (nothing came there, so that there is nothing to share out)."""
    import numpy as np

    under = np.asarray(under)
    return np.divide(over, under, out=np.zeros(np.broadcast(over, under).shape), where=under != 0)


def draws_of(value: float) -> Any:
    """What a number is in every world: an array of shape (W,), or the number itself where it is in no doubt."""
    return value.draws if type(value) is Uncertain else float(value)


def least(first: float, second: float) -> float:
    """The lesser of two numbers, in every world."""
    if type(first) is Uncertain or type(second) is Uncertain:
        import numpy as np

        return Uncertain(min(float(first), float(second)), np.minimum(draws_of(first), draws_of(second)))
    return first if first <= second else second


def most(first: float, second: float) -> float:
    """The greater of two numbers, in every world."""
    if type(first) is Uncertain or type(second) is Uncertain:
        import numpy as np

        return Uncertain(max(float(first), float(second)), np.maximum(draws_of(first), draws_of(second)))
    return first if first >= second else second


def where_above(number: float, limit: float, above: float, otherwise: float) -> float:
    """One of two numbers, in every world: ``above`` where ``number`` is above a limit there."""
    if type(number) is not Uncertain and type(limit) is not Uncertain:
        return above if number > limit else otherwise
    import numpy as np

    chosen = np.where(draws_of(number) > draws_of(limit), draws_of(above), draws_of(otherwise))
    return Uncertain(float(above) if float(number) > float(limit) else float(otherwise), chosen)


def rounded_up(value: float) -> float:
    """The next whole number, in every world."""
    if type(value) is Uncertain:
        import numpy as np

        return Uncertain(float(math.ceil(float(value))), np.ceil(value.draws))
    return float(math.ceil(value))


def is_settled(value: float, before: float) -> bool:
    """Whether a sum that is made larger round after round has come to its end, in every world nearly so."""
    if abs(float(value) - float(before)) > 1e-13 * max(1.0, float(value)):
        return False
    if type(value) is not Uncertain:
        return True
    return bool((abs(value.draws - draws_of(before)) <= 1e-6 * value.draws.clip(1.0)).all())


def exceeds(value: float, limit: float) -> bool:
    """Whether a number is above a limit, or may be in some world."""
    return value > limit or (type(value) is Uncertain and bool((value.draws > limit).any()))


def mean_of_worlds(value: float, beside: float) -> float:
    """The mean of a number over all worlds, corrected by how far the drawn mean of what it hangs on (``beside``) is from the known one
    (a control variate)."""
    if type(value) is not Uncertain or type(beside) is not Uncertain:
        return float(value)
    drawn, known = value.draws.astype(float), beside.draws.astype(float)
    off = known - known.mean()
    power = float((off * off).mean())
    slope = float((off * drawn).mean()) / power if power else 0.0
    return max(0.0, float(drawn.mean()) - slope * (float(known.mean()) - float(beside)))


def in_each_world(result_of: Callable[..., float], *numbers: float, smooth: bool = False) -> float:
    """A function of several numbers that is no sum of products: gone through world by world where one of them is in doubt; of a
    ``smooth`` one, which is dear to work out, a grid is, and what lies between its points is drawn from them as straight lines."""
    value = result_of(*[float(number) for number in numbers])
    doubtful = [number for number in numbers if type(number) is Uncertain]
    if not doubtful:
        return value
    import numpy as np

    count = len(doubtful[0].draws)
    if smooth:
        return Uncertain(value, _over_grid(result_of, numbers, _GRID[len(doubtful)]))
    rows = [np.broadcast_to(draws_of(number), (count,)).tolist() for number in numbers]
    return Uncertain(value, np.array([result_of(*row) for row in zip(*rows, strict=True)], float))
