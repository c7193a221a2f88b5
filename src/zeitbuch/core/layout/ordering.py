# Order of the boxes within the layers of a map: medians of neighbours from above and below in turn, and swaps of
# neighbours, as long as links cross less. Boxes are numbers here, for speed.
"""Fewer crossings between the layers of a map."""

from __future__ import annotations

from bisect import bisect_right, insort

Ends = list[list[tuple[int, float]]]  # box -> (other box, where on the upper box the link leaves: -0.5..0.5)

_SWEEPS = 24
_PATIENCE = 5


def count_crossings(rows: list[list[int]], down: Ends) -> int:
    """Crossings of links between neighbouring layers, in the order of the ports they leave from."""
    place = {b: i for row in rows for i, b in enumerate(row)}
    total = 0
    for r, row in enumerate(rows):
        if r + 1 == len(rows) or len(rows[r + 1]) < 2:
            continue  # towards a single box nothing can cross
        seen: list[int] = []
        for b in row:
            ends = down[b]
            if len(ends) > 1:
                ends = sorted(ends, key=lambda e: e[1])
            here = [place[o] for o, _ in ends]
            for n, e in enumerate(here):
                # Links from one port do not cross each other there.
                total += (
                    len(seen)
                    - bisect_right(seen, e)
                    + sum([1 for k in range(n) if here[k] > e and ends[k][1] != ends[n][1]])
                )
            for e in here:
                insort(seen, e)
    return total


class Ordering:
    """Orders the boxes of each row; ``rows`` is changed in place."""

    def __init__(self, rows: list[list[int]], up: Ends, down: Ends) -> None:
        self.rows, self.up, self.down = rows, up, down
        self.place: list[int] = [0] * len(up)
        self._keep_best()

    def _keep_best(self) -> None:
        for row in self.rows:
            for i, b in enumerate(row):
                self.place[b] = i

    def reduce_crossings(self) -> int:
        """Reduces crossings; returns how many are left."""
        self._first_order()
        least = count_crossings(self.rows, self.down)
        best = [row[:] for row in self.rows]
        idle = 0
        for turn in range(_SWEEPS):
            if not least or idle >= _PATIENCE:
                break
            self._sweep_rows(turn % 2 == 1, turn % 4 > 1)
            self._swap_neighbours(turn % 4 > 1)
            now = count_crossings(self.rows, self.down)
            idle += 1
            if now < least:
                least, best, idle = now, [row[:] for row in self.rows], 0
        self.rows[:] = best
        self._keep_best()
        return least

    def _first_order(self) -> None:
        """The order in which a walk from the top first meets the boxes: branches stay together, cases in the order of their
        ports."""
        rows: list[list[int]] = [[] for _ in self.rows]
        layer = {b: r for r, row in enumerate(self.rows) for b in row}
        seen = [False] * len(self.up)
        for row in self.rows:
            for root in row:
                if self.up[root] or seen[root]:
                    continue
                work = [root]
                while work:
                    b = work.pop()
                    if seen[b]:
                        continue
                    seen[b] = True
                    rows[layer[b]].append(b)
                    ends = self.down[b]
                    if len(ends) > 1:
                        ends = sorted(ends, key=lambda e: e[1])[::-1]
                    work += [o for o, _ in ends]
        self.rows[:] = rows
        self._keep_best()

    def _sweep_rows(self, upward: bool, right: bool) -> None:
        """Sorts each row by the medians of its neighbours in the row before it."""
        place = self.place
        links = self.down if upward else self.up
        rows = range(len(self.rows) - 2, -1, -1) if upward else range(1, len(self.rows))
        for r in rows:
            row = self.rows[r]
            if len(row) < 2:
                continue
            keys: dict[int, float] = {}
            for b in row:
                ends = links[b]
                if not ends:
                    keys[b] = float(place[b])
                elif len(ends) == 1:
                    other, at = ends[0]
                    keys[b] = place[other] if upward else place[other] + at
                else:
                    spots = sorted([place[o] + (0.0 if upward else at) for o, at in ends])
                    n = len(spots)
                    keys[b] = spots[n // 2] if n % 2 else (spots[n // 2 - 1] + spots[n // 2]) / 2
            if right:
                row.reverse()
            row.sort(key=keys.__getitem__)
            for i, b in enumerate(row):
                place[b] = i

    def _swap_neighbours(self, even: bool) -> None:
        """Swaps neighbours as long as that takes crossings away; in every other turn also when it costs nothing."""
        place = self.place
        dirty = [len(row) > 1 for row in self.rows]
        for turn in range(12):
            won = False
            for r, row in enumerate(self.rows):
                if not dirty[r]:
                    continue
                dirty[r] = False
                for i in range(len(row) - 1):
                    a, b = row[i], row[i + 1]
                    gain = self._gain_of_swap(a, b)
                    if gain > 0 or (gain == 0 and even and not turn):
                        row[i], row[i + 1] = b, a
                        place[a], place[b] = i + 1, i
                        if gain > 0:
                            won = dirty[r] = True
                            for near in (r - 1, r + 1):
                                if 0 <= near < len(dirty) and len(self.rows[near]) > 1:
                                    dirty[near] = True
            if not won:
                return

    def _gain_of_swap(self, a: int, b: int) -> int:
        """How many crossings fewer there are when two neighbours change places."""
        place, gain = self.place, 0
        for o, x in self.up[a]:
            at = place[o] + x
            for q, y in self.up[b]:
                other = place[q] + y
                gain += (at > other) - (at < other)
        for o, _ in self.down[a]:
            at = place[o]
            for q, _ in self.down[b]:
                other = place[q]
                gain += (at > other) - (at < other)
        return gain
