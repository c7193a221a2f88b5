# SciPy has this, too, and weighs more than all the rest of the program: who only reads, draws and compares does without.
"""The assignment with the greatest sum."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
FREE = -1


def best_assignment(score: Floats) -> list[tuple[int, int]]:
    """Row and column of each pair of the assignment with the greatest sum, by row; ``score`` has the shape (rows, columns).

    Each row of the shorter side gets a column, along shortest augmenting paths (D. F. Crouse, On implementing 2D rectangular assignment
    algorithms, IEEE Transactions on Aerospace and Electronic Systems 52 (2016), algorithm of section II.C).

    Raises:
        ValueError: a score is no number.
    """
    if not score.size:
        return []
    if not np.isfinite(score).all():
        raise ValueError("expected numbers as scores")
    if score.shape[0] > score.shape[1]:
        return sorted((row, column) for column, row in best_assignment(score.T))
    found = _Assignment(np.ascontiguousarray(score.max() - score, dtype=float))
    for row in range(len(score)):
        if found.column_of[row] == FREE:
            found.extend(row)
    return list(enumerate(found.column_of.tolist()))


class _Assignment:
    """An assignment that grows by a row at a time; ``row_price`` and ``column_price`` show that what is assigned is the cheapest."""

    def __init__(self, cost: Floats) -> None:
        self.cost = cost
        rows, columns = cost.shape
        self.row_price, self.column_price = cost.min(axis=1), np.zeros(columns)
        self.column_of: npt.NDArray[Any] = np.full(rows, FREE)
        self.row_of: npt.NDArray[Any] = np.full(columns, FREE)
        for row, column in enumerate(cost.argmin(axis=1).tolist()):  # rows whose dearest wish nobody else had before
            if self.row_of[column] == FREE:
                self.column_of[row], self.row_of[column] = column, row

    def extend(self, first: int) -> None:
        """Gives a free row a column, and moves others where that is cheaper."""
        columns = len(self.row_of)
        shortest = np.full(columns, np.inf)
        before = np.full(columns, FREE)
        done = np.zeros(columns, bool)
        row, least, passed = first, 0.0, [first]
        while True:
            length = least + self.cost[row] - self.row_price[row] - self.column_price
            nearer = ~done & (length < shortest)
            shortest[nearer] = length[nearer]
            before[nearer] = row
            column = self._next_column(np.where(done, np.inf, shortest))
            least = float(shortest[column])
            done[column] = True
            if self.row_of[column] == FREE:
                break
            row = int(self.row_of[column])
            passed.append(row)
        self._settle_prices(first, passed, done, shortest, least)
        while True:
            row = int(before[column])
            self.row_of[column] = row
            self.column_of[row], column = column, int(self.column_of[row])
            if row == first:
                return

    def _next_column(self, open_lengths: Floats) -> int:
        """The nearest column, of several a free one."""
        column = int(open_lengths.argmin())
        if self.row_of[column] != FREE:
            alike = np.flatnonzero((open_lengths == open_lengths[column]) & (self.row_of == FREE))
            if len(alike):
                return int(alike[0])
        return column

    def _settle_prices(
        self, first: int, passed: list[int], done: npt.NDArray[np.bool_], shortest: Floats, least: float
    ) -> None:
        self.row_price[first] += least
        for row in passed[1:]:
            self.row_price[row] += least - shortest[self.column_of[row]]
        self.column_price[done] -= least - shortest[done]
