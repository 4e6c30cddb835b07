"""Coarser meshes of one form: UVs, skins, shapes go along."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Progress
from kneten.core.decimate import Wanted, decimated
from kneten.core.detail_levels import Hung, carried, detail_levels, heaviest
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges, cut_by_uv, has_uv, islands_of_uv
from tests.conftest import make_ball, make_sheet

GO = Progress()


def laid_ball(divisions: int = 24, painted: bool = False) -> Mesh:
    """A ball with the UVs of its two halves, side by side, and a slit in one."""
    mesh = make_ball(50.0, divisions)
    p = mesh.positions
    middle = p[mesh.topology.faces[:, :4]].mean(axis=1)
    upper = middle[:, 1] > 0
    table = np.zeros((mesh.topology.n_faces, 4, 2), np.float32)
    for side, rows in ((0, ~upper), (1, upper)):
        corners = p[mesh.topology.faces[rows]]
        across = np.arccos(np.clip(np.abs(corners[:, :, 1]) / 50, 0, 1)) / (np.pi / 2)
        ring = np.arctan2(corners[:, :, 2], corners[:, :, 0])
        u = 0.25 + 0.22 * across * np.cos(ring) + 0.5 * side
        v = 0.5 + 0.22 * across * np.sin(ring)
        table[rows] = np.stack([u, v], axis=-1)
    mesh.uv = table.reshape(-1, 8)
    if painted:
        mesh.colour = np.random.default_rng(1).integers(0, 255, (mesh.n_vertices, 4)).astype(np.uint8)
    return mesh


def test_decimated_clay_keeps_its_uvs_and_their_borders() -> None:
    mesh = laid_ball()
    made = decimated(mesh, Wanted(900), GO).mesh
    assert made.uv is not None
    assert has_uv(made.uv).all()
    islands = islands_of_uv(made)
    assert islands.count == 2
    # No face of one half reaches into the other.
    table = made.uv.reshape(-1, 4, 2)[:, :3]
    side = table[:, :, 0] > 0.5
    assert (side.all(axis=1) | ~side.any(axis=1)).all()
    assert (table[:, :, 0].min(), table[:, :, 0].max()) == pytest.approx((0.03, 0.97), abs=0.02)
    # The picture shows what it showed: places told by UVs lie where they lay.
    centre = np.array([0.25, 0.5]) + np.array([0.5, 0.0]) * side[..., None]
    across = np.linalg.norm(table - centre, axis=-1) / 0.22
    corners = made.positions[made.topology.faces[:, :3]]
    lies = np.arccos(np.clip(np.abs(corners[..., 1]) / np.linalg.norm(corners, axis=-1), 0, 1)) / (np.pi / 2)
    assert np.abs(across - lies).max() < 0.06


def test_a_seam_stays_where_it_is() -> None:
    mesh = laid_ball()
    edges = Edges.of(mesh.topology)
    ends = np.unique(edges.ends[cut_by_uv(mesh.uv, mesh.topology, edges)])
    made = decimated(mesh, Wanted(1200), GO).mesh
    others = Edges.of(made.topology)
    new = np.unique(others.ends[cut_by_uv(made.uv, made.topology, others)])
    # Straight down the equator in both.
    assert np.abs(mesh.positions[ends][:, 1]).max() < 5
    assert np.abs(made.positions[new][:, 1]).max() < 6
    assert len(new) > 12


def test_symmetric_clay_stays_symmetric_and_laid() -> None:
    mesh = laid_ball(16)
    made = decimated(mesh, Wanted(800), GO)
    assert made.symmetric
    assert made.mesh.uv is not None
    assert islands_of_uv(made.mesh).count == 2


def test_slits_within_an_island_stay_open() -> None:
    mesh = make_sheet(20)
    p = mesh.positions[mesh.topology.faces]
    table = (p[:, :, :2] / 200 + 0.5).astype(np.float32)
    # A slit up to the middle: what is to its right lies a little farther to the right.
    middle = p.mean(axis=1)
    right = (middle[:, 0] > 0) & (middle[:, 1] < 0)
    pull = np.clip(-p[right][:, :, 1] / 100, 0, 1) * 0.05
    table[right, :, 0] += pull * (1 - np.clip(p[right][:, :, 0] / 50, 0, 1))
    mesh.uv = np.ascontiguousarray(table.reshape(-1, 8))
    assert islands_of_uv(mesh).count == 1
    made = decimated(mesh, Wanted(120), GO).mesh
    edges = Edges.of(made.topology)
    cut = cut_by_uv(made.uv, made.topology, edges) & edges.inner
    assert cut.any()
    assert np.abs(made.positions[edges.ends[cut]][:, :, 0]).max() < 6


def weighed(mesh: Mesh) -> Hung:
    """Three joints along y, softly, and two shapes."""
    at = (mesh.positions[:, 1] + 50) / 100
    share = np.stack([np.clip(1 - 2 * at, 0, 1), 1 - np.abs(2 * at - 1), np.clip(2 * at - 1, 0, 1)], axis=1)
    share = np.pad(share, ((0, 0), (0, 1))).astype(np.float32)
    which = np.tile(np.array([4, 7, 2, 0], np.uint8), (mesh.n_vertices, 1))
    up = np.zeros_like(mesh.positions)
    up[:, 1] = 0.1 * mesh.positions[:, 0]
    out = (0.2 * mesh.positions).astype(np.float32)
    return Hung(which, share, (up, out))


def test_levels_carry_skin_and_shapes() -> None:
    mesh = laid_ball(painted=True)
    found = detail_levels(mesh, weighed(mesh), [3000, 1000, 300], GO)
    assert [one.mesh.topology.n_triangles for one in found] == pytest.approx([3000, 1000, 300], rel=0.02)
    errors = [one.error for one in found]
    assert errors == sorted(errors)
    for one in found:
        p, hung = one.mesh.positions, one.hung
        assert hung.share.sum(axis=1) == pytest.approx(1, abs=1e-5)
        dense = np.zeros((len(p), 8))
        np.put_along_axis(dense, hung.which.astype(int), hung.share, axis=1)
        at = (p[:, 1] + 50) / 100
        assert dense[:, 2] == pytest.approx(np.clip(2 * at - 1, 0, 1), abs=0.05)
        assert hung.moves[0][:, 1] == pytest.approx(0.1 * p[:, 0], abs=0.4)
        assert hung.moves[1] == pytest.approx(0.2 * p, abs=0.6)
        assert one.mesh.colour is not None
        assert one.mesh.uv is not None
        other = trimesh.Trimesh(p, one.mesh.topology.faces[:, :3], process=False)
        assert other.is_watertight


def test_levels_by_error_lie_within_it() -> None:
    mesh = make_ball(50.0, 32)
    found = detail_levels(mesh, Hung(), [], GO, errors=[0.2, 1.0])
    assert found[0].mesh.topology.n_triangles > found[1].mesh.topology.n_triangles
    for one, limit in zip(found, (0.2, 1.0), strict=True):
        off = FaceTree.of(one.mesh).nearest(mesh.positions, np.full(mesh.n_vertices, np.inf, np.float32), GO)[
            1
        ]
        assert off.max() <= limit * 1.05


def test_more_than_there_are_is_refused() -> None:
    with pytest.raises(MeshError, match="already"):
        detail_levels(make_ball(50.0, 8), Hung(), [100_000], GO)


def test_the_heaviest_four_joints_of_many() -> None:
    which = np.array([[3, 1, 3, 9, 5, 6], [0, 0, 0, 0, 0, 0]])
    share = np.array([[0.2, 0.3, 0.2, 0.1, 0.15, 0.05], [1, 0, 0, 0, 0, 0.0]])
    names, weigh = heaviest(which, share)
    assert names[0].tolist() == [3, 1, 5, 9]
    assert weigh[0] == pytest.approx(np.array([0.4, 0.3, 0.15, 0.1]) / 0.95)
    assert names[1].tolist() == [0, 0, 0, 0]
    assert weigh[1].tolist() == [1, 0, 0, 0]


def test_nothing_hangs_on_what_has_nothing() -> None:
    mesh = make_ball(10.0, 6)
    none = Hung()
    assert carried(mesh, none, mesh.positions) is none
