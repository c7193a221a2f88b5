# Links between two layers as right angles: which horizontal runs on which track, so that few cross and none
# lie on each other.
"""Tracks for the horizontals in the gap between two layers."""

from __future__ import annotations

from msgspec import Struct

TRACK = 9.0


class Run(Struct):
    """A link through one gap from ``x1`` at its top to ``x2`` at its bottom."""

    key: int
    x1: float
    x2: float
    track: int = -1

    @property
    def straight(self) -> bool:
        return abs(self.x1 - self.x2) < 0.75


def _is_inside(x: float, run: Run) -> bool:
    return min(run.x1, run.x2) + 0.5 < x < max(run.x1, run.x2) - 0.5


def _drawing_cost(upper: Run, lower: Run) -> int:
    """What it costs to draw one horizontal above the other: crossings, and overlaps of their verticals."""
    cost = int(_is_inside(upper.x2, lower)) + int(_is_inside(lower.x1, upper))
    if abs(upper.x2 - lower.x1) < 3.0:
        cost += 20
    return cost


def _are_apart(a: Run, b: Run) -> bool:
    return max(a.x1, a.x2) + 5 < min(b.x1, b.x2) or max(b.x1, b.x2) + 5 < min(a.x1, a.x2)


def assign_tracks(runs: list[Run]) -> int:
    """Sets the track of every bent run (0 is the uppermost); returns how many tracks there are.

    Runs of one link bundle that leave from the same point may share a track.
    """
    bent = [r for r in runs if not r.straight]
    above = _wishes_of_runs(bent)
    left = set(range(len(bent)))
    tracks = 0
    while left:
        # In a cycle of wishes the run goes first whose open ones matter least.
        i, taken = _lowest_free(left, above, bent)
        bent[i].track = max(taken, default=-1) + 1
        tracks = max(tracks, bent[i].track + 1)
        left.discard(i)
    return tracks


def _wishes_of_runs(bent: list[Run]) -> list[dict[int, float]]:
    above: list[dict[int, float]] = [{} for _ in bent]  # run -> runs that should be above it, and how much that matters
    for i, a in enumerate(bent):
        for j in range(i + 1, len(bent)):
            b = bent[j]
            if _are_apart(a, b) or (abs(a.x1 - b.x1) < 0.5 and (a.x2 > a.x1) != (b.x2 > b.x1)):
                continue
            first, second = _drawing_cost(a, b), _drawing_cost(b, a)
            if first < second or (first == second and (min(a.x1, a.x2), a.x2) > (min(b.x1, b.x2), b.x2)):
                above[j][i] = second - first + 0.1
            else:
                above[i][j] = first - second + 0.1
    return above


def _lowest_free(left: set[int], above: list[dict[int, float]], bent: list[Run]) -> tuple[int, list[int]]:
    i = min(left, key=lambda k: (sum([w for o, w in above[k].items() if o in left]), k))
    taken = [
        bent[j].track
        for j in range(len(bent))
        if j not in left and not _are_apart(bent[i], bent[j]) and not _share_column(bent[i], bent[j])
    ]
    return i, taken


def _share_column(a: Run, b: Run) -> bool:
    return abs(a.x1 - b.x1) < 0.5 and (a.x2 > a.x1) != (b.x2 > b.x1)
