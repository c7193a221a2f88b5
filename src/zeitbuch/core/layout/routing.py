# Links between two layers as right angles: which horizontal runs on which track, so that few cross and none
# lie on each other.
"""Tracks for the horizontals in the gap between two layers."""

from __future__ import annotations

from heapq import heapify, heappop, heappush

from msgspec import Struct

TRACK = 9.0


class Run(Struct):
    """A link through one gap from ``x1`` at its top to ``x2`` at its bottom."""

    key: int
    x1: float
    x2: float
    track: int = -1
    low: float = 0.0
    high: float = 0.0

    def __post_init__(self) -> None:
        self.low, self.high = min(self.x1, self.x2), max(self.x1, self.x2)

    @property
    def straight(self) -> bool:
        return abs(self.x1 - self.x2) < 0.75


def _is_inside(x: float, run: Run) -> bool:
    return run.low + 0.5 < x < run.high - 0.5


def _drawing_cost(upper: Run, lower: Run) -> int:
    """What it costs to draw one horizontal above the other: crossings, and overlaps of their verticals."""
    cost = int(_is_inside(upper.x2, lower)) + int(_is_inside(lower.x1, upper))
    if abs(upper.x2 - lower.x1) < 3.0:
        cost += 20
    return cost


def _are_apart(a: Run, b: Run) -> bool:
    return a.high + 5 < b.low or b.high + 5 < a.low


def assign_tracks(runs: list[Run]) -> int:
    """Sets the track of every bent run (0 is the uppermost); returns how many tracks there are.

    Runs of one link bundle that leave from the same point may share a track.
    """
    bent = [r for r in runs if not r.straight]
    above = _wishes_of_runs(bent)
    below: list[list[int]] = [[] for _ in bent]
    for i, wishes in enumerate(above):
        for j in wishes:
            below[j].append(i)
    # How much the open wishes of each run matter; the heap holds old values too, which are passed over.
    open_wishes = [sum(wishes.values()) for wishes in above]
    waiting = [(matter, i) for i, matter in enumerate(open_wishes)]
    heapify(waiting)
    placed: list[int] = []
    done = [False] * len(bent)
    while waiting:
        # In a cycle of wishes the run goes first whose open ones matter least.
        matter, i = heappop(waiting)
        if done[i] or matter != open_wishes[i]:
            continue
        run = bent[i]
        taken = [bent[j].track for j in placed if not _are_apart(run, bent[j]) and not _share_column(run, bent[j])]
        run.track = max(taken, default=-1) + 1
        done[i] = True
        placed.append(i)
        for j in below[i]:
            if not done[j]:
                open_wishes[j] -= above[j][i]
                heappush(waiting, (open_wishes[j], j))
    return max([run.track + 1 for run in bent], default=0)


def _wishes_of_runs(bent: list[Run]) -> list[dict[int, int]]:
    """For each run the runs that should be above it, and how much that matters, in tenths of a crossing."""
    above: list[dict[int, int]] = [{} for _ in bent]
    for i, a in enumerate(bent):
        for j in range(i + 1, len(bent)):
            b = bent[j]
            if _are_apart(a, b) or (abs(a.x1 - b.x1) < 0.5 and (a.x2 > a.x1) != (b.x2 > b.x1)):
                continue
            first, second = _drawing_cost(a, b), _drawing_cost(b, a)
            if first < second or (first == second and (a.low, a.x2) > (b.low, b.x2)):
                above[j][i] = 10 * (second - first) + 1
            else:
                above[i][j] = 10 * (first - second) + 1
    return above


def _share_column(a: Run, b: Run) -> bool:
    return abs(a.x1 - b.x1) < 0.5 and (a.x2 > a.x1) != (b.x2 > b.x1)
