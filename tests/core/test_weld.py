"""Welding: against NumPy's own way, and what it must not confuse."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.weld import welded


@given(
    st.lists(st.tuples(*[st.sampled_from([0.0, -0.0, 1.0, 1.0000001, -3.5, 1e-45, 3e38])] * 3), max_size=60)
)
def test_as_numpy_tells_them_apart(rows: list[tuple[float, float, float]]) -> None:
    places = np.array(rows, np.float32).reshape(-1, 3)
    first, which = welded(places)
    plain, index, inverse = np.unique(places + np.float32(0), axis=0, return_index=True, return_inverse=True)
    assert len(first) == len(plain)
    np.testing.assert_array_equal(first, np.sort(index))
    # Each is the same place as the first of its kind.
    np.testing.assert_array_equal(places[first][which], places)
    assert len(np.unique(np.stack([which, inverse.reshape(-1)]), axis=1).T) == len(plain)


def test_minus_zero_is_zero_and_the_next_number_is_another() -> None:
    near = np.nextafter(np.float32(1), np.float32(2))
    places = np.array([[0, 1, 2], [-0.0, 1, 2], [0, near, 2]], np.float32)
    first, which = welded(places)
    assert first.tolist() == [0, 2]
    assert which.tolist() == [0, 0, 1]


@pytest.mark.parametrize("step", [1.0, 2.0**-20, 1000.0])
def test_a_grid_spreads_over_the_table(step: float) -> None:
    """Even grids are the worst there is for a careless hash: half a million places within a moment."""
    side = np.arange(80) * step
    grid = np.stack(np.meshgrid(side, side, side, indexing="ij"), -1).reshape(-1, 3).astype(np.float32)
    first, which = welded(np.concatenate([grid, grid[::-1]]))
    assert len(first) == len(grid)
    np.testing.assert_array_equal(which[len(grid) :], np.arange(len(grid))[::-1])


def test_nothing_is_nothing() -> None:
    first, which = welded(np.empty((0, 3), np.float32))
    assert len(first) == len(which) == 0
