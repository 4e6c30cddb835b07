"""Remeshing with edges kept, and what would be lost because it is thin."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Progress
from kneten.core.face_tree import FaceTree
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, connected
from kneten.core.primitives import lattice
from kneten.core.remesh import forecast, remesh, soup_of, triangulate
from kneten.core.solid import flaw
from kneten.core.symmetry import symmetric_axes
from kneten.core.thin import thickness, thin_places, too_thin
from kneten.core.transform import Transform
from tests.conftest import make_ball

GO = Progress()
TURNED = Transform(turn=(0.2, 0.3, 0.1, float(np.sqrt(1 - 0.14))))


def box(scale: tuple[float, float, float] = (1.0, 1.0, 1.0), turn: Transform = TURNED) -> Mesh:
    """A box of 100 mm edges times a scale."""
    points, faces = lattice(10, 10, 10)
    places = (points.astype(np.float64) - 5) * 10 * np.array(scale)
    return Mesh.from_faces(turn.to_scene(places).astype(np.float32), faces)


def test_edges_and_corners_are_kept_on_demand() -> None:
    mesh = box()
    for kept in (False, True):
        new = remesh(soup_of([mesh]), 3.0, GO, keep_edges=kept)
        assert flaw(new) == ""
        at = np.abs(TURNED.to_part(new.positions.astype(np.float64)))
        corner = np.linalg.norm(at - 50, axis=1).min()
        along = np.abs(np.sort(at, axis=1)[:, 1:] - 50).max(axis=1)
        if kept:
            assert corner < 1e-3
            # Each of the twelve edges is 100 mm long, and the new ones on it 3 mm or so.
            assert (along < 1e-3).sum() > 12 * 100 / 3 * 0.8
            assert at.max() < 50.001
        else:
            assert corner > 0.3
            assert (along < 1e-3).sum() < 50


def test_round_clay_is_not_sharpened() -> None:
    ball = make_ball(50.0, 32)
    plain = remesh(soup_of([ball]), 2.0, GO)
    kept = remesh(soup_of([ball]), 2.0, GO, keep_edges=True)
    assert np.array_equal(plain.positions, kept.positions)


def test_kept_edges_keep_symmetry_to_the_bit() -> None:
    new = remesh(soup_of([box(turn=Transform())]), 3.1, GO, keep_edges=True)
    assert symmetric_axes(new.positions, 0.0) == (True, True, True)


def test_thickness_is_measured_straight_in() -> None:
    slab = box((1.0, 1.0, 0.02))
    off = thickness(slab, 50.0, GO)
    flat = np.abs(TURNED.to_part(slab.positions.astype(np.float64))[:, :2]).max(axis=1) < 41
    np.testing.assert_allclose(off[flat], 2.0, rtol=1e-3)
    assert np.isinf(thickness(slab, 1.0, GO)[flat]).all()


@pytest.mark.parametrize("edge", [1.2, 2.5])
def test_what_is_foretold_to_be_lost_is_lost(edge: float) -> None:
    """A ball with a fin 2 mm thick through it."""
    mesh = concatenated([make_ball(30.0, 24), box((1.0, 1.0, 0.02), Transform())])
    step = forecast(mesh.positions, mesh.topology.faces, edge=edge).step
    thin = thin_places(mesh, step)
    new = remesh(soup_of([mesh]), edge, GO)
    # How much of the fin's 10,000 square millimetres on both sides is still there.
    far = np.linalg.norm(new.positions[new.topology.faces].mean(axis=1), axis=1) > 35
    area = float(trimesh.Trimesh(new.positions, triangulate(new.topology.faces[far]), process=False).area)
    whole = 2 * (10_000 - np.pi * 35**2)
    if edge < 2:
        assert thin is None
        assert area == pytest.approx(whole, rel=0.1)
        assert len(np.unique(connected(new))) == 1
    else:
        assert thin is not None
        assert thin.share > 0.1
        assert thin.step < step
        assert area < 0.3 * whole
        assert too_thin(mesh, step, GO).mean() > 0.01
    assert thin_places(make_ball(50.0, 24), 2.0) is None


def test_loose_clay_is_as_thin_as_it_is_settled() -> None:
    slab = box((1.0, 0.02, 1.0))
    plain = Mesh.from_faces(slab.positions, triangulate(slab.topology.faces))
    loose = loosened(plain)
    faces = loose.topology.faces
    assert (faces[:, 0] == faces[:, 1]).sum() > 0
    thin, same = thin_places(loose, 5.0), thin_places(plain, 5.0)
    assert thin is not None
    assert same is not None
    assert thin.share == pytest.approx(same.share, abs=0.02)
    assert thin.step == pytest.approx(same.step, rel=0.02)


def test_a_line_without_a_way_meets_nothing() -> None:
    mesh = make_ball(50.0, 8)
    points = mesh.positions[:3].copy()
    ways = np.zeros((3, 3), np.float32)
    ways[0] = [0, 0, 1]
    points[0] = [0, 0, 0]
    found, off = FaceTree.of(mesh).along(points, ways, 10.0, 100.0, -1.0, GO)
    assert off[0] == pytest.approx(50.0, abs=0.5)
    assert np.isinf(off[1:]).all()
    assert (found.faces[1:] == -1).all()
