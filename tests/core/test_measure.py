"""Places that stay on the clay, lengths over it, and transforms that mirror."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.live.primitive import Primitive
from kneten.core.measure import CANONS, anchored, at_share, length, surface_path
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform, from_axes
from tests.conftest import make_ball


def test_ways_over_a_box_are_exact() -> None:
    clay = Primitive("box", (100.0, 100.0, 100.0), (10, 10, 10)).made().mesh()
    ends = [anchored(clay, np.array(p)) for p in ((-50.0, -50, -50), (50.0, 50, 50))]
    assert length(surface_path(clay, *ends)) == pytest.approx(100 * np.sqrt(5), rel=1e-6)
    ends = [anchored(clay, np.array(p)) for p in ((-50.0, 13, 17), (33.3, 50.0, 22))]
    assert length(surface_path(clay, *ends)) == pytest.approx(np.hypot(37 + 83.3, 5), rel=1e-6)


@settings(max_examples=25, deadline=None)
@given(a=st.tuples(*[st.integers(-9, 9)] * 3), b=st.tuples(*[st.integers(-9, 9)] * 3))
def test_ways_over_a_ball_are_great_circles(a: tuple[int, int, int], b: tuple[int, int, int]) -> None:
    clay = make_ball(100.0, 48)
    places = [np.array(p, float) for p in (a, b)]
    if any(np.linalg.norm(p) < 1 for p in places):
        return
    ends = [anchored(clay, 100 * p / np.linalg.norm(p)) for p in places]
    angle = np.arccos(
        np.clip(places[0] @ places[1] / np.linalg.norm(places[0]) / np.linalg.norm(places[1]), -1, 1)
    )
    if angle > 2.9:
        return  # Opposite places have many ways.
    path = surface_path(clay, *ends)
    assert length(path) == pytest.approx(100 * angle, rel=0.004, abs=0.05)
    if len(path) > 1:
        assert path[0] == pytest.approx(ends[0].place(clay), abs=1e-3)
        assert path[-1] == pytest.approx(ends[1].place(clay), abs=1e-3)


def test_unconnected_places_have_no_way() -> None:
    one, other = make_ball(10.0, 4), make_ball(10.0, 4)
    positions = np.concatenate([one.positions, other.positions + np.float32([50, 0, 0])])
    faces = np.concatenate([one.topology.faces, other.topology.faces + one.n_vertices])
    clay = Mesh.from_faces(positions, faces)
    ends = [anchored(clay, np.array(p)) for p in ((10.0, 0, 0), (60.0, 0, 0))]
    assert len(surface_path(clay, *ends)) == 0


def test_anchors_move_with_the_clay() -> None:
    clay = make_ball(100.0, 16)
    anchor = anchored(clay, np.array([30.0, 40, 86]))
    before = anchor.place(clay)
    assert np.linalg.norm(before) == pytest.approx(100, rel=0.01)
    moved = clay.with_positions(clay.positions * np.float32(2))
    assert anchor.place(moved) == pytest.approx(2 * before, rel=1e-5)


def test_shares_and_canons() -> None:
    path = np.array([[0.0, 0, 0], [10, 0, 0], [10, 30, 0]])
    assert at_share(path, 0.5) == pytest.approx([10, 10, 0])
    for marks in CANONS.values():
        assert marks[0] == 0
        assert marks[-1] == 1
        assert list(marks) == sorted(marks)


places = st.tuples(*[st.floats(-90, 90)] * 3)


@settings(max_examples=60, deadline=None)
@given(place=places, turn=places, point=places, scale=st.floats(0.1, 5), mirror=st.booleans())
def test_mirroring_twice_is_nothing(
    place: tuple[float, float, float],
    turn: tuple[float, float, float],
    point: tuple[float, float, float],
    scale: float,
    mirror: bool,
) -> None:
    start = Transform(place, scale=scale, mirror=mirror).with_degrees(*turn)
    normal = np.array([0.3, -0.5, 0.8])
    once = start.mirrored(np.array(point), normal)
    assert once.mirror != start.mirror
    twice = once.mirrored(np.array(point), normal)
    assert twice.matrix() == pytest.approx(start.matrix(), abs=1e-6)
    there = np.array([[1.0, 2, 3], [-4, 5, 6]])
    assert once.to_part(once.to_scene(there)) == pytest.approx(there, abs=1e-6)
    n = normal / np.linalg.norm(normal)
    wanted = start.to_scene(there)
    wanted = wanted - 2 * ((wanted - np.array(point)) @ n)[:, None] * n
    assert once.to_scene(there) == pytest.approx(wanted, abs=1e-6)


def test_axes_make_the_transform_again() -> None:
    start = Transform((1.0, 2.0, 3.0), scale=1.5, mirror=True).with_degrees(10, 20, 30)
    again = from_axes(start.axes(), np.array(start.place), start.scale)
    assert again.matrix() == pytest.approx(start.matrix(), abs=1e-12)


@pytest.mark.parametrize("kind", ["points", "lines", "ends"])
def test_ways_over_clay_without_area_are_found(kind: str) -> None:
    """Faces squashed to lines and points, in the way and under both ends: the way leads past or along them."""
    clay = make_ball(100.0, 24)
    rng = np.random.default_rng(3)
    corners = clay.topology.faces
    spots = clay.positions[corners[rng.integers(len(corners), size=60), :3]].copy()
    for face in corners[rng.integers(len(corners), size=60)]:
        at = clay.positions[face[:3]]
        if kind == "lines":
            clay.positions[face[1]] = (at[0] + at[2]) / 2
        else:
            clay.positions[face[:3]] = at[0]
    clay.refresh_all()
    lowest = corners[np.argmin(clay.positions[corners[:, 0], 1]), :3]
    if kind == "ends":
        clay.positions[lowest] = clay.positions[lowest[0]]
        clay.refresh_all()
    for start, end in zip(spots[::2], spots[1::2], strict=False):
        places = start.mean(axis=0), clay.positions[lowest[0]] if kind == "ends" else end.mean(axis=0)
        ends = [anchored(clay, np.asarray(place, np.float64)) for place in places]
        path = surface_path(clay, *ends)
        straight = float(np.linalg.norm(ends[0].place(clay) - ends[1].place(clay)))
        assert np.isfinite(path).all()
        assert straight * 0.99 <= length(path) <= straight * 1.9 + 30
