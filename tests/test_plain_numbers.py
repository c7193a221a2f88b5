"""What is worked out here rather than by a large library, held against that library."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import RegularGridInterpolator
from scipy.optimize import linear_sum_assignment
from scipy.special import betaincinv

from zeitbuch.core.assumptions.beta_quantiles import beta_quantiles
from zeitbuch.core.assumptions.interpolation import between_grid
from zeitbuch.core.diff import ones_matrix
from zeitbuch.core.diff.assignment import best_assignment
from zeitbuch.core.diff.ones_matrix import OnesMatrix, common_counts
from zeitbuch.core.estimate.sensitivity import _latin_points
from zeitbuch.core.graph.call_graph import build_call_graph, solve_circle

SEEDS = st.integers(0, 2**32 - 1)


@given(st.integers(1, 14), st.integers(1, 14), SEEDS, st.booleans())
def test_pairs_have_the_greatest_sum(rows: int, columns: int, seed: int, tied: bool) -> None:
    drawn = np.random.default_rng(seed)
    score = drawn.integers(0, 4, (rows, columns)).astype(float) if tied else drawn.random((rows, columns))
    found = best_assignment(score)
    first, second = linear_sum_assignment(score, maximize=True)
    assert sum(score[pair] for pair in found) == pytest.approx(score[first, second].sum())
    assert [row for row, _ in found] == first.tolist() and len({column for _, column in found}) == min(rows, columns)
    if not tied:
        assert found == list(zip(first.tolist(), second.tolist(), strict=True))


def test_pairs_of_nothing_and_of_what_is_no_number() -> None:
    assert best_assignment(np.zeros((0, 3))) == []
    with pytest.raises(ValueError, match="expected numbers"):
        best_assignment(np.array([[1.0, np.nan]]))


@given(SEEDS, st.booleans())
def test_ones_by_place_do_what_dense_ones_do(seed: int, dense: bool) -> None:
    drawn = np.random.default_rng(seed)
    size = int(drawn.integers(1, 9))
    rows, columns = drawn.integers(0, size, (2, int(drawn.integers(0, 12))))
    wanted = np.zeros((size, size))
    wanted[rows, columns] = 1.0
    other = drawn.random((size, 3))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ones_matrix, "DENSE", 10**6 if dense else 0)
        made = OnesMatrix(rows.tolist(), columns.tolist(), size)
        assert np.allclose(made.times(other), wanted @ other) and (made.row_sums == wanted.sum(axis=1)).all()
        bags = [[{str(word) for word in drawn.integers(0, 9, 4)} for _ in range(5)] for _ in range(2)]
        counts = [[len(first & second) for second in bags[1]] for first in bags[0]]
        assert common_counts(*bags).tolist() == counts


@pytest.mark.parametrize("alpha", [1e-6, 1e-4, 0.01, 0.3, 1.0, 1.7, 3.0, 4.4, 5.0, 5.7, 5.999, 6 - 1e-6])
def test_quantiles_are_those_of_the_beta_distribution(alpha: float) -> None:
    shares = np.concatenate([(np.arange(500) + 0.5) / 500, [0.0, 1e-12, 1 - 1e-12, 1.0]])
    assert np.allclose(beta_quantiles(alpha, shares), betaincinv(alpha, 6 - alpha, shares), rtol=0, atol=1e-10)


@given(st.integers(1, 3), SEEDS)
def test_between_the_points_of_a_grid_run_straight_lines(width: int, seed: int) -> None:
    drawn = np.random.default_rng(seed)
    axes = [np.cumsum(drawn.random(int(drawn.integers(2, 6))) + 0.01) for _ in range(width)]
    values = drawn.random([len(axis) for axis in axes])
    points = np.column_stack([drawn.uniform(axis[0], axis[-1], 20) for axis in axes])
    points[0] = [axis[-1] for axis in axes]
    assert np.allclose(between_grid(axes, values, points), RegularGridInterpolator(axes, values)(points))


@given(st.integers(1, 9), SEEDS, st.floats(0.1, 0.97))
def test_circles_are_solved_as_their_matrix_is(size: int, seed: int, radius: float) -> None:
    drawn = np.random.default_rng(seed)
    times = drawn.random((size, size)) * (drawn.random((size, size)) < 0.5) + np.roll(np.identity(size), 1, axis=1)
    times *= radius / np.abs(np.linalg.eigvals(times)).max()
    keys = [f"f{place}" for place in range(size)]
    calls = {keys[a]: {keys[b]: float(times[a, b]) for b in range(size) if times[a, b]} for a in range(size)}
    outside = drawn.random(size)
    (component,) = build_call_graph(calls, {key: key for key in keys}).components
    found = dict(zip(component, solve_circle_or_fail(calls, component, outside, keys), strict=True))
    wanted = np.linalg.solve(np.identity(size) - times, outside)
    assert [found[key] for key in keys] == pytest.approx(wanted.tolist())
    more = {key: {other: amount * 1.02 / radius for other, amount in row.items()} for key, row in calls.items()}
    graph = build_call_graph(more, {key: key for key in keys})
    assert solve_circle(graph, graph.components[0], [1.0] * size) is None


def solve_circle_or_fail(
    calls: dict[str, dict[str, float]], component: tuple[str, ...], outside: object, keys: list[str]
) -> list[float]:
    amounts = dict(zip(keys, outside, strict=True))  # type: ignore[call-overload]
    found = solve_circle(
        build_call_graph(calls, {key: key for key in keys}), component, [amounts[key] for key in component]
    )
    assert found is not None
    return found


def test_a_hub_that_thousands_call_and_that_calls_them_all_is_solved() -> None:
    # Each of n flows runs the hub once in two of its runs, and the hub each of them once in 2 n: hub = 1 + (1 + hub / 2) / 2 = 2.
    leaves = [f"f{place}" for place in range(3_000)]
    calls = {leaf: {"hub": 0.5} for leaf in leaves} | {"hub": {leaf: 0.5 / len(leaves) for leaf in leaves}}
    graph = build_call_graph(calls, {key: key for key in calls})
    (component,) = graph.components
    found = solve_circle(graph, component, [1.0] * len(component))
    assert found is not None
    assert dict(zip(component, found, strict=True))["hub"] == pytest.approx(2.0)


def test_points_lie_once_in_each_part_of_every_direction() -> None:
    points = _latin_points(4, 64)
    assert points.shape == (4, 64)
    assert (np.sort((points * 64).astype(int), axis=1) == np.arange(64)).all()
