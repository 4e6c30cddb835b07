"""Edges that stay sharp: against the rules written out slowly, through levels, modelling and files."""

from __future__ import annotations

from collections import defaultdict
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.net import modelling as net
from kneten.core.net.modelling import SHARPEST, creased
from kneten.core.primitives import lattice
from kneten.core.stack import Stack
from kneten.core.subdivide import CREASE, FOR_EVER, Step, blunter, crease_of_edges, sharper, subdivide
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges
from kneten.core.values import turned_over
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.formats.exchange import pieces_of, read_file, write_file
from kneten.formats.space import Space
from kneten.formats.usd import creases_from_edges
from tests.conftest import make_ball, make_sheet


def cube(cuts: int = 1) -> Mesh:
    """A cube of 20 mm about the middle."""
    points, faces = lattice(cuts, cuts, cuts)
    return Mesh.from_faces((20.0 * points / cuts - 10.0).astype(np.float32), faces)


def edges_where(mesh: Mesh, wanted: AnyArray) -> AnyArray:
    """Which edges (m,) bool have both ends among some vertices (n,) bool."""
    return np.asarray(wanted[Edges.of(mesh.topology).ends].all(axis=1))


def with_creases(mesh: Mesh, marked: AnyArray, times: float) -> Mesh:
    out = mesh.copy()
    out.creases = creased(mesh, marked, times)
    return out


def by_edge(mesh: Mesh) -> dict[tuple[int, int], int]:
    """How sharp edges stay, by their ends."""
    edges = Edges.of(mesh.topology)
    sharp = crease_of_edges(edges.of_face, mesh.topology.faces, edges.sides, mesh.creases)
    if not len(sharp):
        return {}
    ends = np.sort(edges.ends, axis=1)
    return {(a, b): s for (a, b), s in zip(ends.tolist(), sharp.tolist(), strict=True) if s}


def by_place(mesh: Mesh) -> dict[tuple[float, ...], int]:
    """How sharp edges stay, by their middles."""
    p = mesh.positions.astype(np.float64)
    return {tuple(np.round((p[a] + p[b]) / 2, 3).tolist()): s for (a, b), s in by_edge(mesh).items()}


def slowly(
    p: F64, faces: list[list[int]], sharp: dict[tuple[int, int], float]
) -> tuple[F64, list[list[int]], dict[tuple[int, int], float]]:
    """One subdivision by the rules of the paper, each point by itself; points come vertices, edges, faces."""
    at: dict[tuple[int, int], list[int]] = defaultdict(list)
    around: dict[int, list[int]] = defaultdict(list)
    for f, ring in enumerate(faces):
        for a, b in zip(ring, [*ring[1:], ring[0]], strict=True):
            at[(min(a, b), max(a, b))].append(f)
            around[a].append(f)
    middles = [p[ring].mean(axis=0) for ring in faces]
    keys = list(at)
    points = []
    for v in range(len(p)):
        near = [key for key in keys if v in key]
        other = {key: p[key[0] if key[1] == v else key[1]] for key in near}
        rim = [key for key in near if len(at[key]) == 1]
        held = [key for key in near if len(at[key]) == 2 and sharp.get(key, 0) > 0]
        n = len(around[v])
        if rim:
            blunt = 0.75 * p[v] + 0.125 * sum(other[key] for key in rim) if len(rim) == 2 else p[v]
        else:
            mean_faces = np.mean([middles[f] for f in around[v]], axis=0)
            mean_edges = np.mean([(p[v] + other[key]) / 2 for key in near], axis=0)
            blunt = (mean_faces + 2 * mean_edges + (n - 3) * p[v]) / n
        both = rim + held
        if not held or len(both) < 2:
            points.append(blunt)
            continue
        firm = p[v] if len(both) > 2 else 0.75 * p[v] + 0.125 * sum(other[key] for key in both)
        share = min(float(np.mean([sharp[key] for key in held])), 1.0)
        points.append(share * firm + (1 - share) * blunt)
    for key in keys:
        a, b = key
        middle = (p[a] + p[b]) / 2
        if len(at[key]) == 1:
            points.append(middle)
            continue
        blunt = (p[a] + p[b] + middles[at[key][0]] + middles[at[key][1]]) / 4
        share = min(sharp.get(key, 0.0), 1.0)
        points.append(share * middle + (1 - share) * blunt)
    points += middles
    number = {key: len(p) + k for k, key in enumerate(keys)}
    fresh, left = [], {}
    for f, ring in enumerate(faces):
        k = len(ring)
        for c in range(k):
            here = number[(min(ring[c], ring[(c + 1) % k]), max(ring[c], ring[(c + 1) % k]))]
            last = number[(min(ring[c - 1], ring[c]), max(ring[c - 1], ring[c]))]
            fresh.append([ring[c], here, len(p) + len(keys) + f, last])
    for (a, b), weight in sharp.items():
        if weight > 1:
            e = number[(a, b)]
            left[(min(a, e), max(a, e))] = left[(min(b, e), max(b, e))] = weight - 1
    return np.array(points), fresh, left


@pytest.mark.parametrize("shape", ["cube", "ball of triangles", "sheet"])
def test_subdividing_follows_the_rules_written_out(shape: str) -> None:
    mesh = {
        "cube": cube(2),
        "ball of triangles": make_ball(10.0, 3, triangles=True),
        "sheet": make_sheet(4),
    }[shape]
    rng = np.random.default_rng(5)
    edges = Edges.of(mesh.topology)
    weights = rng.choice([0, 0, 0, 10, 25, 40, 60, FOR_EVER], len(edges.ends)).astype(np.uint8)
    weights[~edges.inner] = 0
    mesh = mesh.copy()
    mesh.creases = np.where(mesh.topology.faces >= 0, weights[edges.of_face], 0).astype(np.uint8)
    p = mesh.positions.astype(np.float64)
    faces = [[v for v in row if v >= 0] for row in mesh.topology.faces.tolist()]
    sharp = {
        key: np.inf if s == FOR_EVER else s / CREASE
        for key, s in by_edge(mesh).items()
    }  # fmt: skip
    for _ in range(3):
        mesh = subdivide(mesh, Progress())
        p, faces, sharp = slowly(p, faces, sharp)
        far, which = cKDTree(p).query(mesh.positions)
        assert far.max() < 1e-4
        assert len(np.unique(which)) == len(p) == mesh.n_vertices


def test_a_cube_whose_edges_are_sharp_for_ever_stays_a_cube() -> None:
    mesh = cube()
    mesh = with_creases(mesh, np.ones(len(Edges.of(mesh.topology).ends), bool), SHARPEST)
    for _ in range(4):
        mesh = subdivide(mesh, Progress())
    assert np.allclose(np.abs(mesh.positions).max(axis=1), 10)
    assert mesh.n_vertices == 6 * 16 * 16 + 2


def test_the_more_often_an_edge_stays_sharp_the_nearer_the_clay_stays_to_it() -> None:
    far = []
    for times in (0.0, 0.5, 1.0, 2.0, 3.5, SHARPEST):
        mesh = cube()
        mesh = with_creases(mesh, np.ones(len(Edges.of(mesh.topology).ends), bool), times)
        for _ in range(4):
            mesh = subdivide(mesh, Progress())
        far.append(float(np.linalg.norm(mesh.positions, axis=1).max()))
    assert (np.diff(far) > 0.1).all()
    assert far[-1] == pytest.approx(10 * 3**0.5)


def test_some_vertices_come_out_as_all_do_to_the_bit() -> None:
    mesh = make_ball(10.0, 6)
    mesh = with_creases(mesh, edges_where(mesh, np.abs(mesh.positions[:, 1]) < 3), 1.4)
    assert mesh.creases is not None
    step = Step.of(mesh.topology, mesh.creases)
    whole = step.refine(mesh.topology, mesh.positions, True, np.float32)
    some = np.zeros_like(whole)
    rows = np.arange(0, len(whole), 3, dtype=np.int32)
    step.refine_some(mesh.topology, mesh.positions, rows, some)
    assert np.array_equal(some[rows], whole[rows])
    assert (step.refine(mesh.topology, mesh.positions, True, np.float32) != Step.of(mesh.topology).refine(
        mesh.topology, mesh.positions, True, np.float32)).any()  # fmt: skip


def test_what_is_taken_off_and_put_back_is_as_it_was() -> None:
    weights = np.array([0, 10, 25, 40, 200, 254, FOR_EVER], np.uint8)
    assert blunter(weights).tolist() == [0, 0, 0, 15, 175, 229, 255]
    assert sharper(blunter(weights)).tolist() == [0, 0, 0, 40, 200, 254, 255]


# -- levels -------------------------------------------------------------------------------------


def ringed() -> Mesh:
    """A cube of 3 x 3 x 3 whose topmost ring stays sharp once, the lowest for ever."""
    mesh = cube(3)
    top = with_creases(mesh, edges_where(mesh, mesh.positions[:, 1] > 9.9), 1)
    return with_creases(top, edges_where(mesh, mesh.positions[:, 1] < -9.9), SHARPEST)


def test_levels_keep_creases_on_the_way_down_and_up() -> None:
    mesh = ringed()
    assert mesh.creases is not None
    first = mesh.creases.copy()
    stack = Stack.of(mesh)
    for _ in range(2):
        stack, mesh = stack.added(mesh, Progress())
    finest = mesh.positions.copy()
    stack, mesh = stack.stepped(mesh, 0)
    assert np.array_equal(mesh.creases, first)
    stack, mesh = stack.stepped(mesh, 2)
    assert np.array_equal(mesh.positions, finest)
    assert np.allclose(subdivide(subdivide(ringed(), Progress()), Progress()).positions, finest)


def test_a_level_is_moved_with_its_creases() -> None:
    mesh = ringed()
    stack = Stack.of(mesh)
    stack, mesh = stack.added(mesh, Progress())
    stack, mesh = stack.stepped(mesh, 0)
    mesh.positions[:, 1] *= 2
    stack, mesh = stack.stepped(mesh, 1)
    tall = ringed()
    tall.positions[:, 1] *= 2
    assert np.allclose(mesh.positions, subdivide(tall, Progress()).positions, atol=1e-4)


@pytest.mark.parametrize("level", [0, 1, 2])
def test_a_project_with_creased_levels_is_read_as_it_was(level: int, tmp_path: Path) -> None:
    mesh = ringed()
    stack = Stack.of(mesh)
    for _ in range(2):
        stack, mesh = stack.added(mesh, Progress())
    stack, mesh = stack.stepped(mesh, level)
    path = tmp_path / "ring.kneten"
    save_project(Project(Scene((Part("Ring", mesh, stack=stack),))), path)
    (part,) = open_project(path).scene.parts
    assert part.stack is not None
    assert np.array_equal(part.mesh.creases, mesh.creases)
    for to in (2, 0, 1):
        ours, theirs = stack.stepped(mesh, to)[1], part.stack.stepped(part.mesh, to)[1]
        assert np.array_equal(ours.positions, theirs.positions)
        assert np.array_equal(ours.creases, theirs.creases)


# -- modelling ----------------------------------------------------------------------------------


def test_creasing_needs_an_edge_with_two_faces() -> None:
    sheet = make_sheet(3)
    edges = Edges.of(sheet.topology)
    with pytest.raises(MeshError, match="two faces"):
        creased(sheet, ~edges.inner, 2)
    assert creased(sheet, edges.inner, 0) is None


def test_what_is_modelled_keeps_the_creases_of_edges_it_does_not_touch() -> None:
    mesh = ringed()
    before = by_place(mesh)
    top = np.flatnonzero(mesh.positions[mesh.topology.faces].mean(axis=1)[:, 1] > 9.9)
    sides = np.abs(mesh.positions[mesh.topology.faces].mean(axis=1)[:, 2] - 10) < 0.1
    for made in (
        net.inset(mesh, sides, 0.4),
        net.extruded(mesh, sides, 5.0),
        net.split_quads(mesh, sides),
        net.turned(mesh, sides),
        net.without(mesh, sides),
    ):
        after = by_place(made.mesh)
        kept = [key for key in before if key[2] < 9.9]
        assert len(kept) > 20
        assert all(after.get(key) == before[key] for key in kept)
    assert len(top) == 9


def test_halves_of_a_cut_edge_stay_as_sharp() -> None:
    mesh = ringed()
    edges = Edges.of(mesh.topology)
    ends = mesh.positions[edges.ends]
    on_top = (ends[:, :, 1] > 9.9).all(axis=1) & (ends[:, :, 2] > 9.9).all(axis=1)
    edge = int(np.flatnonzero(on_top)[1])
    made = net.loop_cut(mesh, edge, 0.3)
    assert made.mesh.n_vertices == mesh.n_vertices + 12
    total = {}
    for one in (mesh, made.mesh):
        p = one.positions.astype(np.float64)
        total[one.n_vertices] = [
            sum(np.linalg.norm(p[a] - p[b]) for (a, b), s in by_edge(one).items() if s == weight)
            for weight in (CREASE, FOR_EVER)
        ]
    first, second = total.values()
    assert np.allclose(first, second, atol=1e-3)


def test_what_is_lifted_takes_its_creases_along() -> None:
    mesh = cube(3)
    top = mesh.positions[mesh.topology.faces].mean(axis=1)[:, 1] > 9.9
    rim = edges_where(mesh, mesh.positions[:, 1] > 9.9) & edges_where(
        mesh, np.abs(mesh.positions[:, [0, 2]]).max(axis=1) > 9.9
    )
    mesh = with_creases(mesh, rim, 3)
    made = net.extruded(mesh, top, 5.0)
    heights = sorted({round(key[1]) for key in by_place(made.mesh)})
    assert heights == [10, 15]
    assert set(by_edge(made.mesh).values()) == {3 * CREASE}


def test_a_bevel_takes_the_place_of_its_creases() -> None:
    mesh = cube(3)
    ring = edges_where(
        mesh, (mesh.positions[:, 1] > 9.9) & (np.abs(mesh.positions[:, [0, 2]]).max(axis=1) > 9.9)
    )
    mesh = with_creases(mesh, np.ones(len(ring), bool), 1)
    mesh = with_creases(mesh, ring, 4)
    made = net.bevelled(mesh, ring, 1.0)
    assert 4 * CREASE not in by_edge(made.mesh).values()
    assert CREASE in by_edge(made.mesh).values()


def test_welded_edges_are_as_sharp_as_the_sharper_one() -> None:
    sheet = make_sheet(4)
    edges = Edges.of(sheet.topology)
    middle = (np.abs(sheet.positions[edges.ends][:, :, 0]) < 0.1).all(axis=1)
    sheet = with_creases(sheet, middle, 2)
    assert sheet.creases is not None
    close = np.abs(sheet.positions[:, 1] - 5) < 0.1
    close &= np.abs(sheet.positions[:, 0]) < 5.1
    made = net.welded_near(sheet, close, 6.0)
    assert made.mesh.n_vertices < sheet.n_vertices
    assert set(by_edge(made.mesh).values()) == {2 * CREASE}


def test_seams_stay_through_modelling_too() -> None:
    mesh = cube(3)
    edges = Edges.of(mesh.topology)
    marked = edges_where(mesh, mesh.positions[:, 1] < -9.9)
    mesh.seams = edges.bits(marked, mesh.topology.faces)
    top = mesh.positions[mesh.topology.faces].mean(axis=1)[:, 1] > 9.9
    made = net.extruded(mesh, top, 5.0).mesh
    now = Edges.of(made.topology)
    assert made.seams is not None
    assert now.marked(made.seams, made.topology.faces).sum() == marked.sum()


def test_creases_turn_over_with_their_faces() -> None:
    mesh = ringed()
    over = turned_over({"creases": mesh.creases}, mesh.topology.faces)["creases"]
    faces = np.where(mesh.topology.faces[:, 3:] >= 0, mesh.topology.faces[:, [0, 3, 2, 1]], 0)
    turned = Mesh.from_faces(mesh.positions, faces, creases=over)
    assert by_place(turned) == by_place(mesh)


# -- files --------------------------------------------------------------------------------------


def test_usd_holds_creases(tmp_path: Path) -> None:
    path = tmp_path / "ring.usda"
    write_file(path, pieces_of([Part("Ring", ringed())], Space("mm")), space=Space("mm"))
    text = path.read_text()
    assert "creaseSharpnesses" in text
    assert 'subdivisionScheme = "catmullClark"' in text
    ((_, mesh, _),), _ = read_file(path)
    assert by_place(mesh) == by_place(ringed())


def test_ways_of_several_edges_with_one_sharpness_or_one_each_are_read() -> None:
    faces = np.array([[0, 1, 4, 3], [1, 2, 5, 4]], np.int32)
    ways, lengths = np.array([0, 1, 2, 1, 4]), np.array([3, 2])
    one = creases_from_edges(faces, ways, lengths, np.array([2.0, 10.0]))
    assert one is not None
    assert one.tolist() == [[50, 255, 0, 0], [50, 0, 0, 255]]
    each = creases_from_edges(faces, ways, lengths, np.array([1.0, 2.0, 3.0]))
    assert each is not None
    assert each.tolist() == [[25, 75, 0, 0], [50, 0, 0, 75]]
    for bad in (
        (ways[:4], lengths, np.ones(2)),
        (ways, lengths, np.ones(4)),
        (ways, np.array([4, 1]), np.ones(2)),
    ):
        assert creases_from_edges(faces, *bad) is None
