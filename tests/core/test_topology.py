"""Topology: order, rings, borders, patches, messages."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.changes import patches_of
from kneten.core.mesh import Mesh
from kneten.core.normals import compute_normals, normals_of_quads
from kneten.core.primitives import ball
from kneten.core.topology import PATCH, PATCH_BITS, MeshError, build_topology
from tests.conftest import make_ball, make_sheet


def test_source_order_survives() -> None:
    positions, faces = ball(10.0, 12)
    shuffle = np.random.default_rng(1).permutation(len(positions))
    place = np.argsort(shuffle).astype(np.int32)
    mesh = Mesh.from_faces(positions[shuffle], place[faces])
    back, faces_back = mesh.source_arrays()
    assert np.array_equal(back, positions[shuffle])
    assert np.array_equal(faces_back, place[faces])


@pytest.mark.parametrize("triangles", [False, True])
def test_rings_hold_exactly_the_faces_around_a_vertex(triangles: bool) -> None:
    shape = make_ball(divisions=6, triangles=triangles).topology
    for v in range(shape.n_vertices):
        ring = shape.ring_faces[shape.ring[v, 0] : shape.ring[v, 1]]
        assert set(ring.tolist()) == set(np.flatnonzero((shape.faces == v).any(axis=1)).tolist())


def test_closed_clay_has_no_border_and_a_sheet_has_its_rim() -> None:
    assert not make_ball().topology.border.any()
    sheet = make_sheet(10, 1.0)
    rim = (np.abs(sheet.positions[:, :2]) == 5.0).any(axis=1)
    assert np.array_equal(sheet.topology.border.astype(bool), rim)


def test_border_of_triangles() -> None:
    positions = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [-1, 0, 0], [0, -1, 0]], np.float32)
    fan = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 4], [0, 4, 1]], np.int32)
    shape, order = build_topology(fan, positions)
    inner = int(np.flatnonzero(order == 0)[0])
    assert shape.border[inner] == 0
    assert shape.border.sum() == 4


def test_patches_are_runs_and_own_each_face_once() -> None:
    shape = make_ball(divisions=24).topology
    assert shape.n_patches == -(-shape.n_vertices // PATCH)
    assert shape.patch_faces[0] == 0
    assert shape.patch_faces[-1] == shape.n_faces
    for p in range(shape.n_patches):
        least = shape.faces[shape.patch_faces[p] : shape.patch_faces[p + 1]].min(axis=1)
        assert ((least >= p * PATCH) & (least < (p + 1) * PATCH)).all()


def test_boxes_hold_vertices_and_owned_faces() -> None:
    mesh = make_ball(divisions=24)
    shape = mesh.topology
    for p in range(shape.n_patches):
        faces = shape.faces[shape.patch_faces[p] : shape.patch_faces[p + 1]].reshape(-1)
        own = np.arange(p * PATCH, min((p + 1) * PATCH, shape.n_vertices))
        points = mesh.positions[np.union1d(faces, own)]
        assert np.array_equal(mesh.boxes[p, :3], points.min(axis=0))
        assert np.array_equal(mesh.boxes[p, 3:], points.max(axis=0))


def test_memory_stays_below_the_bar() -> None:
    positions, faces = ball(100.0, 64)
    cut = np.concatenate([faces[:, :3], faces[:, [0, 2, 3]]]).astype(np.int32)
    colour = np.full((len(positions), 4), 255, np.uint8)
    mesh = Mesh.from_faces(positions, cut, colour)
    assert mesh.nbytes / mesh.n_vertices <= 120


@pytest.mark.parametrize(
    ("faces", "words"),
    [
        (np.array([[0, 1, 9]]), "not there"),
        (np.array([[0, 1, -2]]), "not there"),
        (np.empty((0, 3), np.int32), "no faces"),
        (np.array([[0, 1]]), "array"),
    ],
)
def test_bad_faces_are_refused_with_a_reason(faces: np.ndarray, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        Mesh.from_faces(np.eye(3, dtype=np.float32), faces.astype(np.int32))


def test_positions_must_be_finite() -> None:
    points = np.eye(3, dtype=np.float32)
    points[1, 1] = np.nan
    with pytest.raises(MeshError, match="finite"):
        Mesh.from_faces(points, np.array([[0, 1, 2]], np.int32))


def test_normals_point_outwards_and_have_length_one() -> None:
    for triangles in (False, True):
        mesh = make_ball(triangles=triangles)
        away = mesh.positions / np.linalg.norm(mesh.positions, axis=1, keepdims=True)
        assert (np.einsum("ij,ij->i", mesh.normals, away) > 0.99).all()
        assert np.allclose(np.linalg.norm(mesh.normals, axis=1), 1.0, atol=1e-5)


def test_patches_of_vertices_hold_them_and_own_their_faces() -> None:
    mesh = make_ball(50.0, 40)
    shape = mesh.topology
    vertices = np.array([3, 700, 701, 5000], np.int32)
    touched, owners = patches_of(mesh, vertices)
    around = np.flatnonzero(np.isin(shape.faces, vertices).any(axis=1))
    wanted = np.unique(np.searchsorted(shape.patch_faces, around, side="right") - 1)
    assert np.array_equal(owners, wanted)
    assert np.array_equal(touched, np.union1d(wanted, vertices >> PATCH_BITS))


def test_a_copy_is_out_of_reach_of_strokes() -> None:
    mesh = make_ball(50.0, 12)
    mesh.mask = np.zeros(mesh.n_vertices, np.float32)
    copy = mesh.copy()
    kept = copy.positions.copy()
    mesh.positions += 1.0
    mesh.mask += 1.0
    mesh.boxes += 1.0
    assert np.array_equal(copy.positions, kept)
    assert copy.mask is not None
    assert copy.mask.max() == 0
    assert copy.topology is mesh.topology
    assert np.array_equal(copy.bounds()[0], kept.min(axis=0))


def test_normals_of_quads_are_the_same_to_the_bit() -> None:
    mesh = make_ball(100.0, 24)
    mesh.positions += np.random.default_rng(0).normal(0, 1, mesh.positions.shape).astype(np.float32)
    plain = compute_normals(mesh.positions, mesh.topology)
    quick = normals_of_quads(mesh.positions, mesh.topology, np.zeros_like(mesh.positions))
    assert np.array_equal(plain, quick)
