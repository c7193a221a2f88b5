"""Straight lines between the points of a grid."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[Any]


def between_grid(axes: Sequence[Floats], values: Floats, points: Floats) -> Floats:
    """A function at ``points``, shape (N, D), from its ``values`` at the corners of a grid, along each of D directions by a straight line.

    ``axes`` are the D rising rows of places, each of at least two; ``values`` has the shape of their lengths. Points outside of
    the grid are taken for the nearest on its rim.
    """
    places: list[Any] = []
    parts: list[Floats] = []
    for axis, column in zip(axes, points.T, strict=True):
        place = np.clip(np.searchsorted(axis, column, side="right") - 1, 0, len(axis) - 2)
        places.append(place)
        parts.append(np.clip((column - axis[place]) / (axis[place + 1] - axis[place]), 0.0, 1.0))
    found = np.zeros(len(points))
    for corner in itertools.product((0, 1), repeat=len(axes)):
        weight = np.ones(len(points))
        for part, side in zip(parts, corner, strict=True):
            weight *= part if side else 1.0 - part
        found += weight * values[tuple(place + side for place, side in zip(places, corner, strict=True))]
    return found
