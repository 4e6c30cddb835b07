"""Solids: exact results, sound on anything, and what was not touched stays as it was."""

from __future__ import annotations

import manifold3d
import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from kneten.core import solid_work
from kneten.core.arrays import Cancelled, Progress
from kneten.core.crossings import crossing
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.mesh import Mesh
from kneten.core.pieces import border_loops, connected, filled, inside, patch_over, picked, taken_apart
from kneten.core.placing import kneaded, turned_out
from kneten.core.primitives import ball
from kneten.core.remesh import remesh, soup_of, triangulate
from kneten.core.solid import Outline, SolidError, combine, cut, flaw, made_solid, prism, same_places, volume
from kneten.core.symmetry import exactly_symmetric
from kneten.core.transform import Transform
from tests.conftest import make_ball, make_sheet
from tests.judge import drawn_out, folds, sound


def at(mesh: Mesh, x: float, y: float = 0.0, z: float = 0.0) -> Mesh:
    return mesh.with_positions(mesh.positions + np.float32([x, y, z]))


def box(*size: float, divisions: int = 6) -> Mesh:
    return Primitive("box", (size[0], size[1], size[2]), (divisions,) * 3).made().mesh()


def disc_outline(x: float, y: float, radius: float, count: int = 48, deep: float = 300.0) -> Outline:
    t = np.linspace(0, 2 * np.pi, count, endpoint=False)
    flat = np.stack([x + radius * np.cos(t), y + radius * np.sin(t)], -1)
    ends = [np.concatenate([flat, np.full((count, 1), z)], 1) for z in (deep, -deep)]
    return Outline(ends[0], ends[1])


def test_volumes_are_exact() -> None:
    one, other = box(100, 100, 100), at(box(60, 60, 60), 50, 50, 50)
    shared = 30.0**3
    for operation, wanted in (
        ("join", 1e6 + 60.0**3 - shared),
        ("subtract", 1e6 - shared),
        ("intersect", shared),
    ):
        assert sound(combine(operation, [one, other], Progress())).volume == pytest.approx(wanted, rel=1e-5)


@settings(max_examples=120, deadline=None)
@given(
    kinds=st.tuples(*[st.sampled_from(["sphere", "box", "cylinder", "torus", "capsule"])] * 2),
    size=st.tuples(*[st.integers(20, 120)] * 3),
    move=st.tuples(*[st.integers(-60, 60)] * 3),
    turn=st.tuples(*[st.integers(0, 12).map(lambda k: 15.0 * k)] * 3),
    operation=st.sampled_from(["join", "subtract", "intersect"]),
)
def test_any_two_bodies_give_a_sound_solid(
    kinds: tuple[str, str],
    size: tuple[float, float, float],
    move: tuple[float, float, float],
    turn: tuple[float, float, float],
    operation: str,
) -> None:
    one = Primitive(kinds[0], (100.0, 100.0, 100.0), (8, 8, 8), 0.4).made().mesh()
    other = Primitive(kinds[1], size, (8, 6, 8), 0.4).made().mesh()
    other = kneaded(other, Transform(move).with_degrees(*turn).matrix())
    try:
        result = combine(operation, [one, other], Progress())
    except SolidError as error:
        words = str(error)
        result = None
    if result is None:
        assert "nothing would be left" in words
        return
    sound(result)


def test_untouched_faces_stay_quads_with_their_colour_and_mask() -> None:
    one = make_ball(100.0, 32)
    colour = np.full((one.n_vertices, 4), 255, np.uint8)
    colour[:, 0] = np.clip(one.positions[:, 1] + 128, 0, 255)
    mask = (one.positions[:, 2] > 0).astype(np.float32)
    one = Mesh(one.topology, one.positions, colour, mask)
    result = combine("subtract", [one, at(make_ball(40.0, 16), 100)], Progress())
    same = same_places(one.positions, result.positions)
    kept = same >= 0
    assert kept.sum() > 0.9 * one.n_vertices
    assert np.array_equal(result.colour[kept], colour[same[kept]])
    assert np.array_equal(result.mask[kept], mask[same[kept]])
    quads = (result.topology.faces[:, 3] >= 0).sum()
    assert quads > 0.9 * one.topology.n_faces
    # New clay is white and unmasked or blended; never beyond what there was.
    assert result.mask.min() >= 0
    assert result.mask.max() <= 1


def test_symmetric_solids_stay_symmetric() -> None:
    tools = [at(make_ball(30.0, 16), side * 90, 10, 0) for side in (-1, 1)]
    result = combine("subtract", [make_ball(100.0, 32), *tools], Progress())
    sound(result)
    assert exactly_symmetric(result.positions, 0)
    assert (result.topology.faces[:, 3] >= 0).mean() > 0.8
    for piece in cut(make_ball(100.0, 32), tools, True, None, Progress()):
        sound(piece)
        assert exactly_symmetric(piece.positions, 0)


@pytest.mark.parametrize("operation", ["join", "subtract", "intersect"])
@pytest.mark.parametrize("seed", range(3))
def test_seams_have_no_slivers_and_the_surface_stays_where_it_was(operation: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    one = Mesh.from_faces(*ball(50.0, 48))
    others = [at(Mesh.from_faces(*ball(30.0, 32)), *rng.uniform(-35, 35, 3)) for _ in range(1 + seed % 2)]
    meshes = [one, *others]
    made = combine(operation, meshes, Progress())
    thin = drawn_out(made)
    assert np.percentile(thin, 95) < 7.0
    assert thin.max() < 100.0
    assert not crossing(made).any()
    solids = [
        manifold3d.Manifold(manifold3d.Mesh(m.positions, triangulate(m.topology.faces).astype(np.uint32)))
        for m in meshes
    ]
    kinds = {"join": "Add", "subtract": "Subtract", "intersect": "Intersect"}
    exact = manifold3d.Manifold.batch_boolean(solids, getattr(manifold3d.OpType, kinds[operation]))
    cut = exact.to_mesh()
    sharp = trimesh.Trimesh(cut.vert_properties[:, :3], cut.tri_verts, process=False).face_adjacency_angles
    assert folds(made, 170) <= int((sharp > np.radians(170)).sum())
    solid = sound(made)
    # Less than a hundredth of an edge all over, however small the body.
    assert abs(solid.volume - exact.volume()) < 0.01 * solid.area
    assert abs(solid.volume - exact.volume()) < 2.0


def test_coincident_faces() -> None:
    assert sound(combine("join", [box(100, 100, 100), at(box(100, 100, 100), 100)], Progress())).volume == (
        pytest.approx(2e6)
    )
    with pytest.raises(SolidError, match="nothing would be left"):
        combine("subtract", [box(100, 100, 100), box(100, 100, 100)], Progress())


def test_what_is_no_solid_is_named() -> None:
    assert flaw(make_ball(50.0, 8)) == ""
    assert flaw(make_sheet()) == "has open edges"
    ball = make_ball(50.0, 8)
    positions, faces = ball.source_arrays()
    assert flaw(Mesh.from_faces(positions, turned_out(faces))) == "is inside out"
    knot = Strands((Strand(tuple(Knot(p, 9.0) for p in ((0, 0, 0), (60, 0, 0), (30, 50, 0), (30, -50, 0)))),))
    assert flaw(knot.made().mesh()) == "crosses itself"
    with pytest.raises(SolidError, match="closed"):
        combine("join", [make_sheet(), ball], Progress())


def test_clay_inside_out_is_turned_round_as_it_is() -> None:
    ball = make_ball(50.0, 8)
    positions, faces = ball.source_arrays()
    turned = made_solid(Mesh.from_faces(positions, turned_out(faces)), Progress())
    assert flaw(turned) == ""
    assert turned.n_vertices == ball.n_vertices
    assert volume(turned) == pytest.approx(volume(ball))


@pytest.mark.parametrize("kind", ["open", "crossing"])
def test_messy_clay_is_made_solid(kind: str) -> None:
    if kind == "open":
        whole = make_ball(50.0, 24)
        faces = whole.topology.faces
        middle = whole.positions[np.maximum(faces, 0)].mean(axis=1)
        messy = Mesh.from_faces(whole.positions, faces[middle[:, 1] < 46])
    else:
        points = ((0, 0, 0), (60, 0, 0), (30, 50, 0), (30, -50, 0))
        messy = Strands((Strand(tuple(Knot(p, 9.0) for p in points)),), sides=16, spans=8).made().mesh()
    assert flaw(messy)
    solid = made_solid(messy, Progress())
    assert flaw(solid) == ""
    sound(combine("subtract", [solid, at(make_ball(20.0, 12), 30)], Progress()))


def test_a_sheet_encloses_nothing() -> None:
    with pytest.raises(ValueError, match="encloses nothing"):
        made_solid(make_sheet(), Progress())


# -- cutting ------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    x=st.integers(-90, 90),
    y=st.integers(-90, 90),
    radius=st.integers(8, 70),
    count=st.integers(3, 60),
    both=st.booleans(),
)
def test_cuts_leave_closed_pieces_that_make_up_the_whole(
    x: float, y: float, radius: float, count: int, both: bool
) -> None:
    clay = make_ball(100.0, 20)
    whole = volume(clay)
    try:
        pieces = cut(clay, [prism(disc_outline(x, y, radius, count), 10.0)], both, None, Progress())
    except SolidError as error:
        words, pieces = str(error), []
    if not pieces:
        assert "misses" in words
        return
    assert len(pieces) == 1 + both
    volumes = [sound(piece).volume for piece in pieces]
    if both:
        assert sum(volumes) == pytest.approx(whole, rel=1e-4)
    else:
        assert volumes[0] <= whole * (1 + 1e-6)


def test_caps_are_flat_and_as_dense_as_the_clay() -> None:
    clay = make_ball(100.0, 40)
    square = np.array([[20.0, -200], [200, -200], [200, 200], [20, 200]])
    # As dense along the outline as the view makes it.
    side = np.stack([np.full(80, 20.0), np.linspace(200, -200, 80)], -1)
    flat = np.concatenate([side, square[1:3]])
    ends = [np.concatenate([flat, np.full((len(flat), 1), z)], 1) for z in (200.0, -200.0)]
    left = cut(clay, [prism(Outline(ends[0], ends[1]), 5.0)], False, None, Progress())[0]
    cap = left.positions[np.abs(left.positions[:, 0] - 20) < 1e-3]
    area = np.pi * (100**2 - 20**2)
    assert len(cap) > 0.5 * area / 5.0**2
    assert left.positions[:, 0].max() == pytest.approx(20, abs=1e-3)


def test_front_only_leaves_what_lies_behind() -> None:
    pair = combine(
        "join", [at(make_ball(40.0, 16), 0, 0, 80), at(make_ball(40.0, 16), 0, 0, -80)], Progress()
    )
    tool = prism(disc_outline(0, 0, 15), 5.0)
    eye = np.array([0.0, 0, 900])
    through = sound(cut(pair, [tool], False, None, Progress())[0])
    front = sound(cut(pair, [tool], False, eye[None], Progress())[0])
    assert through.volume < front.volume < volume(pair)
    behind = front.vertices[front.vertices[:, 2] < 0]
    assert len(behind) == make_ball(40.0, 16).n_vertices


def test_outlines_that_cut_nothing_say_why() -> None:
    clay = make_ball(50.0, 8)
    for outline, words in (
        (disc_outline(200, 0, 20), "misses"),
        (disc_outline(0, 0, 90), "whole part"),
    ):
        with pytest.raises(SolidError, match=words):
            cut(clay, [prism(outline, 8.0)], False, None, Progress())
    line = Outline(np.array([[0, 0, 9.0], [9, 0, 9]]), np.array([[0, 0, -9.0], [9, 0, -9]]))
    with pytest.raises(SolidError, match="encloses nothing"):
        prism(line, 1.0)
    flat = np.array([[0.0, 0, 0], [5, 0, 0], [9, 0, 0]])
    with pytest.raises(SolidError, match="encloses nothing"):
        prism(Outline(flat + np.array([0, 0, 9]), flat - np.array([0, 0, 9])), 1.0)
    with pytest.raises(SolidError, match="closed"):
        cut(make_sheet(), [prism(disc_outline(0, 0, 20), 5.0)], False, None, Progress())


def test_long_work_can_be_cancelled() -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            if fraction > 0.2:
                raise Cancelled

    with pytest.raises(Cancelled):
        combine("join", [make_ball(50.0, 8), at(make_ball(50.0, 8), 30)], Stop())


# -- taking apart -------------------------------------------------------------------------------


@settings(max_examples=40, deadline=None)
@given(planes=st.lists(st.tuples(st.integers(0, 2), st.integers(-80, 80)), min_size=1, max_size=3))
def test_pieces_by_label_are_closed(planes: list[tuple[int, int]]) -> None:
    clay = make_ball(100.0, 16)
    labels = np.zeros(clay.n_vertices, np.int64)
    for k, (axis, where) in enumerate(planes):
        labels += (clay.positions[:, axis] > where) * 2**k
    pieces = taken_apart(clay, labels, Progress())
    for piece in pieces.values():
        positions, faces = piece.source_arrays()
        solid = trimesh.Trimesh(positions, triangulate(faces), process=False)
        assert solid.is_winding_consistent
        assert not piece.topology.has_border or solid.is_watertight


def test_halves_of_a_ball_have_its_volume() -> None:
    clay = make_ball(100.0, 40)
    halves = taken_apart(clay, (clay.positions[:, 0] > 0.1).astype(int), Progress())
    total = sum(sound(half).volume for half in halves.values())
    assert total == pytest.approx(volume(clay), rel=0.01)


def test_fused_clay_remembers_what_it_came_from() -> None:
    one, other = make_ball(50.0, 24), at(make_ball(30.0, 24), 55)
    meshes = []
    for label, mesh in enumerate((one, other)):
        origin = np.full(mesh.n_vertices, label, np.uint8)
        meshes.append(Mesh(mesh.topology, mesh.positions, origin=origin))
    fused = remesh(soup_of(meshes), 4.0, Progress())
    assert fused.origin is not None
    assert fused.positions[fused.origin == 1, 0].min() > 30
    assert fused.positions[fused.origin == 0, 0].max() < 50
    pieces = taken_apart(fused, fused.origin, Progress())
    assert len(pieces) == 2
    for piece in pieces.values():
        sound(piece)


def test_holes_are_filled_whatever_their_rim() -> None:
    flat = np.array([[np.cos(t), np.sin(t), 0.3 * np.sin(3 * t)] for t in np.linspace(0, 6.28, 24)[:-1]]) * 20
    points, triangles = patch_over(flat)
    assert len(points) > len(flat)
    # A rim that folds over itself when seen from any side.
    t = np.linspace(0, 4 * np.pi, 40, endpoint=False)
    twisted = np.stack(
        [np.cos(t) * (20 + 8 * np.cos(t / 2)), np.sin(t) * (20 + 8 * np.cos(t / 2)), 9 * np.sin(t / 2)], -1
    )
    points, triangles = patch_over(twisted)
    edges = np.sort(
        np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1
    )
    _, counts = np.unique(edges, axis=0, return_counts=True)
    assert (counts == 1).sum() == len(twisted)
    assert (counts <= 2).all()


@pytest.mark.parametrize("count", [40, 300])
def test_rims_that_do_not_lie_flat_get_no_poles(count: int) -> None:
    """A rim that folds over itself seen from any side: rings with ever fewer vertices, none crowded."""
    t = np.linspace(0, 4 * np.pi, count, endpoint=False)
    wide = 20 + 8 * np.cos(t / 2)
    rim = np.stack([np.cos(t) * wide, np.sin(t) * wide, 9 * np.sin(t / 2)], -1)
    points, triangles = patch_over(rim)
    assert np.array_equal(points[:count], rim)
    assert np.bincount(triangles.reshape(-1), minlength=len(points)).max() <= 12
    edges = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    _, counts = np.unique(edges, axis=0, return_counts=True)
    assert (counts == 1).sum() == count
    assert (counts <= 2).all()
    # One disc: vertices, edges and faces in all.
    assert len(points) - len(counts) + len(triangles) == 1


def test_a_long_ragged_rim_needs_no_memory_by_its_square() -> None:
    """Thousands of corners, and as many new vertices: each finds its own by a tree, sides by their heights."""
    rng = np.random.default_rng(1)
    t = np.linspace(0, 2 * np.pi, 4000, endpoint=False)
    polygon = np.stack([np.cos(t), np.sin(t)], -1) * (50 + rng.uniform(0, 1, len(t)))[:, None]
    points = rng.uniform(-60, 60, (3000, 2))
    off = np.linalg.norm(points, axis=1)
    within = inside(polygon, points)
    assert within[off < 49].all()
    assert not within[off > 51].any()
    sheet = make_sheet(300, 300.0)
    at = sheet.positions[sheet.topology.faces].mean(axis=1)
    angle = np.arctan2(at[:, 1], at[:, 0])
    hole = np.linalg.norm(at[:, :2], axis=1) > 60 + 8 * np.sin(angle * 40)
    closed = filled(picked(sheet, hole), None)
    assert len(border_loops(closed)) <= 1


def test_border_loops_and_connection() -> None:
    sheet = make_sheet(10, 5.0)
    loops = border_loops(sheet)
    assert len(loops) == 1
    assert len(loops[0]) == sheet.topology.border.sum()
    assert filled(make_ball(10.0, 4)) is not None
    labels = connected(make_ball(10.0, 4))
    assert labels.max() == 0


def test_mirroring_clay_keeps_its_outside_out() -> None:
    clay = at(make_ball(50.0, 12), 80)
    other = kneaded(clay, np.diag([-1.0, 1, 1, 1]))
    assert volume(other) == pytest.approx(volume(clay), rel=1e-6)
    assert exactly_symmetric(np.concatenate([clay.positions, other.positions]), 0)


# -- beside ---------------------------------------------------------------------------------------


def test_heavy_work_beside_gives_the_same_as_here(monkeypatch: pytest.MonkeyPatch) -> None:
    one = make_ball(100.0, 24)
    other = one.with_positions(one.positions + np.float32([70, 11, 5]))
    here = combine("subtract", [one, other], Progress())
    monkeypatch.setattr(solid_work, "SMALL", 100)
    for _ in range(2):
        beside = combine("subtract", [one, other], Progress())
        assert np.array_equal(beside.positions, here.positions)
        assert np.array_equal(beside.topology.faces, here.topology.faces)
    assert solid_work._helper is not None
    with pytest.raises(SolidError, match="misses"):
        cut(one, [prism(disc_outline(400, 0, 20), 5.0)], False, None, Progress())
    assert solid_work._helper is not None


class Impatient(Progress):
    """Cancels at the second look."""

    looks = 0

    def report(self, fraction: float, text: str = "") -> None:
        self.looks += 1
        if self.looks > 1:
            raise Cancelled


def test_heavy_work_beside_is_ended_when_cancelled_and_begun_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(solid_work, "SMALL", 100)
    # Large enough to be at work still when it is cancelled, however the machine is busy.
    one = make_ball(100.0, 140)
    other = one.with_positions(one.positions + np.float32([70, 11, 5]))
    with pytest.raises(Cancelled):
        combine("join", [one, other], Impatient())
    assert solid_work._helper is None
    assert combine("join", [one, other], Progress()).n_vertices > one.n_vertices
    assert solid_work._helper is not None
    monkeypatch.setattr(solid_work, "_send", lambda stream, thing: solid_work._helper.process.kill())
    with pytest.raises(SolidError, match="ended early"):
        combine("join", [one, other], Progress())
    assert solid_work._helper is None


@pytest.mark.parametrize("slope", [0.0, 0.02])
def test_symmetric_cuts_whose_mirrored_walls_nearly_coincide(slope: float) -> None:
    clay = make_ball(100.0, 32)
    x = np.array([-300.0, 300, 300, -300])
    y = np.array([20 + 300 * slope, 20 - 300 * slope, 300, 300])
    ends = [np.stack([x, y, np.full(4, z)], -1) for z in (200.0, -200.0)]
    tool = prism(Outline(ends[0], ends[1], (0.2, 0.8)), 5.0)
    flip = np.diag([-1.0, 1, 1, 1])
    left, off = cut(clay, [tool, kneaded(tool, flip)], True, None, Progress())
    for piece in (left, off):
        assert sound(piece).is_watertight
        assert exactly_symmetric(piece.positions, 0)
    total = sound(left).volume + sound(off).volume
    # Slivers beside the rim are drawn together in each piece by itself, here with edges of 5 mm.
    assert total == pytest.approx(sound(clay).volume, rel=1e-4)
    assert left.positions[:, 1].max() < 21 + 300 * slope


@pytest.mark.parametrize("kind", ["tube", "cylinder", "sphere", "torus", "capsule"])
@pytest.mark.parametrize("turn", [0.0, 30.0])
def test_a_cut_through_its_own_middle_crosses_nothing(kind: str, turn: float) -> None:
    """Vertices lie in the plane of the cut, but for what rounding has left: 1e-15 mm on either side."""
    body = Primitive(kind, (90.0, 20.0, 90.0), (32, 8, 8)).made().mesh()
    half = Primitive("box", (400.0, 400.0, 200.0), (1, 1, 1)).made().mesh()
    way = Rotation.from_euler("y", turn, degrees=True)
    half = half.with_positions(way.apply(np.subtract(half.positions, [0.0, 0.0, 100.0])).astype(np.float32))
    (left,) = cut(body, [half], False, None, Progress())
    assert volume(left) == pytest.approx(volume(body) / 2, rel=0.02)
    assert not crossing(left).any()
    sound(left)
