# Places of the boxes along their rows: links as straight and short as the room between boxes allows. Rows that go on
# one below the other without splits or joins move as one band, so that a long chain costs no more than a step.
"""Coordinates across the layers of a map."""

from __future__ import annotations

from msgspec import Struct

Near = list[list[tuple[int, float, float, float]]]  # box -> (other box, own offset, its offset, weight)


class _Band(Struct, gc=False):
    """Rows that move together: columns of boxes, each with the places of its boxes relative to the first."""

    columns: list[list[int]]
    shifts: list[list[float]]
    offsets: list[float]  # least distance of each column's place from that of the first column
    x: list[float]


def place_rows(rows: list[list[int]], widths: list[float], gaps: list[float], up: Near, down: Near) -> list[float]:
    """The centre of each box. ``gaps`` is the room a box wants at its sides; between two boxes the larger one holds."""
    bands = _make_bands(rows, widths, gaps, up, down)
    xs = [0.0] * len(widths)
    for band in bands:
        _spread_band(band, xs)
    # Two walks from the bottom to the top, by what lies below and then by both sides: tried on many made flows, more walks
    # give shorter links by a hundredth and maps that are a fifth wider.
    for both in (False, True):
        for band in reversed(bands):
            _settle_band(band, xs, up, down, both)
    low = min([x - w / 2 for x, w in zip(xs, widths, strict=True)], default=0.0)
    return [round(x - low, 2) for x in xs]


def _make_bands(rows: list[list[int]], widths: list[float], gaps: list[float], up: Near, down: Near) -> list[_Band]:
    bands: list[_Band] = []
    for r, row in enumerate(rows):
        if (
            r
            and len(row) == len(rows[r - 1])
            and all(
                [
                    len(down[a]) == 1 and len(up[b]) == 1 and down[a][0][0] == b
                    for a, b in zip(rows[r - 1], row, strict=True)
                ]
            )
        ):
            band = bands[-1]
            for column, shift, b in zip(band.columns, band.shifts, row, strict=True):
                _, own, its, _ = up[b][0]
                column.append(b)
                shift.append(shift[-1] + its - own)
        else:
            bands.append(_Band([[b] for b in row], [[0.0] for _ in row], [], []))
    for band in bands:
        _space_columns(widths, gaps, band)
    return bands


def _space_columns(widths: list[float], gaps: list[float], band: _Band) -> None:
    at = 0.0
    band.offsets.append(0.0)
    for c in range(1, len(band.columns)):
        apart = 0.0
        for a, x, b, y in zip(band.columns[c - 1], band.shifts[c - 1], band.columns[c], band.shifts[c], strict=True):
            apart = max(apart, (widths[a] + widths[b]) / 2 + max(gaps[a], gaps[b]) + x - y)
        at += apart
        band.offsets.append(at)
    band.x = band.offsets[:]


def _spread_band(band: _Band, xs: list[float]) -> None:
    for column, shift, x in zip(band.columns, band.shifts, band.x, strict=True):
        for b, s in zip(column, shift, strict=True):
            xs[b] = x + s


def _settle_band(band: _Band, xs: list[float], up: Near, down: Near, both: bool) -> None:
    """Moves the columns of a band as near to what they are linked with as their distances allow."""
    wishes: list[tuple[float, float]] = []
    for column, shift, now in zip(band.columns, band.shifts, band.x, strict=True):
        above, below = up[column[0]], down[column[-1]]
        last = shift[-1]
        spots = [(xs[o] + there - here - last, w) for o, here, there, w in below]
        if both or not below:
            spots += [(xs[o] + there - here, w) for o, here, there, w in above]
        if not spots:
            wishes.append((now, 0.01))
        elif len(spots) == 1:
            wishes.append(spots[0])
        else:
            # A median agrees with one neighbour exactly, so that its link is straight; a mean with none.
            spots.sort()
            total = sum([w for _, w in spots])
            wishes.append((_weighted_median(spots, total), total))
    band.x = [wishes[0][0]] if len(wishes) == 1 else _keep_apart(wishes, band.offsets)
    _spread_band(band, xs)


def _weighted_median(spots: list[tuple[float, float]], total: float) -> float:
    """The weighted median of places; between two middle ones every place is as good, and the middle is taken."""
    half, seen = total / 2, 0.0
    for i, (at, weight) in enumerate(spots):
        seen += weight
        if seen > half + 1e-9:
            return at
        if seen > half - 1e-9 and i + 1 < len(spots):
            return (at + spots[i + 1][0]) / 2
    return spots[-1][0]


def _keep_apart(wishes: list[tuple[float, float]], offsets: list[float]) -> list[float]:
    """Places nearest to the wishes (sum of weighted distances) that keep their least distances: isotonic regression by
    medians (pool adjacent violators) on places less the room needed to their left."""
    blocks: list[tuple[list[tuple[float, float]], float]] = []
    for (wish, weight), offset in zip(wishes, offsets, strict=True):
        spots = [(wish - offset, weight)]
        at = spots[0][0]
        while blocks and blocks[-1][1] > at:
            before, _ = blocks.pop()
            spots = sorted(before + spots)
            at = _weighted_median(spots, sum([w for _, w in spots]))
        blocks.append((spots, at))
    found: list[float] = []
    for spots, at in blocks:
        for _ in spots:
            found.append(at + offsets[len(found)])
    return found


def place_ports(wishes: list[float], low: float, high: float, least: float) -> list[float]:
    """Places of ports in their order, as near to the wishes as may be, between two ends and ``least`` apart (less where there
    is no room)."""
    n = len(wishes)
    if n == 1:
        return [min(max(wishes[0], low), high)]
    step = min(least, max(0.0, high - low) / (n - 1))
    offsets = [step * i for i in range(n)]
    inside = [min(max(w, low + offsets[i]), high - offsets[n - 1 - i]) for i, w in enumerate(wishes)]
    return _keep_apart([(w, 1.0) for w in inside], offsets)
