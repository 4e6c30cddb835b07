"""Modelling with few faces and nets drawn onto clay: sound, judged by trimesh, with values along."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
import trimesh
from scipy.spatial import cKDTree

from kneten.core.arrays import AnyArray
from kneten.core.mesh import Mesh
from kneten.core.net import modelling as m
from kneten.core.net.draft import Draft, Made, chains_of, rims_of
from kneten.core.net.drawing import Ground, grown, joined, open_rims, ring, snapped, strip, with_images
from kneten.core.net.patches import foretold, patched
from kneten.core.primitives import lattice
from kneten.core.regions import middles
from kneten.core.remesh import triangulate
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges
from kneten.core.uv.seams import sharp
from tests.conftest import make_ball, make_sheet


def cube(n: int = 2, size: float = 20.0) -> Mesh:
    points, faces = lattice(n, n, n)
    return Mesh.from_faces(((points / n - 0.5) * size).astype(np.float32), faces)


def judged(mesh: Mesh, closed: bool = True, euler: int = 2) -> trimesh.Trimesh:
    """What an independent judge says: sound, outside out."""
    judge = trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)
    assert judge.is_winding_consistent
    if closed:
        assert judge.is_watertight
        assert judge.euler_number == euler
        assert judge.volume > 0
    return judge


def top(mesh: Mesh) -> np.ndarray:
    at = middles(mesh)
    return at[:, 2] > at[:, 2].max() - 1e-3


def edge_at(mesh: Mesh, place: tuple[float, float, float]) -> int:
    edges = Edges.of(mesh.topology)
    return int(np.argmin(np.linalg.norm(mesh.positions[edges.ends].mean(axis=1) - place, axis=1)))


def test_faces_are_extruded_with_walls_and_sit_as_far_out_as_asked() -> None:
    mesh = cube()
    made = m.extruded(mesh, top(mesh), 5.0)
    judge = judged(made.mesh)
    assert np.isclose(judge.volume, 20**3 + 20 * 20 * 5, rtol=1e-5)
    assert made.chosen.sum() == 4
    assert np.allclose(middles(made.mesh)[made.chosen, 2], 15)
    assert made.mesh.topology.n_faces == mesh.topology.n_faces + 8
    # In all directions at once, each face moves by the distance.
    whole = m.extruded(mesh, np.ones(mesh.topology.n_faces, bool), 2.0)
    assert np.isclose(judged(whole.mesh).volume, 24**3, rtol=1e-4)
    assert (whole.mesh.topology.faces[:, 3] >= 0).all()


def test_faces_are_inset_within_themselves() -> None:
    mesh = cube(1)
    made = m.inset(mesh, top(mesh), 0.5)
    assert np.isclose(judged(made.mesh).volume, 20**3)
    side = made.mesh.positions[made.mesh.topology.faces[made.chosen][0]]
    assert np.allclose(np.ptp(side, axis=0), [10, 10, 0])
    again = m.extruded(made.mesh, made.chosen, -5.0)
    assert np.isclose(judged(again.mesh).volume, 20**3 - 10 * 10 * 5)


def test_a_loop_is_cut_all_round_and_at_triangles_it_ends() -> None:
    mesh = cube(2)
    made = m.loop_cut(mesh, edge_at(mesh, (10, 10, 5)), 0.25)
    judge = judged(made.mesh)
    assert np.isclose(judge.volume, 8000)
    assert made.marked.sum() == 8
    assert np.ptp(made.mesh.positions[made.marked, 2]) < 1e-4
    assert made.mesh.topology.n_faces == mesh.topology.n_faces + 8
    fan = Mesh.from_faces(
        np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0.5, 0]], np.float32),
        np.array([[0, 1, 2, 3], [1, 4, 2, -1]], np.int32),
    )
    cut = m.loop_cut(fan, edge_at(fan, (0, 0.5, 0)), 0.5)
    assert cut.mesh.topology.n_faces == 4
    judged(cut.mesh, closed=False)


def test_two_places_are_bridged_by_a_tube() -> None:
    mesh = cube(2)
    other = mesh.with_positions(mesh.positions + np.array([0, 0, 40], np.float32))
    both = Mesh.from_faces(
        np.concatenate([mesh.positions, other.positions]),
        np.concatenate([mesh.topology.faces, other.topology.faces + mesh.n_vertices]),
    )
    at = middles(both)
    chosen = (np.abs(at[:, 2] - 10) < 1e-3) | (np.abs(at[:, 2] - 30) < 1e-3)
    made = m.bridged(both, chosen, np.zeros(both.n_vertices, bool))
    assert np.isclose(judged(made.mesh).volume, 20 * 20 * 60)
    # Through one body it is a hole.
    at = middles(mesh)
    through = m.bridged(mesh, np.abs(np.abs(at[:, 2]) - 10) < 1e-3, np.zeros(mesh.n_vertices, bool))
    assert judged(through.mesh, closed=False).euler_number == 0
    with pytest.raises(MeshError, match="two rims"):
        m.bridged(mesh, top(mesh), np.zeros(mesh.n_vertices, bool))


@pytest.mark.parametrize("n", [1, 2, 3])
def test_holes_are_filled_with_quads(n: int) -> None:
    mesh = cube(n)
    opened = m.without(mesh, top(mesh)).mesh
    made = patched(opened, np.ones(opened.n_vertices, bool))
    judged(made.mesh)
    assert (made.mesh.topology.faces[:, 3] >= 0).all()
    odd = m.split_quads(mesh, top(mesh)).mesh
    three = m.without(
        odd, np.arange(odd.topology.n_faces) == int(np.flatnonzero(odd.topology.faces[:, 3] < 0)[0])
    )
    assert judged(patched(three.mesh, np.ones(three.mesh.n_vertices, bool)).mesh)


def hole(a: int, b: int, round_: bool = False) -> Mesh:
    """A sheet with a hole of a by b cells in its middle, or with that rim blown up to a circle."""
    sheet = make_sheet(12, 5.0)
    at = middles(sheet)
    inside = (np.abs(at[:, 0] - 2.5 * (a % 2)) < 2.5 * a) & (np.abs(at[:, 1] - 2.5 * (b % 2)) < 2.5 * b)
    made = m.without(sheet, inside).mesh
    if round_:
        p = made.positions.copy()
        rim = max(open_rims(made), key=lambda way: -np.abs(p[way]).max())
        angle = np.arctan2(p[rim, 1], p[rim, 0])
        p[rim, 0], p[rim, 1] = 12 * np.cos(angle), 12 * np.sin(angle)
        made = made.with_positions(p)
    return made


def inner_rim(mesh: Mesh) -> AnyArray:
    """The vertices (n,) bool of the rim of a hole."""
    way = min(open_rims(mesh), key=lambda one: np.abs(mesh.positions[one]).max())
    out = np.zeros(mesh.n_vertices, bool)
    out[way] = True
    return out


@pytest.mark.parametrize(("a", "b"), [(2, 2), (4, 2), (4, 6), (1, 5), (3, 3)])
def test_a_hole_is_filled_with_the_grid_that_was_there(a: int, b: int) -> None:
    mesh = hole(a, b)
    rim = inner_rim(mesh)
    made = patched(mesh, rim)
    judged(made.mesh, closed=False)
    assert made.mesh.topology.n_faces == 144
    assert made.chosen.sum() == a * b
    if min(a, b) > 1:
        assert sorted(foretold(mesh, rim)[0]) == sorted((a, b))
    # Every place of the sheet is there again, and looks up.
    whole = make_sheet(12, 5.0)
    far, _ = cKDTree(made.mesh.positions).query(whole.positions)
    assert far.max() < 1e-3
    assert (made.mesh.normals[:, 2] > 0.99).all()


def test_a_round_hole_gets_about_as_many_quads_both_ways() -> None:
    mesh = hole(4, 4, round_=True)
    ((a, b),) = foretold(mesh, inner_rim(mesh))
    assert (a, b) == (4, 4)
    made = patched(mesh, inner_rim(mesh)).mesh
    judged(made, closed=False)
    assert (made.normals[:, 2] > 0.9).all()
    assert (made.topology.faces[:, 3] >= 0).all()


def test_a_patch_lies_on_the_clay_and_takes_a_triangle_where_it_must() -> None:
    ball = make_ball(60.0, 24)
    mesh = hole(4, 4)
    p = mesh.positions.copy()
    p[:, 2] = np.sqrt(60.0**2 - p[:, 0] ** 2 - p[:, 1] ** 2)
    mesh = mesh.with_positions(p)
    mesh.refresh_all()
    made = patched(mesh, inner_rim(mesh), Ground([ball])).mesh
    assert np.abs(np.linalg.norm(made.positions, axis=1) - 60).max() < 0.4
    rim = np.flatnonzero(inner_rim(mesh))
    odd = m.collapsed(mesh, np.isin(np.arange(mesh.n_vertices), _side_by_side(mesh, rim))).mesh
    made = patched(odd, inner_rim(odd), Ground([ball])).mesh
    assert (made.topology.faces[:, 3] < 0).sum() == (odd.topology.faces[:, 3] < 0).sum() + 1
    judged(made, closed=False)


def _side_by_side(mesh: Mesh, rim: AnyArray) -> AnyArray:
    """Two vertices of a rim with an edge between them."""
    way = next(one for one in open_rims(mesh) if one[0] in rim)
    return np.array(way[1:3])


def test_nothing_is_foretold_where_no_rim_is_open() -> None:
    assert foretold(cube(2), np.ones(26, bool)) == []


def test_vertices_are_welded_collapsed_and_joined_by_a_face() -> None:
    sheet = make_sheet(4)
    rng = np.random.default_rng(1)
    halves = [m.without(sheet, middles(sheet)[:, 0] * side > 0).mesh for side in (1, -1)]
    both = Mesh.from_faces(
        np.concatenate([halves[0].positions, halves[1].positions + np.float32(0.01)]),
        np.concatenate([halves[0].topology.faces, halves[1].topology.faces + halves[0].n_vertices]),
    )
    whole = m.welded_near(both, np.ones(both.n_vertices, bool), 0.1)
    assert len(open_rims(whole.mesh)) == 1
    with pytest.raises(MeshError, match="so near"):
        m.welded_near(sheet, np.ones(sheet.n_vertices, bool), 0.1)
    few = np.zeros(sheet.n_vertices, bool)
    few[sheet.topology.faces[4]] = True
    made = m.collapsed(sheet, few)
    assert made.mesh.n_vertices == sheet.n_vertices - 3
    assert made.marked.sum() == 1
    judged(made.mesh, closed=False)
    gone = np.zeros(sheet.topology.n_faces, bool)
    gone[4] = True
    holed = m.without(sheet, gone).mesh
    corners = np.array(
        [
            np.argmin(np.linalg.norm(holed.positions - sheet.positions[v], axis=1))
            for v in sheet.topology.faces[4]
        ]
    )
    chosen = np.zeros(holed.n_vertices, bool)
    chosen[rng.permutation(corners)] = True
    back = m.face_between(holed, chosen)
    assert back.mesh.topology.n_faces == sheet.topology.n_faces
    judged(back.mesh, closed=False)
    assert (back.mesh.normals[:, 2] > 0.9).all()


def test_a_loop_that_was_cut_is_dissolved_again() -> None:
    mesh = cube(2)
    cut = m.loop_cut(mesh, edge_at(mesh, (10, 10, 5)), 0.5)
    edges = Edges.of(cut.mesh.topology)
    made = m.dissolved(cut.mesh, cut.marked[edges.ends].all(axis=1))
    judged(made.mesh)
    assert made.mesh.topology.n_faces == mesh.topology.n_faces
    assert made.mesh.n_vertices == mesh.n_vertices
    # Two triangles become a quad.
    split = m.split_quads(mesh, top(mesh)).mesh
    edges = Edges.of(split.topology)
    threes = split.topology.faces[:, 3] < 0
    diagonal = edges.inner & threes[edges.sides[:, 0]] & threes[np.maximum(edges.sides[:, 1], 0)]
    long = np.linalg.norm(np.diff(split.positions[edges.ends], axis=1)[:, 0], axis=1)
    assert m.dissolved(split, diagonal & (long > 12)).mesh.topology.n_faces == mesh.topology.n_faces


def test_edges_are_spun_and_faces_turned() -> None:
    sheet = make_sheet(4)
    edge = edge_at(sheet, (0, 2.5, 0))
    made = m.spun(sheet, edge)
    judged(made.mesh, closed=False)
    assert made.mesh.topology.n_faces == sheet.topology.n_faces
    assert np.isclose(judged(made.mesh, closed=False).area, 400, rtol=1e-5)
    with pytest.raises(MeshError, match="open edge"):
        m.spun(sheet, int(np.flatnonzero(~Edges.of(sheet.topology).inner)[0]))
    every = np.ones(sheet.topology.n_faces, bool)
    assert (m.turned(sheet, every).mesh.normals[:, 2] < -0.9).all()


@pytest.mark.parametrize("n", [1, 2])
def test_edges_of_a_cube_are_bevelled(n: int) -> None:
    mesh = cube(n)
    edges = Edges.of(mesh.topology)
    made = m.bevelled(mesh, sharp(mesh, edges, 60), 4.0)
    judge = judged(made.mesh)
    assert 0.85 * 8000 < judge.volume < 8000
    # Nothing reaches past where it was, and corners are cut.
    assert np.abs(made.mesh.positions).max() <= 10 + 1e-3
    assert np.linalg.norm(made.mesh.positions, axis=1).max() < np.sqrt(300) - 1
    one = m.bevelled(mesh, np.arange(len(edges.ends)) == edge_at(mesh, (10, 10, 5 if n == 2 else 0)), 3.0)
    judged(one.mesh)


def test_a_loop_slides_and_a_net_relaxes() -> None:
    mesh = cube(4)
    edges = Edges.of(mesh.topology)
    flat = np.ptp(mesh.positions[edges.ends][:, :, 2], axis=1) < 1e-3
    loop = flat & (np.abs(mesh.positions[edges.ends][:, :, 2].mean(axis=1)) < 1e-3) & (np.abs(mesh.positions[edges.ends]).max(axis=(1, 2)) > 9)  # fmt: skip
    moved = m.slid(mesh, loop, 0.5)
    rows = np.unique(edges.ends[loop])
    assert np.allclose(np.abs(moved[rows, 2]), 2.5)
    assert np.allclose(np.ptp(moved[rows, 2]), 0)
    back = m.slid(mesh, loop, -0.5)
    assert np.allclose(back[rows, 2], -moved[rows, 2])
    sheet = make_sheet(8)
    rng = np.random.default_rng(3)
    inner = sheet.topology.border == 0
    rough = sheet.positions.copy()
    rough[inner, :2] += rng.normal(0, 1.2, (int(inner.sum()), 2)).astype(np.float32)
    rough_mesh = sheet.with_positions(rough)
    calm = m.relaxed_net(rough_mesh, np.zeros(len(rough), bool), 120)
    assert np.abs(calm - sheet.positions)[inner].max() < 0.3 * np.abs(rough - sheet.positions)[inner].max()
    assert np.allclose(calm[~inner], sheet.positions[~inner], atol=1e-3)


OPERATIONS: dict[str, Callable[[Mesh], Made]] = {
    "extrude": lambda mesh: m.extruded(mesh, top(mesh), 3.0),
    "inset": lambda mesh: m.inset(mesh, top(mesh), 0.4),
    "loop": lambda mesh: m.loop_cut(mesh, edge_at(mesh, (10, 10, 5)), 0.5),
    "split": lambda mesh: m.split_quads(mesh, top(mesh)),
    "spin": lambda mesh: m.spun(mesh, edge_at(mesh, (0, 5, 10))),
    "bevel": lambda mesh: m.bevelled(mesh, sharp(mesh, Edges.of(mesh.topology), 60), 2.0),
    "without": lambda mesh: m.without(mesh, top(mesh)),
    "grow": lambda mesh: grown(m.without(mesh, top(mesh)).mesh, np.zeros(0, bool), 2.0, None),
}


@pytest.mark.parametrize("how", OPERATIONS)
def test_values_go_along(how: str) -> None:
    mesh = cube(2)
    mesh.need("mask")[:] = np.clip((mesh.positions[:, 2] + 10) / 20, 0, 1)
    mesh.need("regions")[:] = np.where(middles(mesh)[:, 2] > 0, 4, 2)
    made = OPERATIONS[how](mesh).mesh
    low = made.positions[:, 2] < -9.9
    assert np.allclose(made.value("mask")[low], 0, atol=0.2)
    assert set(np.unique(made.value("regions")).tolist()) <= {0, 2, 4}
    below = middles(made)[:, 2] < -9
    assert (made.value("regions")[below] == 2).mean() > 0.5


def test_what_stays_keeps_its_places_in_the_picture() -> None:
    mesh = cube(2)
    mesh.uv = np.arange(mesh.topology.n_faces * 8).reshape(-1, 8).astype(np.float32)
    made = m.extruded(mesh, top(mesh), 3.0).mesh
    kept = {tuple(row) for row in mesh.uv[~top(mesh)].tolist()}
    now = {tuple(row) for row in made.uv.tolist() if any(row)}  # type: ignore[union-attr]
    assert now <= kept
    assert len(now) >= 8


def test_what_cannot_be_done_is_said() -> None:
    mesh = cube(2)
    no_face, no_vertex = np.zeros(mesh.topology.n_faces, bool), np.zeros(mesh.n_vertices, bool)
    no_edge = np.zeros(len(Edges.of(mesh.topology).ends), bool)
    for call in (
        lambda: m.extruded(mesh, no_face, 1), lambda: m.inset(mesh, no_face, 0.5), lambda: m.bridged(mesh, no_face, no_vertex),
        lambda: patched(mesh, ~no_vertex), lambda: m.welded_near(mesh, no_vertex, 1), lambda: m.collapsed(mesh, no_vertex),
        lambda: m.dissolved(mesh, no_edge), lambda: m.split_quads(mesh, no_face), lambda: m.turned(mesh, no_face),
        lambda: m.without(mesh, ~no_face), lambda: m.bevelled(mesh, no_edge, 1), lambda: m.face_between(mesh, ~no_vertex),
        lambda: m.slid(mesh, no_edge, 0.5), lambda: grown(mesh, no_vertex, 1, None),
    ):  # fmt: skip
        with pytest.raises(MeshError):
            call()


# -- drawn --------------------------------------------------------------------------------------------------


def test_a_strip_lies_on_the_clay_and_looks_out() -> None:
    clay = make_ball(50.0, 24)
    ground = Ground([clay])
    turn = np.linspace(-1, 1, 60)
    line = 50 * np.stack([np.sin(turn), 0.2 * turn, np.cos(turn)], axis=1)
    made = strip(line, 8.0, ground)
    assert (made.topology.faces[:, 3] >= 0).all()
    assert made.topology.n_faces == round(np.linalg.norm(np.diff(line, axis=0), axis=1).sum() / 8)
    assert np.abs(np.linalg.norm(made.positions, axis=1) - 50).max() < 0.6
    assert (np.einsum("nd,nd->n", made.normals, made.positions) > 0).all()
    sides = np.linalg.norm(np.diff(made.positions[Edges.of(made.topology).ends], axis=1)[:, 0], axis=1)
    assert 5 < sides.min() < sides.max() < 11
    with pytest.raises(MeshError, match="shorter"):
        strip(line[:4], 8.0, ground)


def test_rings_are_closed_and_rows_grow_from_them_until_they_meet() -> None:
    clay = make_ball(50.0, 24)
    ground = Ground([clay])
    turn = np.linspace(0, 2 * np.pi, 80, endpoint=False)
    loop = np.stack([40 * np.cos(turn), np.full(80, 30.0), 40 * np.sin(turn)], axis=1)
    band = ring(loop, 12, 10.0, ground)
    assert len(open_rims(band)) == 2
    assert (np.einsum("nd,nd->n", band.normals, band.positions) > 0).all()
    made = grown(band, band.positions[:, 1] < 30, 9.0, ground)
    assert made.mesh.topology.n_faces == 24
    assert made.marked.sum() == 12
    assert np.abs(np.linalg.norm(made.mesh.positions, axis=1) - 50).max() < 0.6
    judged(made.mesh, closed=False)


def test_strips_side_by_side_become_one_net() -> None:
    ground = Ground([make_sheet(40)])
    one = strip(np.array([[-40.0, 0, 0], [40, 0, 0]]), 10.0, ground)
    two = strip(np.array([[-40.0, 10.5, 0], [40, 10.5, 0]]), 10.0, ground)
    net = joined(one, two, 4.0)
    assert net.topology.n_faces == 16
    assert len(open_rims(net)) == 1
    assert net.n_vertices == 27
    apart = joined(one, strip(np.array([[-40.0, 40, 0], [40, 40, 0]]), 10.0, ground), 4.0)
    assert len(open_rims(apart)) == 2


def arc(first: float, last: float, up: float) -> np.ndarray:
    """A line over the front of a ball of 200 mm radius, by angles."""
    t = np.linspace(first, last, 40)
    return 200.0 * np.stack([np.sin(t) * np.cos(up), 0 * t + np.sin(up), np.cos(t) * np.cos(up)], axis=1)


def test_a_strip_takes_the_vertices_of_the_rim_that_it_lies_against() -> None:
    """Drawn beside another of other faces, a little aslant, and longer than that one."""
    ground = Ground([make_ball(200.0, 80)])
    one = strip(arc(-0.3, 0.3, 0.0), 14.0, ground)
    two = strip(
        arc(-0.45, 0.4, 0.065),
        12.0,
        ground,
        rims=[one.positions[rim].astype(float) for rim in open_rims(one)],
    )
    both = joined(one, two, 1.0)
    # All along the first's side, and nowhere a face that was pulled into nothing.
    shared = one.n_vertices + two.n_vertices - both.n_vertices
    assert shared == one.n_vertices // 2
    assert both.topology.n_faces == one.topology.n_faces + two.topology.n_faces
    edges = np.linalg.norm(np.diff(both.positions[both.topology.faces], axis=1), axis=2)
    assert 4.0 < edges.min() < edges.max() < 24.0
    assert len(open_rims(both)) == 1
    alone = strip(arc(-0.45, 0.4, 0.065), 12.0, ground)
    assert alone.n_vertices != two.n_vertices or not np.array_equal(alone.positions, two.positions)


def test_a_round_strip_takes_all_vertices_of_the_round_that_it_lies_about() -> None:
    ground = Ground([make_ball(200.0, 80)])
    t = np.linspace(0, 2 * np.pi, 48, endpoint=False)

    def loop(wide: float) -> np.ndarray:
        at = np.stack([wide * np.cos(t), 0.6 * wide * np.sin(t), 0 * t + 200.0], axis=1)
        return 200.0 * at / np.linalg.norm(at, axis=1)[:, None]

    one = strip(loop(50.0), 10.0, ground, True)
    rims = [one.positions[rim].astype(float) for rim in open_rims(one)]
    two = strip(loop(61.0), 10.0, ground, True, rims)
    both = joined(one, two, 1.0)
    assert one.n_vertices + two.n_vertices - both.n_vertices == one.n_vertices // 2
    assert len(open_rims(both)) == 2
    edges = np.linalg.norm(np.diff(both.positions[both.topology.faces], axis=1), axis=2)
    assert 3.0 < edges.min() < edges.max() < 22.0


def test_a_strip_that_only_touches_a_rim_with_its_end_keeps_its_own_measure() -> None:
    ground = Ground([make_ball(200.0, 80)])
    one = strip(arc(-0.3, 0.3, 0.0), 14.0, ground)
    rims = [one.positions[rim].astype(float) for rim in open_rims(one)]
    line = np.stack([arc(0.0, 0.0, up)[0] for up in np.linspace(0.1, 0.4, 20)])
    assert np.array_equal(strip(line, 12.0, ground, rims=rims).positions, strip(line, 12.0, ground).positions)


def test_a_net_is_put_back_onto_the_clay() -> None:
    clay = make_ball(50.0, 24)
    net = make_ball(53.0, 6)
    few = net.positions[:, 0] > 0
    moved = snapped(net, few, Ground([clay]))
    far = np.linalg.norm(moved, axis=1)
    assert np.abs(far[few] - 50).max() < 0.6
    assert np.allclose(far[~few], 53, atol=1e-3)


def test_ways_and_rims() -> None:
    sheet = make_sheet(2)
    (rim,) = chains_of(rims_of(sheet.topology.faces))
    assert len(rim) == 8
    assert chains_of(np.array([[3, 4], [4, 5], [1, 3]])) == [[1, 3, 4, 5]]
    d = Draft.of(sheet)
    d.take(np.ones(4, bool))
    with pytest.raises(MeshError, match="nothing would be left"):
        d.done()


# -- mirrored lines -------------------------------------------------------------------------------------

MIRROR = (np.diag([-1.0, 1.0, 1.0]), np.zeros(3))


def over_ball(places: AnyArray, radius: float = 60.0) -> AnyArray:
    """Places (k, 2) seen from before, on a ball."""
    p = np.asarray(places, float)
    return np.concatenate([p, np.sqrt(radius**2 - (p**2).sum(axis=1, keepdims=True))], axis=1)


def loop_about(x: float, y: float, r: float, n: int = 40, wobble: float = 0.0) -> AnyArray:
    at = np.linspace(0, 2 * np.pi, n, endpoint=False)
    r = r * (1 + wobble * np.sin(3 * at + 1))
    return over_ball(np.stack([x + r * np.cos(at), y + r * np.sin(at)], axis=1))


def test_a_line_at_one_side_has_its_image_at_the_other() -> None:
    line = loop_about(25.0, 10.0, 10.0)
    lines = with_images(line, True, [MIRROR])
    assert len(lines) == 2
    assert np.allclose(lines[1], line * [-1, 1, 1])
    assert len(with_images(line, True, [])) == 1
    four = [MIRROR, (np.diag([1.0, -1.0, 1.0]), np.zeros(3)), (np.diag([-1.0, -1.0, 1.0]), np.zeros(3))]
    assert len(with_images(line, True, four)) == 4


def test_a_loop_across_the_mirror_is_made_of_one_side_and_its_image() -> None:
    line = loop_about(1.5, -10.0, 14.0, wobble=0.15)
    (whole,) = with_images(line, True, [MIRROR])
    far, _ = cKDTree(whole * [-1, 1, 1]).query(whole)
    assert far.max() < 1e-9
    assert np.abs(whole[:, 0]).min() < 1e-9
    ground = Ground([make_ball(60.0, 40)])
    band = strip(whole, 5.0, ground, True)
    assert len(open_rims(band)) == 2
    far, _ = cKDTree(band.positions * [-1, 1, 1]).query(band.positions)
    assert far.max() < 0.5
    judged(band, closed=False)


@pytest.mark.parametrize("back", [False, True])
def test_an_open_line_across_the_mirror_is_mirrored_about_its_crossing(back: bool) -> None:
    x = np.linspace(-8, 30, 20)
    line = over_ball(np.stack([x, 20 + 0.1 * x], axis=1))
    (whole,) = with_images(line[::-1] if back else line, False, [MIRROR])
    assert abs(abs(whole[0, 0]) - 30) < 1e-9
    assert np.allclose(np.sort(whole[:, 0]), np.sort(-whole[:, 0]))
    assert (np.diff(whole[:, 0]) > 0).all() or (np.diff(whole[:, 0]) < 0).all()
