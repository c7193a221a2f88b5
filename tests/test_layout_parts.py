"""Parts of the layout: input -> places."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeitbuch.core.layout.layering import Box, assign_layers
from zeitbuch.core.layout.ordering import count_crossings
from zeitbuch.core.layout.placement import place_ports
from zeitbuch.core.layout.routing import Run, assign_tracks


@pytest.mark.parametrize(
    ("arcs", "layers"),
    [
        (["ab", "bc"], [0, 1, 2]),
        (["ab", "ac"], [0, 1, 1]),
        # The longest way counts.
        (["ab", "bc", "ac"], [0, 1, 2]),
        ([], [0, 0, 0]),
    ],
)
def test_layers(arcs: list[str], layers: list[int]) -> None:
    boxes = {name: Box(name, 10, 10) for name in "abc"}
    assign_layers(boxes, [(arc[0], arc[1]) for arc in arcs])
    assert [boxes[name].layer for name in "abc"] == layers


def test_what_leads_to_more_than_leads_to_it_is_pulled_down() -> None:
    boxes = {name: Box(name, 10, 10) for name in "abcd"}
    assign_layers(boxes, [("a", "b"), ("b", "c"), ("d", "c")])
    assert boxes["d"].layer == 1


@pytest.mark.parametrize(
    ("wishes", "expected"),
    [([5.0], [5.0]), ([50.0], [10.0]), ([2.0, 8.0], [2.0, 8.0]), ([5.0, 5.0], [3.0, 7.0]), ([0.0, 0.0], [0.0, 4.0])],
)
def test_ports(wishes: list[float], expected: list[float]) -> None:
    assert place_ports(wishes, 0.0, 10.0, 4.0) == pytest.approx(expected)


@given(wishes=st.lists(st.floats(-50, 150), min_size=1, max_size=8).map(sorted), least=st.floats(0, 30))
def test_ports_keep_their_order_their_distance_and_the_side(wishes: list[float], least: float) -> None:
    places = place_ports(wishes, 0.0, 100.0, least)
    step = min(least, 100.0 / max(1, len(wishes) - 1))
    assert all(-1e-6 <= place <= 100 + 1e-6 for place in places)
    assert all(later - earlier >= step - 1e-6 for earlier, later in itertools.pairwise(places))


@pytest.mark.parametrize(
    ("down", "crossings"),
    [([[0], [1]], 0), ([[1], [0]], 1), ([[0, 1], [0, 1]], 1), ([[1, 2], [0]], 2)],
)
def test_crossings(down: list[list[int]], crossings: int) -> None:
    """Two rows: boxes 0 and 1 above, the others below them in order."""
    rows = [[0, 1], [2, 3, 4]]
    ends = [[(2 + target, 0.0) for target in targets] for targets in down] + [[], [], []]
    assert count_crossings(rows, ends) == crossings


def test_tracks_of_links_in_one_gap() -> None:
    straight = [Run(0, 10, 10), Run(1, 20, 20)]
    assert assign_tracks(straight) <= 1
    apart = [Run(0, 0, 10), Run(1, 50, 60)]
    assert assign_tracks(apart) == 1 and {run.track for run in apart} == {0}
    side_by_side = [Run(0, 0, 30), Run(1, 10, 40)]
    assert assign_tracks(side_by_side) == 2 and side_by_side[0].track != side_by_side[1].track
