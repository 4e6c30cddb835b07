"""Distances between surfaces, with a slow exact judge."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Cancelled, Progress
from kneten.core.distance import nearest_points, signed_distances
from kneten.core.live.primitive import Primitive
from tests.conftest import make_ball, make_sheet


def judge(mesh, points: np.ndarray) -> np.ndarray:  # type: ignore[no-untyped-def]
    faces = mesh.topology.faces
    triangles = np.concatenate([faces[:, :3], faces[faces[:, 3] >= 0][:, [0, 2, 3]]])
    body = trimesh.Trimesh(mesh.positions.astype(np.float64), triangles, process=False)
    return np.asarray(trimesh.proximity.closest_point_naive(body, points)[1])


@pytest.mark.parametrize("triangles", [False, True])
def test_nearest_points_are_those_of_a_slow_judge(triangles: bool) -> None:
    mesh = make_ball(50.0, 10, triangles)
    rng = np.random.default_rng(2)
    points = rng.normal(size=(60, 3))
    points *= rng.uniform(30, 80, (60, 1)) / np.linalg.norm(points, axis=1, keepdims=True)
    nearest, vertices = nearest_points(points, mesh, Progress())
    found = np.linalg.norm(nearest - points, axis=1)
    assert found == pytest.approx(judge(mesh, points), rel=1e-3)
    assert np.linalg.norm(mesh.positions[vertices] - points, axis=1) == pytest.approx(found, abs=8.0)


def test_nearest_points_on_long_faces_are_those_of_a_slow_judge() -> None:
    """A thin needle of a mesh: the nearest vertex says nothing about the nearest face."""
    mesh = Primitive("cylinder", (4.0, 400.0, 30.0), (16, 1, 4)).made().mesh()
    points = np.random.default_rng(4).uniform(-1, 1, (80, 3)) * [20.0, 220.0, 30.0]
    nearest, _ = nearest_points(points, mesh, Progress())
    assert np.linalg.norm(nearest - points, axis=1) == pytest.approx(judge(mesh, points), abs=1e-4)


@pytest.mark.parametrize("grown", [2.0, -3.0])
def test_a_grown_ball_lies_outside_by_as_much(grown: float) -> None:
    mesh = make_ball(50.0, 24)
    points = mesh.positions.astype(np.float64) * (50.0 + grown) / 50.0
    far = signed_distances(points, mesh, Progress())
    assert far == pytest.approx(grown, abs=0.02)


def test_the_same_place_is_at_no_distance_and_both_sides_of_a_sheet_have_signs() -> None:
    sheet = make_sheet(10, 5.0)
    assert np.abs(signed_distances(sheet.positions.astype(np.float64), sheet, Progress())).max() < 1e-6
    side = np.sign(sheet.normals[0, 2])
    above = np.array([[1.0, 2.0, 3.0], [1.0, 2.0, -3.0]])
    assert signed_distances(above, sheet, Progress()) == pytest.approx([3.0 * side, -3.0 * side])


def test_measuring_can_be_cancelled() -> None:
    class Impatient(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    mesh = make_ball(50.0, 10)
    with pytest.raises(Cancelled):
        nearest_points(mesh.positions.astype(np.float64), mesh, Impatient())


def test_the_count_of_fused_clay_is_foretold() -> None:
    from kneten.core.distance import outer_area
    from kneten.core.remesh import remesh, soup_of

    one = make_ball(50.0, 24)
    others = [
        one.with_positions(make_ball(50.0, 24).positions + np.float32([45.0 * k, 11.0 * k, 0]))
        for k in range(3)
    ]
    foretold = outer_area(others) / 3.0**2
    assert remesh(soup_of(others), 3.0, Progress()).n_vertices == pytest.approx(foretold, rel=0.05)
    apart = [one, one.with_positions(one.positions + np.float32([200, 0, 0]))]
    assert outer_area(apart) == pytest.approx(2 * 4 * np.pi * 50**2, rel=0.01)
