# Bags of words and neighbours of steps as matrices of ones: dense while they are small, by place where they are large and nearly empty.
"""Matrices of zeros and ones."""

from __future__ import annotations

from collections.abc import Sequence
from collections.abc import Set as AbstractSet

import numpy as np
import numpy.typing as npt

Matrix = npt.NDArray[np.float64]
Bags = Sequence[AbstractSet[str]]

DENSE = 400_000  # cells up to which a matrix is held dense
_FEW = 64  # pairs that are looked at one by one


class OnesMatrix:
    """Ones at places of a matrix of zeros, for products with dense ones."""

    def __init__(self, rows: Sequence[int], columns: Sequence[int], size: int) -> None:
        """``rows`` and ``columns`` of each one, in a matrix of the shape (size, size); what is named twice counts once."""
        self.dense = np.zeros((size, size)) if size * size <= DENSE else None
        places = sorted(set(zip(rows, columns, strict=True)))
        row_of, self.columns = np.array(places, dtype=int).reshape(-1, 2).T
        self.rows, self.starts = np.unique(row_of, return_index=True)
        self.row_sums: Matrix = np.bincount(row_of, minlength=size).astype(float)
        if self.dense is not None:
            self.dense[row_of, self.columns] = 1.0

    def times(self, matrix: Matrix) -> Matrix:
        """The product of the ones and a matrix of the shape (size, any)."""
        if self.dense is not None:
            return self.dense @ matrix
        made = np.zeros_like(matrix)
        if len(self.rows):
            made[self.rows] = np.add.reduceat(matrix[self.columns], self.starts, axis=0)
        return made


def common_counts(old: Bags, new: Bags) -> Matrix:
    """How many words each pair of bags has in common, shape (old, new)."""
    if 0 < len(old) * len(new) <= _FEW:
        return np.array([[float(len(bag & other)) for other in new] for bag in old])
    first, second = _bags_of_words(old), _bags_of_words(new)
    words = [word for word in first if word in second]
    if (len(old) + len(new)) * len(words) <= DENSE:
        left, right = np.zeros((len(old), len(words))), np.zeros((len(new), len(words)))
        for place, word in enumerate(words):
            left[first[word], place] = 1.0
            right[second[word], place] = 1.0
        return left @ right.T
    counts = np.zeros((len(old), len(new)))
    for word in words:
        counts[np.ix_(first[word], second[word])] += 1.0
    return counts


def _bags_of_words(bags: Bags) -> dict[str, list[int]]:
    """The bags in which each word is."""
    found: dict[str, list[int]] = {}
    for place, bag in enumerate(bags):
        for word in bag:
            found.setdefault(word, []).append(place)
    return found
