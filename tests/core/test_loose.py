"""Loose clay: the mesh changes under the brush, stays whole, and goes back exactly."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.live_density import Density, ball_density, densify
from kneten.core.loose import LooseMesh, loosened
from kneten.core.loose_change import LooseChange, LooseLog
from kneten.core.loose_places import FACES
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke
from kneten.core.twin_places import twins_of
from kneten.core.workspace import Workspace

VIEW = np.array([0.0, 0.0, -1.0])


def clay(cells: int = 24) -> LooseMesh:
    return loosened(Mesh.from_faces(*ball(100.0, cells)))


def judged(mesh: LooseMesh) -> trimesh.Trimesh:
    """The settled clay before an independent judge, who may merge nothing."""
    positions, faces = mesh.settled().source_arrays()
    assert (faces[:, 3] < 0).all()
    return trimesh.Trimesh(positions, faces[:, :3], process=False)


def assert_whole(mesh: LooseMesh) -> None:
    """Closed, oriented, two-manifold; rings, borders and empty places agree with the faces."""
    solid = judged(mesh)
    assert solid.is_watertight
    assert solid.is_winding_consistent
    assert solid.euler_number == 2
    _, counts = np.unique(np.sort(solid.edges, axis=1), axis=0, return_counts=True)
    assert (counts == 2).all()
    rings = mesh.topology
    live = np.flatnonzero(rings.live_faces())
    counts = np.bincount(mesh.faces[live, :3].reshape(-1), minlength=len(mesh.positions))
    assert (counts == rings.ring[:, 1] - rings.ring[:, 0]).all()
    for v in np.flatnonzero(rings.live_vertices()):
        around = rings.ring_faces[rings.ring[v, 0] : rings.ring[v, 1]]
        assert (mesh.faces[around, :3] == v).any(axis=1).all()
    assert not mesh.border.any()
    free = np.full(mesh.n_patches, FACES) - np.bincount(
        np.flatnonzero(rings.live_faces()) // FACES, minlength=mesh.n_patches
    )
    assert (free == mesh.n_free_faces).all()


def state(mesh: LooseMesh) -> dict[str, np.ndarray]:
    """What counts of a mesh, by place: empty ones may hold anything."""
    live = mesh.topology.live_vertices()
    out = {"live": live.copy(), "positions": np.where(live[:, None], mesh.positions, 0)}
    faces = mesh.topology.live_faces()
    out["faces"] = np.where(faces[:, None], mesh.faces, -1)
    if mesh.colour is not None:
        out["colour"] = np.where(live[:, None], mesh.colour, 0)
    return out


def same(a: dict[str, np.ndarray], b: dict[str, np.ndarray]) -> bool:
    """Equal as far as both reach; what is beyond is empty."""
    for name in a:
        n = min(len(a[name]), len(b[name]))
        if not np.array_equal(a[name][:n], b[name][:n]):
            return False
    return True


def test_loosening_and_settling_keep_the_clay() -> None:
    plain = Mesh.from_faces(*ball(100.0, 24))
    plain.need("mask")[:] = np.linspace(0, 1, plain.n_vertices)
    plain.need("regions")[::7] = 3
    loose = loosened(plain)
    assert loose.count == plain.n_vertices
    back = loose.settled()
    assert back.n_vertices == plain.n_vertices
    assert set(map(tuple, back.positions)) == set(map(tuple, plain.positions))
    assert back.mask is not None
    assert np.isclose(back.mask.sum(), plain.mask.sum(), rtol=1e-5)
    assert_whole(loose)


def test_refining_reaches_the_wanted_length_and_only_under_the_brush() -> None:
    mesh = clay()
    before = judged(mesh)
    at = np.array([0.0, 0.0, 100.0])
    coarse = ball_density(mesh, at, 40.0)
    log = LooseLog(mesh)
    densify(mesh, Workspace(mesh), log, at, 40.0, Density(coarse / 4))
    assert_whole(mesh)
    assert ball_density(mesh, at, 35.0) == pytest.approx(coarse / 4, rel=0.25)
    assert ball_density(mesh, -at, 40.0) == pytest.approx(coarse, rel=0.05)
    # The form is the same: what was added lies on the ball.
    far = np.linalg.norm(judged(mesh).vertices, axis=1)
    assert far.min() > np.linalg.norm(before.triangles_center, axis=1).min() - 0.05
    assert far.max() < 100.6


def test_no_slivers() -> None:
    mesh = clay()
    log = LooseLog(mesh)
    densify(mesh, Workspace(mesh), log, np.array([0.0, 0.0, 100.0]), 60.0, Density(2.0))
    solid = judged(mesh)
    inside = np.linalg.norm(solid.triangles_center - [0, 0, 100], axis=1) < 50
    angles = np.degrees(solid.face_angles[inside])
    assert np.percentile(angles.min(axis=1), 1) > 18
    assert np.percentile(angles.max(axis=1), 99) < 125


def test_coarsening_gives_fewer_vertices_and_keeps_the_volume() -> None:
    mesh = clay(48)
    volume, count = judged(mesh).volume, mesh.count
    edge = ball_density(mesh, np.array([0.0, 0.0, 100.0]), 50.0)
    for _ in range(6):
        densify(
            mesh,
            Workspace(mesh),
            LooseLog(mesh),
            np.array([0.0, 0.0, 100.0]),
            200.0,
            Density(edge * 3, refine=False),
        )
    assert mesh.count < count / 3
    assert_whole(mesh)
    assert judged(mesh).volume == pytest.approx(volume, rel=0.03)


def test_masked_clay_keeps_its_mesh() -> None:
    plain = Mesh.from_faces(*ball(100.0, 24))
    plain.need("mask")[:] = 1.0
    mesh = loosened(plain)
    found = densify(mesh, Workspace(mesh), LooseLog(mesh), np.array([0.0, 0.0, 100.0]), 60.0, Density(1.0))
    assert len(found) == 0
    assert mesh.count == plain.n_vertices


def test_borders_of_regions_stay() -> None:
    plain = Mesh.from_faces(*ball(100.0, 24))
    centres = plain.positions[plain.topology.faces[:, 0]]
    plain.need("regions")[centres[:, 0] > 20] = 7
    mesh = loosened(plain)
    densify(mesh, Workspace(mesh), LooseLog(mesh), np.array([20.0, 0.0, 98.0]), 60.0, Density(3.0))
    assert mesh.regions is not None
    live = mesh.topology.live_faces()
    inside = mesh.positions[mesh.faces[live & (mesh.regions == 7), :3]].mean(axis=1)
    outside = mesh.positions[mesh.faces[live & (mesh.regions == 0), :3]].mean(axis=1)
    assert inside[:, 0].min() > 8
    assert outside[:, 0].max() < 32


@pytest.mark.long
@settings(max_examples=25, deadline=None)
@given(
    seed=st.integers(0, 10_000),
    length=st.floats(1.5, 14.0),
    tool=st.sampled_from(["raise", "pellet", "smooth", "inflate", "score", "flatten"]),
)
def test_random_strokes_leave_it_whole_and_undo_exactly(seed: int, length: float, tool: str) -> None:
    random = np.random.default_rng(seed)
    mesh = clay(20)
    mesh.need("colour")[:, :3] = random.integers(0, 255, (len(mesh.positions), 3))
    mesh.store()
    changes: list[LooseChange] = []
    states = [state(mesh)]
    for _ in range(2):
        stroke = Stroke(mesh, TOOLS[tool], TOOLS[tool].defaults, (True, False, False))
        way = random.normal(size=3)
        for step in range(5):
            at = way + step * 0.12 * random.normal(size=3)
            at /= np.linalg.norm(at)
            hit = pick(mesh, at * 400.0, -at)
            assert hit is not None
            stroke.dab(Dab(hit.point, at, -at, 30.0, 0.6, 0.2, step * 5.0, detail=Density(length)))
        change = stroke.finish()
        assert change is None or isinstance(change, LooseChange)
        if change is not None:
            changes.append(change)
            states.append(state(mesh))
    assert_whole(mesh)
    assert np.isfinite(mesh.positions).all()
    redo = []
    for change, before in zip(reversed(changes), reversed(states[:-1]), strict=True):
        redo.append(change.swap(mesh))
        assert same(state(mesh), before)
    assert_whole(mesh)
    for change, after in zip(reversed(redo), states[1:], strict=True):
        change.swap(mesh)
        assert same(state(mesh), after)
    assert_whole(mesh)


@pytest.mark.parametrize("key", [key for key, tool in TOOLS.items() if not tool.holds and not tool.changes])
def test_refined_clay_is_lifted_once(key: str) -> None:
    """What a stroke lifts once for each place is not lifted again where the mesh is refined meanwhile."""
    tool, radius = TOOLS[key], 37.0
    if tool.needs_before:
        pytest.skip("goes back to a milestone")
    heights, counts = [], []
    for detail in (Density(3.7), None):
        mesh: Mesh = clay(24)
        if detail is None:
            mesh = Mesh.from_faces(*ball(100.0, 64))
        stroke = Stroke(mesh, tool, tool.defaults, (True, False, False))
        for step in range(30):
            at = np.array([0.25 + 0.01 * step, 0.1, 1.0])
            at /= np.linalg.norm(at)
            hit = pick(mesh, at * 400.0, -at)
            assert hit is not None
            along = np.array([1.0, 0.0, 0.0])
            stroke.dab(Dab(hit.point, along, -at, radius, 1.0, 0.1, 3.7 * (step + 1), detail=detail))
        stroke.finish()
        heights.append(float(np.linalg.norm(mesh.bounds()[1])))
        counts.append(mesh.count if isinstance(mesh, LooseMesh) else mesh.n_vertices)
    assert heights[0] == pytest.approx(heights[1], rel=0.08)
    assert counts[0] < 20_000


def test_clay_grows_no_further_than_it_may() -> None:
    mesh = clay()
    stroke = Stroke(mesh, TOOLS["raise"], TOOLS["raise"].defaults)
    stroke.most = mesh.count + 1500
    counts = []
    for step in range(8):
        at = np.array([0.1 * step, 0.0, 1.0])
        at *= 100.0 / np.linalg.norm(at)
        stroke.dab(Dab(at, VIEW, VIEW, 30.0, 0.3, 0.2, 5.0, detail=Density(1.5)))
        counts.append(mesh.count)
    assert stroke.full
    assert counts[-1] == counts[-2] == counts[-3]
    assert_whole(mesh)
    stroke.cancel()


def test_many_twins_share_what_a_dab_may_have() -> None:
    mesh = clay()
    stroke = Stroke(mesh, TOOLS["raise"], TOOLS["raise"].defaults, twins=twins_of((True,) * 3, (1, 16)))
    at = np.array([70.0, 70.0, 10.0])
    stroke.dab(Dab(at, VIEW, VIEW, 6.0, 0.3, 0.2, 5.0, detail=Density(1e-3)))
    assert mesh.count < 400_000
    stroke.cancel()


def test_a_dab_placed_anew_starts_anew() -> None:
    mesh = clay()
    tool = TOOLS["coil"]
    stroke = Stroke(mesh, tool, tool.defaults)
    tops = []
    for _ in range(3):
        stroke.take_back()
        stroke.dab(Dab(np.array([0.0, 0, 100]), VIEW, VIEW, 30.0, 0.6, 1.0, 5.0, detail=Density(2.0)))
        tops.append(float(mesh.positions[:, 2].max()))
    assert tops[0] == tops[1] == tops[2]


def test_a_cancelled_stroke_leaves_no_trace() -> None:
    mesh = clay()
    before = state(mesh)
    stroke = Stroke(mesh, TOOLS["raise"], TOOLS["raise"].defaults)
    stroke.dab(Dab(np.array([0.0, 0, 100]), VIEW, VIEW, 30.0, 0.6, 0.2, 5.0, detail=Density(2.0)))
    assert mesh.count > before["live"].sum()
    stroke.cancel()
    assert same(state(mesh), before)


def test_patches_halve_and_boxes_hold_everything() -> None:
    mesh = clay()
    patches = mesh.n_patches
    densify(mesh, Workspace(mesh), LooseLog(mesh), np.array([0.0, 0.0, 100.0]), 50.0, Density(1.0))
    assert mesh.n_patches > patches
    live = np.flatnonzero(mesh.topology.live_faces())
    boxes = mesh.boxes[live // FACES]
    corners = mesh.positions[mesh.faces[live, :3]]
    assert (corners.min(axis=1) >= boxes[:, :3] - 1e-4).all()
    assert (corners.max(axis=1) <= boxes[:, 3:] + 1e-4).all()
    hit = pick(mesh, np.array([1.0, 2.0, 400.0]), VIEW)
    assert hit is not None
    assert hit.point[2] == pytest.approx(100.0, abs=0.3)
