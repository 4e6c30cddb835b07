"""Remeshing, subdividing and their forecasts, with an independent library as the judge."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Cancelled, Progress
from kneten.core.creases import corner_normals
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball, lattice
from kneten.core.remesh import Soup, forecast, remesh, soup_of, triangulate
from kneten.core.subdivide import foretell, subdivide
from kneten.core.symmetry import exactly_symmetric
from kneten.core.topology import MeshError
from tests.conftest import make_ball, make_sheet
from tests.judge import judged


def two_manifold(mesh: Mesh) -> bool:
    """Every edge has two faces, and the faces around each vertex form one ring."""
    faces = mesh.topology.faces
    a = faces.reshape(-1)
    b = np.roll(faces, -1, axis=1).reshape(-1)
    _, counts = np.unique(np.sort(np.stack([a, b], 1), axis=1), axis=0, return_counts=True)
    if not (counts == 2).all():
        return False
    for v in range(mesh.n_vertices):
        ring = mesh.topology.faces[
            mesh.topology.ring_faces[mesh.topology.ring[v, 0] : mesh.topology.ring[v, 1]]
        ]
        at = (ring == v).argmax(axis=1)
        after = dict(
            zip(
                ring[np.arange(len(ring)), (at + 1) % 4].tolist(),
                ring[np.arange(len(ring)), (at + 3) % 4].tolist(),
                strict=True,
            )
        )
        seen, here = 0, next(iter(after))
        first = here
        while True:
            here = after[here]
            seen += 1
            if here == first or seen > len(ring):
                break
        if seen != len(ring):
            return False
    return True


def balls(places: list[tuple[float, float, float, float]]) -> Soup:
    meshes = []
    for x, y, z, radius in places:
        positions, faces = ball(radius, 12)
        meshes.append(Mesh.from_faces(positions + np.array([x, y, z], np.float32), faces))
    return soup_of(meshes)


def test_result_is_closed_and_keeps_volume_and_place() -> None:
    mesh = make_ball(100.0, 48)
    new = remesh(soup_of([mesh]), 4.0, Progress())
    judge = judged(new)
    assert judge.is_watertight
    assert judge.is_winding_consistent
    assert judge.volume == pytest.approx(judged(mesh).volume, rel=2e-3)
    radii = np.linalg.norm(new.positions, axis=1)
    assert np.abs(radii - 100).max() < 0.15


@given(
    st.lists(st.tuples(*[st.floats(-40, 40)] * 3, st.floats(8, 40)), min_size=1, max_size=5),
    st.floats(3.0, 9.0),
)
def test_overlapping_shells_give_clean_clay(
    places: list[tuple[float, float, float, float]], edge: float
) -> None:
    new = remesh(balls(places), edge, Progress())
    assert two_manifold(new)
    assert judged(new).is_winding_consistent
    assert judged(new).volume > 0


def test_overlapping_shells_merge() -> None:
    new = remesh(balls([(-10, 0, 0, 30), (10, 0, 0, 30)]), 2.5, Progress())
    assert len(judged(new).split(only_watertight=False)) == 1


def test_holes_are_closed() -> None:
    positions, faces = ball(50.0, 24)
    middle = positions[faces].mean(axis=1)
    open_faces = faces[middle[:, 2] < 46]
    assert len(open_faces) < len(faces)
    holed = Mesh.from_faces(positions, open_faces)
    assert holed.topology.border.any()
    new = remesh(soup_of([holed]), 3.0, Progress())
    assert judged(new).is_watertight
    assert judged(new).volume == pytest.approx(judged(make_ball(50.0, 24)).volume, rel=0.05)


def test_forecast_is_near_what_comes() -> None:
    mesh = make_ball(100.0, 48)
    faces = mesh.topology.faces
    for count in (3_000, 20_000, 60_000):
        told = forecast(mesh.positions, faces, vertices=count)
        new = remesh(soup_of([mesh]), told.edge, Progress())
        assert new.n_vertices == pytest.approx(told.vertices, rel=0.03)
        assert told.vertices == pytest.approx(count, rel=0.01)
        corners = new.positions[new.topology.faces]
        edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
        assert edges.mean() == pytest.approx(told.edge, rel=0.05)
        assert edges.std() < 0.2 * told.edge


def test_symmetry_is_kept_to_the_bit() -> None:
    mesh = make_ball(100.0, 32)
    mesh.positions[:, 1] *= 0.7
    mesh.positions[:, 2] += mesh.positions[:, 1] ** 2 / 200
    mesh.refresh_all()
    new = remesh(soup_of([mesh]), 3.3, Progress())
    assert exactly_symmetric(new.positions, 0)
    assert exactly_symmetric(new.positions, 1)
    assert (new.positions[:, 0] == 0).sum() > 50


def test_colour_and_mask_come_from_the_nearest_surface() -> None:
    positions, faces = ball(100.0, 48)
    colour = np.full((len(positions), 4), 255, np.uint8)
    colour[:, 0] = np.where(positions[:, 1] > 0, 200, 20)
    mask = (positions[:, 0] > 0).astype(np.float32)
    new = remesh(soup_of([Mesh.from_faces(positions, faces, colour, mask)]), 5.0, Progress())
    assert new.colour is not None
    assert new.mask is not None
    clear = np.abs(new.positions[:, 1]) > 8
    assert np.array_equal(new.colour[clear, 0], np.where(new.positions[clear, 1] > 0, 200, 20))
    clear = np.abs(new.positions[:, 0]) > 8
    assert np.array_equal(new.mask[clear] > 0.5, new.positions[clear, 0] > 0)


def test_finer_clay_shows_no_facets_of_the_coarser() -> None:
    coarse = make_ball(100.0, 12)
    fine = remesh(soup_of([coarse]), 2.0, Progress())
    away = fine.positions / np.linalg.norm(fine.positions, axis=1, keepdims=True)
    angles = np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", fine.normals, away), -1, 1)))
    # Flat facets of this ball are 7.5 degrees wide: their normals would be off by up to 3.7.
    assert np.percentile(angles, 99) < 2.0


@pytest.mark.parametrize("edge", [0.0, -1.0, np.nan, np.inf])
def test_useless_lengths_are_refused(edge: float) -> None:
    mesh = make_ball()
    with pytest.raises(MeshError, match="greater than zero"):
        forecast(mesh.positions, mesh.topology.faces, edge=edge)


def test_too_fine_and_too_coarse_say_so() -> None:
    with pytest.raises(MeshError, match="longer edge"):
        remesh(soup_of([make_ball()]), 0.01, Progress())
    with pytest.raises(MeshError, match="shorter edge"):
        remesh(soup_of([make_sheet(4, 1.0)]), 0.5, Progress())


def test_cancel_comes_through() -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            if fraction > 0.3:
                raise Cancelled

    mesh = make_ball()
    before = mesh.positions.copy()
    for work in (lambda: remesh(soup_of([mesh]), 5.0, Stop()), lambda: subdivide(mesh, Stop())):
        with pytest.raises(Cancelled):
            work()
    assert np.array_equal(mesh.positions, before)


@pytest.mark.parametrize("triangles", [False, True])
def test_subdividing_rounds_and_counts_as_foretold(triangles: bool) -> None:
    mesh = make_ball(100.0, 8, triangles)
    new = subdivide(mesh, Progress())
    assert (new.n_vertices, new.topology.n_faces) == foretell(mesh.topology)
    assert two_manifold(new)
    assert judged(new).is_watertight
    assert np.linalg.norm(new.positions, axis=1).max() < 100.01
    assert exactly_symmetric(new.positions, 2) or triangles


def test_subdividing_follows_the_published_rule() -> None:
    cube = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], np.float32)
    faces = np.array(
        [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]], np.int32
    )
    positions, _ = subdivide(Mesh.from_faces(cube, faces), Progress()).source_arrays()
    # Corners go to 5/9, edges' middles to 3/4, faces' middles stay.
    assert np.allclose(positions[:8], cube * 5 / 9)
    edges = positions[8:20]
    assert np.allclose(np.sort(np.abs(edges), axis=1), [[0, 0.75, 0.75]] * 12)
    assert np.allclose(np.sort(np.abs(positions[20:]), axis=1), [[0, 0, 1]] * 6)


def test_subdividing_keeps_open_edges_and_values() -> None:
    sheet = make_sheet(6, 1.0)
    sheet.mask = (sheet.positions[:, 0] + 3).astype(np.float32) / 6
    new = subdivide(sheet, Progress())
    assert np.allclose(new.positions[:, 2], 0)
    assert new.mask is not None
    inner = ~new.topology.border.astype(bool)
    assert np.allclose(new.mask[inner], (new.positions[inner, 0] + 3) / 6, atol=1e-6)
    rim = new.positions[new.topology.border.astype(bool)]
    on_line = np.isclose(np.abs(rim[:, :2]), 3).any(axis=1)
    assert on_line.mean() > 0.8


def test_subdivided_source_order_begins_with_the_old_vertices() -> None:
    mesh = make_ball(10.0, 4)
    old, _ = mesh.source_arrays()
    new, faces = subdivide(mesh, Progress()).source_arrays()
    move = np.linalg.norm(new[: len(old)] - old, axis=1)
    assert move.max() < 0.8
    assert faces.max() == len(new) - 1


def low_poly(kind: str) -> Mesh:
    """A box of twelve triangles, a thin plate of as many, or a capped cylinder of 64 sides without rings between."""
    if kind == "cylinder":
        n = 64
        turn = np.linspace(0, 2 * np.pi, n, endpoint=False)
        rim = np.stack([20 * np.cos(turn), 20 * np.sin(turn), np.full(n, 30.0)], axis=1)
        places = np.concatenate([rim * [1, 1, -1], rim, [[0, 0, -30.0], [0, 0, 30.0]]])
        i, j = np.arange(n), (np.arange(n) + 1) % n
        low, high = np.full(n, 2 * n), np.full(n, 2 * n + 1)
        sides = [(i, j, n + j), (i, n + j, n + i), (low, j, i), (high, n + i, n + j)]
        faces = np.concatenate([np.stack(side, axis=1) for side in sides])
    else:
        size = {"box": (60.0, 50.0, 40.0), "plate": (80.0, 80.0, 2.0)}[kind]
        corners, quads = lattice(1, 1, 1)
        places = (corners - 0.5) * size
        faces = triangulate(quads)
    full = np.concatenate([faces, np.full((len(faces), 1), -1)], axis=1).astype(np.int32)
    return Mesh.from_faces(places.astype(np.float32), full)


def enclosed(mesh: Mesh) -> float:
    corners = mesh.positions[triangulate(mesh.topology.faces)].astype(np.float64)
    return float((corners[:, 0] * np.cross(corners[:, 1], corners[:, 2])).sum() / 6)


@pytest.mark.parametrize("kind", ["box", "plate", "cylinder"])
def test_flat_low_poly_forms_keep_their_volume(kind: str) -> None:
    mesh = low_poly(kind)
    made = remesh(soup_of([mesh]), 1.0, Progress(), keep_edges=True)
    assert enclosed(made) == pytest.approx(enclosed(mesh), rel=0.002)


def test_normals_of_corners_stop_at_edges_and_go_on_over_curves() -> None:
    box = low_poly("plate")
    triangles = triangulate(box.topology.faces)
    normals, corners = corner_normals(box.positions, box.normals, triangles)
    places = box.positions[triangles].astype(np.float64)
    flat = np.cross(places[:, 1] - places[:, 0], places[:, 2] - places[:, 0])
    flat /= np.linalg.norm(flat, axis=1, keepdims=True)
    np.testing.assert_allclose(normals[corners], np.repeat(flat[:, None], 3, axis=1), atol=1e-6)
    smooth = make_ball(10.0, 16)
    triangles = triangulate(smooth.topology.faces)
    normals, corners = corner_normals(smooth.positions, smooth.normals, triangles)
    assert corners is triangles
    assert normals is smooth.normals
