"""The tree over faces against searches of every triangle, and against other libraries."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Cancelled, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from tests.conftest import make_ball

GO = Progress()


def soup(seed: int, count: int) -> Mesh:
    """Triangles and quads of all sizes, anywhere."""
    random = np.random.default_rng(seed)
    middles = random.uniform(-50, 50, (count, 1, 3))
    corners = middles + random.normal(0, 1, (count, 4, 3)) * random.uniform(0.1, 15, (count, 1, 1))
    faces = np.arange(4 * count, dtype=np.int32).reshape(-1, 4)
    faces[::3, 3] = -1
    return Mesh.from_faces(corners.reshape(-1, 3).astype(np.float32), faces)


@given(st.integers(0, 1000), st.sampled_from([1, 2, 3, 5, 40, 300]))
def test_the_nearest_place_is_that_of_all_triangles(seed: int, count: int) -> None:
    mesh = soup(seed, count)
    points = np.random.default_rng(seed + 1).uniform(-70, 70, (20, 3)).astype(np.float32)
    tree = FaceTree.of(mesh)
    found, off = tree.nearest(points, np.full(20, np.inf, np.float32), GO)
    other = trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)
    _, wanted, _ = trimesh.proximity.closest_point_naive(other, points.astype(float))
    np.testing.assert_allclose(off, wanted, rtol=1e-4, atol=1e-3)
    places = found.of(mesh.positions)
    np.testing.assert_allclose(np.linalg.norm(places - points, axis=1), wanted, rtol=1e-4, atol=2e-3)
    near, _ = tree.nearest(points, np.full(20, 10.0, np.float32), GO)
    sure = np.abs(wanted - 10) > 1e-3
    assert np.array_equal(near.there[sure], (wanted < 10)[sure])


def test_a_line_meets_what_rays_of_another_library_meet() -> None:
    mesh = make_ball(100.0, 20)
    random = np.random.default_rng(3)
    mesh.positions += random.normal(0, 1.5, mesh.positions.shape).astype(np.float32)
    tree = FaceTree.of(mesh)
    points = random.uniform(-60, 60, (400, 3)).astype(np.float32)
    ways = random.normal(0, 1, (400, 3))
    ways = (ways / np.linalg.norm(ways, axis=1, keepdims=True)).astype(np.float32)
    found, off = tree.along(points, ways, 0.0, 500.0, -2.0, GO)
    scene = EmbreeScene()
    triangles = triangulate(mesh.topology.faces)
    TriangleMesh(scene, np.ascontiguousarray(mesh.positions[triangles]))
    wanted = scene.run(points, ways, output=True)["tfar"]
    assert found.there.all()
    # Within another triangle at an edge a line may be met by either side of it.
    assert np.quantile(np.abs(off - wanted), 0.99) < 1e-2
    np.testing.assert_allclose(found.shares.sum(axis=1), 1, atol=1e-5)


def test_lines_go_both_ways_and_leave_out_what_faces_away() -> None:
    mesh = make_ball(100.0, 20)
    tree = FaceTree.of(mesh)
    points = np.array([[0, 0, 90], [0, 0, 110], [0, 0, -90]], np.float32)
    up = np.tile(np.array([[0, 0, 1]], np.float32), (3, 1))
    _, off = tree.along(points, up, 500, 500, 0.2, GO)
    # From inside ahead, from outside back; the far side, which is nearer to the last point, faces away.
    np.testing.assert_allclose(off, [10, -10, 190], atol=0.5)
    found, _ = tree.along(points, up, 5, 5, 0.2, GO)
    assert not found.there.any()
    found, _ = tree.along(points, up, 0, 500, 0.2, GO)
    assert found.there.tolist() == [True, False, True]
    assert np.array_equal(found.of(mesh.positions)[1], [0, 0, 0])


def test_many_points_are_searched_for_on_several_threads_alike(monkeypatch: pytest.MonkeyPatch) -> None:
    from kneten.core import arrays, face_tree

    mesh = make_ball(100.0, 20)
    tree = FaceTree.of(mesh)
    points = np.random.default_rng(2).uniform(-120, 120, (5000, 3)).astype(np.float32)
    far = np.full(5000, np.inf, np.float32)
    one, off = tree.nearest(points, far, GO)
    monkeypatch.setattr(arrays, "PART", 500)
    monkeypatch.setattr(face_tree, "CHUNK", 1700)
    other, again = FaceTree.of(mesh).nearest(points, far, GO)
    assert np.array_equal(one.faces, other.faces)
    assert np.array_equal(off, again)


def test_searching_can_be_cancelled() -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    mesh = make_ball(100.0, 4)
    with pytest.raises(Cancelled):
        FaceTree.of(mesh).nearest(mesh.positions, np.full(mesh.n_vertices, 1.0, np.float32), Stop())
