"""Clean quads over clay: what they are held to, on clay of all kinds."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from kneten.core.arrays import Cancelled, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.quads.extract import Cage, cleaned, corner_sines, halved, matched
from kneten.core.quads.field import crosses_over, graph_of, ladder
from kneten.core.quads.finish import Quality, irregular, quality
from kneten.core.quads.ground import Lines, Source, laid
from kneten.core.quads.halves import Halves
from kneten.core.quads.lines import Edges, cut_at_plane, on_one_side, sharp_edges, smoothed_lines
from kneten.core.quads.retopologise import QuadWish, flow_of, retopologised, spread
from kneten.core.quads.tidy import tidied
from kneten.core.remesh import triangulate
from kneten.core.symmetry import exactly_symmetric
from kneten.core.topology import MeshError
from tests.conftest import make_ball, make_sheet

CUBE = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], np.float32) * 100 - 50
SIDES = np.array(
    [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]], np.int32
)


def lumpy(divisions: int = 40) -> Mesh:
    """A ball with broad lumps, symmetric across x."""
    positions, faces = ball(100.0, divisions)
    unit = positions / 100.0
    swell = 1 + 0.15 * np.cos(3 * unit[:, 1] * np.pi) * np.cos(2 * unit[:, 0] * np.pi)
    return Mesh.from_faces((positions * swell[:, None]).astype(np.float32), faces)


def judged(mesh: Mesh) -> trimesh.Trimesh:
    """The quads as an independent judge of meshes sees them."""
    return trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)


def two_manifold(mesh: Mesh) -> None:
    made = judged(mesh)
    _, counts = np.unique(np.sort(made.edges, axis=1), axis=0, return_counts=True)
    assert counts.max() <= 2
    assert made.is_winding_consistent
    assert len(made.referenced_vertices.nonzero()[0]) == mesh.n_vertices


def apart(one: Mesh, other: Mesh) -> float:
    """How far the farther of two surfaces' vertices lie from the other one, in diagonals of the first."""
    far = []
    for a, b in ((one, other), (other, one)):
        _, distance = FaceTree.of(b).nearest(
            a.positions, np.full(a.n_vertices, np.inf, np.float32), Progress()
        )
        far.append(float(distance.max()))
    return max(far) / float(np.linalg.norm(np.ptp(one.positions, axis=0)))


def test_a_lumpy_form_keeps_what_is_promised() -> None:
    clay = lumpy()
    made, found = retopologised(clay, QuadWish(2000), Progress())
    assert abs(made.topology.n_faces / 2000 - 1) < 0.1
    assert found.quads == 1.0
    assert found.irregular < 0.04
    assert found.shape > 0.9
    assert found.worst > 0.0
    two_manifold(made)
    assert judged(made).is_watertight
    assert judged(made).euler_number == 2
    assert apart(clay, made) < 0.01
    assert (
        found == quality(made.positions.astype(np.float64), made.topology.faces)
        or found.faces == made.topology.n_faces
    )


def test_a_wish_for_symmetry_is_exact_with_a_line_of_edges_in_the_plane() -> None:
    clay = lumpy()
    made, found = retopologised(clay, QuadWish(1600, symmetry=0), Progress())
    assert exactly_symmetric(made.positions, 0)
    two_manifold(made)
    assert judged(made).is_watertight
    seam = made.positions[:, 0] == 0
    assert seam.sum() > 20
    # No face crosses the plane, and most of what lies in it is regular.
    sides = np.sign(made.positions[made.topology.faces, 0])
    assert not ((sides > 0).any(axis=1) & (sides < 0).any(axis=1)).any()
    odd = irregular(made.positions.astype(np.float64), made.topology.faces)
    assert odd[seam].mean() < 0.15
    assert found.irregular < 0.06


def test_a_cube_with_sharp_edges_has_a_grid_on_each_side() -> None:
    made, found = retopologised(Mesh.from_faces(CUBE, SIDES), QuadWish(600, sharp=True), Progress())
    assert made.topology.n_faces == 600
    # Three edges meet at its corners, four everywhere else; all angles are right.
    assert round(found.irregular * made.n_vertices) == 8
    assert found.worst > 0.99
    for corner in CUBE:
        assert np.abs(made.positions - corner).max(axis=1).min() < 1e-3


def test_open_clay_stays_open_with_its_border() -> None:
    clay = make_sheet(20, 5.0)
    made, found = retopologised(clay, QuadWish(400, curvature=0.0), Progress())
    two_manifold(made)
    border = made.positions[made.topology.border != 0]
    assert np.abs(np.abs(border[:, :2]).max(axis=1) - 50.0).max() < 1e-3
    assert judged(made).euler_number == 1
    assert judged(made).area == pytest.approx(10_000, rel=1e-3)
    assert found.shape > 0.9
    for corner in ([50, 50, 0], [-50, 50, 0], [50, -50, 0], [-50, -50, 0]):
        assert np.linalg.norm(made.positions - corner, axis=1).min() < 1e-3


def test_a_ring_keeps_its_hole() -> None:
    ring = trimesh.creation.torus(60.0, 20.0, major_sections=96, minor_sections=40)
    faces = np.concatenate([ring.faces, np.full((len(ring.faces), 1), -1)], axis=1).astype(np.int32)
    made, found = retopologised(
        Mesh.from_faces(np.asarray(ring.vertices, np.float32), faces), QuadWish(1200), Progress()
    )
    assert judged(made).euler_number == 0
    assert judged(made).is_watertight
    # A ring needs no vertex that has other than four edges.
    assert found.irregular < 0.04


def test_regions_are_bounded_by_loops_of_edges() -> None:
    clay = make_ball(100.0, 40)
    clay.regions = (clay.positions[clay.topology.faces].mean(axis=1)[:, 1] > 30).astype(np.uint16)
    for symmetry in (None, 0):
        made, _ = retopologised(clay, QuadWish(1200, regions=True, symmetry=symmetry), Progress())
        regions = made.regions
        assert regions is not None
        middle = made.positions[made.topology.faces].mean(axis=1)[:, 1]
        # Each face lies wholly on one side: its corners, too, but for those on the border.
        corners = made.positions[made.topology.faces][:, :, 1]
        assert (corners[regions == 1] > 30 - 3.5).all()
        assert (corners[regions == 0] < 30 + 3.5).all()
        assert ((regions == 1) == (middle > 30)).mean() > 0.995


@pytest.mark.parametrize("symmetry", [None, 0])
def test_edges_run_along_guides(symmetry: int | None) -> None:
    clay = make_ball(100.0, 40)
    turn = np.linspace(0, 2 * np.pi, 80)
    circle = np.stack([60 * np.cos(turn), 60 * np.sin(turn), np.full(80, 80.0)], axis=-1)
    made, _ = retopologised(clay, QuadWish(1200, guides=[circle], symmetry=symmetry), Progress())
    height = np.hypot(made.positions[:, 0], made.positions[:, 1]) - 60
    on = (np.abs(height) < 0.8) & (made.positions[:, 2] > 0)
    assert on.sum() > 24
    far = cKDTree(made.positions[on]).query(circle)[0]
    step = np.sqrt(4 * np.pi * 100**2 / 1200)
    assert far.max() < step
    # Those on the line make a loop: each has two neighbours on it.
    faces = made.topology.faces
    pairs = np.concatenate([np.stack([faces[:, k], faces[:, (k + 1) % 4]], axis=-1) for k in range(4)])
    pairs = np.unique(np.sort(pairs[on[pairs].all(axis=1)], axis=1), axis=0)
    assert (np.bincount(pairs.reshape(-1), minlength=len(on))[on] == 2).mean() > 0.85
    two_manifold(made)


def test_lines_that_meet_the_seam_do_not_draw_it_out_of_its_plane() -> None:
    clay = lumpy()
    turn = np.linspace(0, 2 * np.pi, 60)
    tree = FaceTree.of(clay)
    rings = []
    for radius in (25.0, 40.0):
        points = np.stack([radius * np.cos(turn), radius * np.sin(turn), np.full(60, 300.0)], axis=-1)
        _, far = tree.along(
            points.astype(np.float32), np.tile(np.float32([0, 0, -1]), (60, 1)), 0, 500, -1, Progress()
        )
        rings.append(points - [0, 0, 1] * far[:, None])
    made, _ = retopologised(clay, QuadWish(2000, symmetry=0, guides=rings), Progress())
    assert judged(made).is_watertight
    assert judged(made).euler_number == 2
    assert exactly_symmetric(made.positions, 0)


@pytest.mark.long
def test_masks_and_roundness_make_denser() -> None:
    clay = make_ball(100.0, 40)
    clay.mask = (clay.positions[:, 2] > 0).astype(np.float32)
    made, _ = retopologised(clay, QuadWish(1500, by_mask=1.0), Progress())
    up = made.positions[made.topology.faces].mean(axis=1)[:, 2] > 0
    assert up.sum() > 1.8 * (~up).sum()
    assert abs(made.topology.n_faces / 1500 - 1) < 0.1
    egg = make_ball(100.0, 40)
    egg.positions[:, 2] *= 3.0
    clay = Mesh.from_faces(egg.positions, egg.topology.faces)
    tips = [
        int(
            (
                np.abs(retopologised(clay, QuadWish(1500, curvature=share), Progress())[0].positions[:, 2])
                > 250
            ).sum()
        )
        for share in (0.0, 1.0)
    ]
    assert tips[1] > 1.3 * tips[0]


def test_values_go_along() -> None:
    clay = make_ball(100.0, 40)
    clay.colour = np.where(clay.positions[:, :1] > 0, [200, 30, 30, 255], [30, 30, 200, 255]).astype(np.uint8)
    made, _ = retopologised(clay, QuadWish(800), Progress())
    assert made.colour is not None
    right = made.positions[:, 0] > 8
    assert (made.colour[right, 0] > 180).all()
    assert (made.colour[made.positions[:, 0] < -8, 2] > 180).all()


BAD = {
    "one triangle": (np.array([[0, 0, 0], [10, 0, 0], [0, 10, 0]]), [[0, 1, 2, -1]]),
    "three at an edge": (
        np.array([[0, 0, 0], [0, 0, 100], [100, 0, 0], [-100, 0, 20], [0, 100, 0]]),
        [[0, 1, 2, -1], [0, 1, 3, -1], [0, 1, 4, -1]],
    ),
    "not the same way round": (
        np.array([[0, 0, 0], [100, 0, 0], [100, 100, 0], [0, 100, 0]]), [[0, 1, 2, -1], [0, 3, 2, -1], [0, 2, 3, -1]],
    ),
    "a face without area": (
        np.array([[0, 0, 0], [100, 0, 0], [100, 100, 0], [50, 0, 0]]), [[0, 1, 2, -1], [0, 3, 1, -1]],
    ),
    "two that touch at a point": (
        np.array([[0, 0, 0], [100, 0, 0], [0, 100, 0], [-100, 0, 0], [0, -100, 0]]), [[0, 1, 2, -1], [0, 3, 4, -1]],
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", list(BAD))
def test_bad_clay_becomes_sound_quads(name: str) -> None:
    positions, faces = BAD[name]
    made, found = retopologised(
        Mesh.from_faces(positions.astype(np.float32), np.array(faces, np.int32)), QuadWish(60), Progress()
    )
    two_manifold(made)
    assert found.quads == 1.0
    assert made.topology.n_faces >= 3


def test_shells_that_go_through_each_other_do_not_meet() -> None:
    positions, faces = ball(100.0, 24)
    both = np.concatenate([positions, positions + np.array([80, 0, 0])]).astype(np.float32)
    made, found = retopologised(
        Mesh.from_faces(both, np.concatenate([faces, faces + len(positions)])), QuadWish(1000), Progress()
    )
    assert judged(made).body_count == 2
    assert judged(made).euler_number == 4
    assert found.shape > 0.9
    off = [np.abs(np.linalg.norm(made.positions - [x, 0, 0], axis=1) - 100) for x in (0, 80)]
    assert np.minimum(*off).max() < 2.0


def test_what_cannot_be_is_said() -> None:
    clay = make_ball(100.0, 8)
    for count in (3, 10_000_000):
        with pytest.raises(MeshError, match="between"):
            retopologised(clay, QuadWish(count), Progress())
    flat = Mesh.from_faces(np.zeros((3, 3), np.float32), np.array([[0, 1, 2, -1]], np.int32))
    with pytest.raises(MeshError, match="no surface"):
        retopologised(flat, QuadWish(100), Progress())
    far = Mesh.from_faces(clay.positions - np.float32([300, 0, 0]), clay.topology.faces)
    with pytest.raises(MeshError, match="no clay on the side"):
        retopologised(far, QuadWish(100, symmetry=0), Progress())


@pytest.mark.parametrize("after", [1, 4, 9, 16, 30])
def test_it_can_be_cancelled_anywhere(after: int) -> None:
    clay = make_ball(100.0, 16)

    class Stop(Progress):
        left = after

        def report(self, fraction: float, text: str = "") -> None:
            assert 0.0 <= fraction <= 1.0
            self.left -= 1
            if not self.left:
                raise Cancelled

    was = clay.positions.copy()
    with pytest.raises(Cancelled):
        retopologised(clay, QuadWish(200), Stop())
    assert (clay.positions == was).all()


def test_the_same_wish_gives_the_same_quads() -> None:
    clay = lumpy(20)
    one, _ = retopologised(clay, QuadWish(400), Progress())
    two, _ = retopologised(clay, QuadWish(400), Progress())
    assert (one.positions == two.positions).all()
    assert (one.topology.faces == two.topology.faces).all()


def test_the_flow_lies_on_the_clay_and_is_mirrored() -> None:
    clay = make_ball(100.0, 24)
    flow = flow_of(clay, QuadWish(500, symmetry=0), Progress())
    assert np.abs((flow.crosses * flow.normals).sum(axis=1)).max() < 1e-6
    assert flow.points[:, 0].min() == -flow.points[:, 0].max()
    first, last = spread(flow, 300)
    assert len(first) == len(last) <= 2 * 300
    assert np.linalg.norm(last - first, axis=1) == pytest.approx(
        0.8 * np.sqrt(4 * np.pi * 1e4 / 500), rel=0.35
    )


# -- the parts of it -------------------------------------------------------------------------------


def ground(mesh: Mesh, size: float) -> tuple[Source, Halves, np.ndarray]:
    points, triangles = mesh.positions.astype(np.float64), triangulate(mesh.topology.faces)
    none = np.empty(0, np.uint8)
    source = Source.of(points, triangles, (np.empty((0, 2, 3)), none), (np.empty(0, np.int64), none))
    return source, *laid(source, np.full(len(points), size), Progress())


def test_the_ground_is_even_and_on_the_clay() -> None:
    for size in (6.0, 15.0):
        _, work, sizes = ground(make_ball(100.0, 40), size)
        _, a, b = work.edges()
        lengths = np.linalg.norm(work.points[a] - work.points[b], axis=1)
        assert 0.45 * size < lengths.min()
        assert lengths.max() < 1.6 * size
        assert (sizes == size).all()
        assert np.abs(np.linalg.norm(work.points, axis=1) - 100).max() < 0.1


def singular(work: Halves, normals: np.ndarray, crosses: np.ndarray) -> np.ndarray:
    """The triangles (m,) bool round which the crosses do not come back to themselves: there quads meet unevenly."""
    t = work.triangles
    turn = np.zeros(len(t))
    for k in range(3):
        a, b = t[:, k], t[:, (k + 1) % 3]
        arm = crosses[a]
        across = np.cross(normals[a], arm)
        # The other's cross, brought into this plane, as an angle from this one's arm.
        x, y = (arm * crosses[b]).sum(1), (across * crosses[b]).sum(1)
        angle = np.arctan2(y, x)
        turn += angle - np.round(angle / (np.pi / 2)) * (np.pi / 2)
    return np.asarray(np.abs(np.round(turn / (np.pi / 2))) > 0)


def test_crosses_on_a_ball_have_eight_places_where_they_cannot_agree() -> None:
    # By Poincare and Hopf the quarters of all turns add up to twice four; a smooth field has no more of them.
    _, work, sizes = ground(make_ball(100.0, 40), 8.0)
    graphs = ladder(graph_of(work, 3 * sizes))
    assert len(graphs) > 3
    crosses = crosses_over(graphs, Progress())
    assert np.linalg.norm(crosses, axis=1) == pytest.approx(1.0)
    assert 8 <= singular(work, graphs[0].normals, crosses).sum() <= 12


@given(st.integers(2, 40), st.integers(0, 2**32 - 1))
@settings(max_examples=30)
def test_pairs_are_never_shared_and_as_many_as_a_judge_finds(count: int, seed: int) -> None:
    import networkx

    chance = np.random.default_rng(seed)
    pairs = np.unique(np.sort(chance.integers(0, count, (3 * count // 2, 2)), axis=1), axis=0)
    pairs = pairs[pairs[:, 0] != pairs[:, 1]].astype(np.int32)
    rows = matched(pairs, chance.random(len(pairs)), count)
    used = pairs[rows].reshape(-1)
    assert len(np.unique(used)) == len(used)
    graph = networkx.Graph(pairs.tolist())
    best = len(networkx.max_weight_matching(graph, maxcardinality=True))
    # Ways through rings of an odd number are not looked for.
    assert len(rows) >= best - max(1, best // 8)


def test_a_vertex_with_two_quads_goes() -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [2, 0, 0], [2, 2, 0], [1, 1, 0], [0, 2, 0.0]])
    cage = Cage(
        points,
        np.array([[0, 2, 4, 5], [4, 2, 3, 5]], np.int32),
        np.empty((0, 2), np.int32),
        np.empty(0, np.uint8),
    )
    made = cleaned(cage)
    assert len(made.faces) == 1
    assert len(made.points) == 4


def test_halving_gives_quads_and_keeps_lines() -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0.5, 2, 0.0]])
    cage = Cage(
        points,
        np.array([[0, 1, 2, 3], [3, 2, 4, -1]], np.int32),
        np.array([[0, 1], [2, 3]], np.int32),
        np.uint8([1, 2]),
    )
    made = halved(cage)
    assert made.faces.shape == (7, 4)
    assert (made.faces >= 0).all()
    assert made.lines.shape == (4, 2)
    assert corner_sines(made.points, made.faces).min() > 0
    assert np.isin(made.points[made.lines.reshape(-1), 1], [0.0, 1.0]).all()


def test_tidying_takes_needless_poles_away() -> None:
    # A grid in which one edge was turned has four poles that it does not need.
    side = np.arange(7.0)
    x, y = np.meshgrid(side, side, indexing="ij")
    points = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    number = np.arange(49).reshape(7, 7)
    faces = np.stack([number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]], axis=-1).reshape(
        -1, 4
    )
    v, w = number[3, 3], number[3, 4]
    a, b, c, d = number[4, 3], number[4, 4], number[2, 4], number[2, 3]
    keep = [f for f in faces.tolist() if not {v, w} <= set(f)]
    turned = np.array([*keep, [a, b, w, c], [c, d, v, a]], np.int32)
    rim = np.concatenate(
        [
            np.stack([line[:-1], line[1:]], axis=-1)
            for line in (number[0], number[-1], number[:, 0], number[:, -1])
        ]
    )
    cage = Cage(points, turned, rim.astype(np.int32), np.zeros(len(rim), np.uint8))
    assert irregular(points, turned).sum() == 4
    made = tidied(cage, lambda at, _: at)
    assert irregular(made.points, made.faces).sum() == 0
    assert len(made.faces) == 36


@given(st.floats(-0.9, 0.9), st.integers(0, 2))
@settings(max_examples=25)
def test_a_cut_half_has_half_the_clay_and_ends_in_the_plane(shift: float, axis: int) -> None:
    positions, faces = ball(1.0, 8)
    moved = positions.astype(np.float64)
    moved[:, axis] += shift
    points, triangles, origin = cut_at_plane(moved, triangulate(faces), axis)
    half = trimesh.Trimesh(points, triangles, process=False)
    assert points[:, axis].min() >= 0
    edges = Edges(triangles, len(points))
    rim = np.unique(edges.ends[edges.counts == 1])
    assert (points[rim, axis] == 0).all()
    whole = trimesh.Trimesh(moved, triangulate(faces), process=False)
    other = moved.copy()
    other[:, axis] *= -1
    rest = trimesh.Trimesh(*cut_at_plane(other, triangulate(faces)[:, ::-1], axis)[:2], process=False)
    assert half.area + rest.area == pytest.approx(whole.area, rel=1e-2)
    assert (origin < len(moved)).all()


def test_sharp_edges_are_found_but_for_crumbs() -> None:
    triangles = triangulate(SIDES)
    points = CUBE.astype(np.float64)
    edges = Edges(triangles, 8)
    assert sharp_edges(points, triangles, edges, 10.0).sum() == 12
    assert not sharp_edges(points, triangles, edges, 5000.0).any()


def test_steps_in_lines_are_evened_out_and_ends_stay() -> None:
    along = np.arange(40.0)
    points = np.stack([along, along % 2, np.zeros(40)], axis=-1)
    ends = np.stack([np.arange(39), np.arange(1, 40)], axis=-1).astype(np.int32)
    made = smoothed_lines(points, ends, 3.0)
    assert (made[[0, -1]] == points[[0, -1]]).all()
    assert np.abs(np.diff(made[5:-5, 1])).max() < 0.1
    pieces = np.stack([made[:-1], made[1:]], axis=1)
    lines = Lines(np.concatenate([pieces, pieces + 50]), np.repeat(np.uint8([4, 5]), 39))
    assert np.abs(lines.nearest(np.array([[7.3, 5.0, 1.0]]), np.uint8([4]))[0, :2] - [7.3, 0.5]).max() < 0.3
    # Each line by itself, and nothing where there is none.
    assert lines.nearest(points[:1], np.uint8([5]))[0, 0] >= 50
    assert (lines.nearest(points, np.full(40, 9, np.uint8)) == points).all()


def test_guides_of_both_sides_are_one() -> None:
    t = np.linspace(0, 1, 20)
    left = np.stack([5 + t, t, t], axis=-1)
    right = left * [-1, 1, 1]
    across = np.stack([2 * t - 1, np.zeros(20) + 3, t], axis=-1)
    inside = np.stack([np.zeros(20), t, t], axis=-1)
    made = on_one_side([left, right, across, inside], 0, 0.05)
    assert len(made) == 2
    assert all(line[:, 0].min() >= 0 for line in made)


def test_quality_knows_a_grid() -> None:
    sheet = make_sheet(10, 1.0)
    found = quality(sheet.positions.astype(np.float64), sheet.topology.faces)
    assert found == replace(found, faces=100, vertices=121, quads=1.0, irregular=0.0)
    assert isinstance(found, Quality)
    assert found.shape == pytest.approx(1.0)
