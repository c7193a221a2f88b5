# SciPy has these quantiles, too, and weighs more than all the rest of the program: estimates do without it.
"""Quantiles of the beta distributions behind PERT ranges."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[Any]
SHAPES = (
    6.0  # both parameters together: a PERT distribution's mean weighs the likely value four times and each end once
)
_TERMS = 22  # of the fraction: at 1/2 what is left out is less than a rounding
_ROUNDS = 60
_NEAR = 1e-8  # of a step that squares what is missing


def beta_quantiles(alpha: float, shares: Floats) -> Floats:
    """The values that a number of the distribution Beta(alpha, 6 - alpha) is under with these probabilities.

    ``shares`` has any shape, each from 0 to 1; ``alpha`` lies between 0 and 6. The incomplete beta function is the continued fraction
    of DLMF 8.17.22, inverted by Newton's steps on logarithms.
    """
    shares = np.asarray(shares, float)
    middle = math.exp(float(_log_under(np.array([-math.log(2)]), alpha)[0]))
    low = shares <= middle
    found = np.empty(shares.shape)
    found[low] = _lower_quantiles(alpha, shares[low])
    found[~low] = 1.0 - _lower_quantiles(SHAPES - alpha, 1.0 - shares[~low])
    return found


def _log_under(logs: Floats, alpha: float) -> Floats:
    """The logarithm of the probability of being under x, for ``logs`` = ln x of at most ln 1/2."""
    x = np.exp(logs)
    fraction = np.ones_like(x)
    for term in _terms_of(alpha):
        fraction = 1.0 + term * x / fraction
    return alpha * logs + (SHAPES - alpha) * np.log1p(-x) - np.log(fraction) - math.log(alpha) - _log_beta(alpha)


def _terms_of(alpha: float) -> list[float]:
    """The terms d of DLMF 8.17.23 and 8.17.24, each without its x, from the last."""
    terms = []
    for place in range(_TERMS, 0, -1):
        m = place // 2
        below = alpha + 2 * m
        odd = -(alpha + m) * (SHAPES + m) / (below * (below + 1))
        terms.append(odd if place % 2 else m * (SHAPES - alpha - m) / ((below - 1) * below))
    return terms


def _log_beta(alpha: float) -> float:
    return math.lgamma(alpha) + math.lgamma(SHAPES - alpha) - math.lgamma(SHAPES)


def _lower_quantiles(alpha: float, shares: Floats) -> Floats:
    """Quantiles of at most 1/2."""
    with np.errstate(divide="ignore"):
        wanted = np.log(shares)
    half = -math.log(2)
    # Near 0 the density is a power of x; from there the steps come nearer from one side, as the function is bent down.
    logs = np.minimum((wanted + math.log(alpha) + _log_beta(alpha)) / alpha, half)
    solved = np.isfinite(logs)
    open_logs, open_wanted = logs[solved], wanted[solved]
    for _ in range(_ROUNDS):
        under = _log_under(open_logs, alpha)
        density = alpha * open_logs + (SHAPES - alpha - 1.0) * np.log1p(-np.exp(open_logs)) - _log_beta(alpha)
        step = (open_wanted - under) * np.exp(under - density)
        open_logs = np.minimum(open_logs + step, half)
        if not len(step) or float(np.abs(step).max()) < _NEAR * max(1.0, 1.0 / alpha):
            break
    logs[solved] = open_logs
    return np.exp(logs)
