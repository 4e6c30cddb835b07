"""Orders of vertices and faces, and what runs in parts, against what NumPy makes of it."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core import ordering as o
from kneten.core.primitives import ball
from kneten.core.repeated import repeated_faces

RNG = np.random.default_rng(5)


def some_faces(count: int, n: int) -> np.ndarray:
    """Triangles and quads over `n` vertices, no vertex twice in one."""
    faces = np.argsort(RNG.random((count, 40)), axis=1)[:, :4] + 40 * RNG.integers(0, n // 40, (count, 1))
    faces[::3, 3] = -1
    return faces.astype(np.int32)


@pytest.mark.parametrize("n", [1, 7, 300_000])
def test_extremes(n: int) -> None:
    values = RNG.normal(0, 40, (n, 3)).astype(np.float32)
    low, high = o.extremes(values)
    assert np.array_equal(low, values.min(axis=0))
    assert np.array_equal(high, values.max(axis=0))


@pytest.mark.parametrize("n", [0, 1, 500, 250_000])
def test_the_order_in_space_follows_the_keys_and_keeps_equal_places_as_they_came(n: int) -> None:
    at = RNG.normal(0, 40, (n, 3)).astype(np.float32)
    at[n // 2 :] = at[: n - n // 2]
    order = o.space_order(at)
    assert np.array_equal(np.sort(order), np.arange(n))
    if not n:
        return
    low, high = o.extremes(at)
    cells = ((at - low).astype(np.float64) * (65535.0 / max(float((high - low).max()), 1e-9))).astype(
        np.int64
    )
    # The key by its definition: bits of x, y and z in turn.
    keys = np.zeros(n, np.int64)
    for bit in range(16):
        for axis in range(3):
            keys |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    assert np.array_equal(order, np.argsort(keys, kind="stable"))


def test_all_in_one_place_stays_as_it_came() -> None:
    assert np.array_equal(o.space_order(np.full((9, 3), 4.0, np.float32)), np.arange(9))


def test_what_is_read_off_faces_in_parts() -> None:
    n = 8_000
    faces = some_faces(400_000, n)
    corners = np.where(faces >= 0, faces, n)
    assert np.array_equal(o.least_corners(faces), corners.min(axis=1))
    assert np.array_equal(o.face_order(faces, n), np.argsort(corners.min(axis=1), kind="stable"))
    assert o.corner_limits(faces) == (faces[:, :3].min(), -1, faces.max())
    names = RNG.permutation(n).astype(np.int32)
    assert np.array_equal(o.renamed(faces, names), np.append(names, np.int32(-1))[faces])
    order = RNG.permutation(len(faces)).astype(np.int32)
    assert np.array_equal(o.taken(faces, order), faces[order])


@pytest.mark.parametrize("where", [0, 123_456, 399_999])
def test_the_first_face_that_names_a_vertex_twice(where: int) -> None:
    faces = some_faces(400_000, 8_000)
    assert o.first_twice(faces) == -1
    faces[where, 2] = faces[where, 0]
    assert o.first_twice(faces) == where


@pytest.mark.parametrize("turn", [0, 1, 2, 3])
def test_faces_that_are_there_already_are_found_whatever_corner_they_begin_with(turn: int) -> None:
    _, quads = ball(10.0, 12)
    faces = np.concatenate([quads, quads[:, [0, 1, 2, 3]][:, [(k + turn) % 4 for k in range(4)]][5:9]])
    triangles = np.full((len(quads), 4), -1, np.int32)
    triangles[:, :3] = quads[:, :3]
    again = triangles[10:12].copy()
    again[:, :3] = np.roll(again[:, :3], turn, axis=1)
    # The other side of a face is another face, and a triangle is no quad.
    other = triangles[20:21].copy()
    other[:, :3] = other[:, 2::-1]
    rows = np.concatenate([faces, triangles, again, other]).astype(np.int32)
    marked = np.flatnonzero(repeated_faces(rows))
    q = len(quads)
    assert marked.tolist() == [*range(q, q + 4), 2 * q + 4, 2 * q + 5]
