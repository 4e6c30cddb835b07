"""UVs: around faces through every operation, islands laid flat, measured, packed, changed; seams cut and found."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
import xatlas
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.arrays import Progress
from kneten.core.carry import CarryWish, carried_over, source_of
from kneten.core.health import examined, repaired
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, picked
from kneten.core.placing import kneaded, turned_out
from kneten.core.primitives import ball, lattice
from kneten.core.rebuild import rebuilt
from kneten.core.regions import middles
from kneten.core.restriction import handed_down
from kneten.core.seam import made_whole
from kneten.core.solid import made_solid
from kneten.core.stack import Stack
from kneten.core.subdivide import Step, subdivide
from kneten.core.uv import edit
from kneten.core.uv.islands import Edges, islands_of, islands_of_uv
from kneten.core.uv.measure import (
    fullness,
    laid_over,
    measured,
    over_itself,
    overlapping,
    texels_per_mm,
    tiles_of,
)
from kneten.core.uv.pack import PackWish, packed
from kneten.core.uv.raster import filled, filled_rows, in_texels, shares_at
from kneten.core.uv.seams import found_seams, loop_of, region_borders, sharp, taken_off, way_between
from kneten.core.uv.unwrap import folded_free, opened, unwrapped
from kneten.core.values import taken_round
from tests.conftest import make_ball, make_sheet

DONE = Progress()


def around(mesh: Mesh) -> Mesh:
    """UVs told by places: x and y of each corner, so that wherever a corner goes, it can be seen whose it was."""
    p = np.concatenate([mesh.positions[:, :2], np.zeros((1, 2), np.float32)])
    mesh.uv = (p[mesh.topology.faces] + 1000).reshape(-1, 8).astype(np.float32)
    mesh.uv.reshape(-1, 4, 2)[mesh.topology.faces < 0] = 0
    return mesh


def told(mesh: Mesh, near: float = 1e-3) -> None:
    """Each corner still has what its place says."""
    has = mesh.topology.faces >= 0
    assert mesh.uv is not None
    found = mesh.uv.reshape(-1, 4, 2)[has] - 1000
    assert np.abs(found - mesh.positions[mesh.topology.faces[has], :2]).max() < near


def mixed_ball() -> Mesh:
    """Quads and triangles."""
    positions, faces = ball(50.0, 6)
    faces = np.concatenate([faces[::2], np.c_[faces[1::2][:, :3], -np.ones(len(faces) // 2, int)],
                            np.c_[faces[1::2][:, [0, 2, 3]], -np.ones(len(faces) // 2, int)]])  # fmt: skip
    return Mesh.from_faces(positions, faces.astype(np.int32))


def of_flipping() -> Mesh:
    mesh = around(mixed_ball())
    faces = mesh.topology.faces.copy()
    faces[:3] = turned_out(faces)[:3]
    raw = mesh.uv.reshape(-1, 4, 2).copy()  # type: ignore[union-attr]
    p = np.concatenate([mesh.positions[:, :2] + 1000, np.zeros((1, 2), np.float32)])
    raw[:3] = p[faces[:3]]
    sick = Mesh.from_faces(mesh.positions, faces, uv=raw.reshape(-1, 8))
    faults = [fault for fault in examined(sick, DONE) if fault.kind == "flipped"]
    assert faults
    return repaired(sick, faults, DONE)


def of_rebuilding() -> Mesh:
    fine = around(subdivide(make_ball(50.0, 4), DONE))
    return rebuilt(fine, DONE)[1]


KEEPERS: dict[str, Callable[[], Mesh]] = {
    "a mirror": lambda: _unmirrored(kneaded(around(mixed_ball()), np.diag([1.0, 1.0, -1.0, 1.0]))),
    "picking faces": lambda: picked(around(mixed_ball()), middles(mixed_ball())[:, 0] > 5),
    "one after the other": lambda: concatenated([around(mixed_ball()), around(make_ball(20.0, 4))]),
    "turning faces round": of_flipping,
    "rebuilding levels": of_rebuilding,
    "inside out": lambda: made_solid(_inside_out(), DONE),
}


def _unmirrored(mesh: Mesh) -> Mesh:
    return mesh


def _inside_out() -> Mesh:
    positions, faces = ball(50.0, 6)
    return around(Mesh.from_faces(positions, turned_out(faces)))


@pytest.mark.parametrize("how", KEEPERS)
def test_corners_keep_their_places_through(how: str) -> None:
    told(KEEPERS[how]())


def test_what_lies_on_finer_levels_is_straight_between_corners_and_comes_back_exactly() -> None:
    low = mixed_ball()
    rng = np.random.default_rng(3)
    low.uv = rng.random((low.topology.n_faces, 8)).astype(np.float32)
    low.uv.reshape(-1, 4, 2)[low.topology.faces < 0] = 0
    low.seams = np.where(low.topology.faces[:, 3] >= 0, rng.integers(0, 16, len(low.uv)), rng.integers(0, 8, len(low.uv))).astype(np.uint8)  # fmt: skip
    fine = subdivide(low, DONE)
    step = Step.of(low.topology)
    back = handed_down(step, low.topology, fine)
    assert np.array_equal(back["uv"], low.uv)
    assert np.array_equal(back["seams"], low.seams)
    # A face's area in the picture stays what it was: corners, middles of sides and of the face, nothing is smoothed.
    sizes = np.where(low.topology.faces[:, 3] >= 0, 4, 3)
    owner = np.repeat(np.arange(len(sizes)), sizes)[fine.topology.source_face]
    table = fine.uv.reshape(-1, 4, 2).astype(float)  # type: ignore[union-attr]
    area = _signed(table)
    assert np.allclose(np.bincount(owner, area), _signed(_closed(low)), atol=1e-5)


def _closed(mesh: Mesh) -> np.ndarray:
    table = mesh.uv.reshape(-1, 4, 2).astype(float)  # type: ignore[union-attr]
    return np.where((mesh.topology.faces >= 0)[:, :, None], table, table[:, :1])


def _signed(table: np.ndarray) -> np.ndarray:
    x, y = table[:, :, 0], table[:, :, 1]
    return np.asarray((x * np.roll(y, -1, 1) - np.roll(x, -1, 1) * y).sum(axis=1) / 2)


def test_levels_up_and_down_keep_uvs_and_seams() -> None:
    low = around(make_ball(50.0, 6))
    low.seams = np.full(low.topology.n_faces, 1, np.uint8)
    stack, fine = Stack.of(low).added(low, DONE)
    stack, again = stack.stepped(fine, 0)
    assert np.array_equal(again.uv, low.uv)
    assert np.array_equal(again.seams, low.seams)
    _, up = stack.stepped(again, 1)
    assert np.array_equal(up.uv, fine.uv)


def test_a_half_and_its_image_share_their_places() -> None:
    sheet = make_sheet(8)
    half = picked(sheet, middles(sheet)[:, 0] > 0)
    half = around(Mesh.from_faces(*half.source_arrays()))
    whole = made_whole(half, np.zeros(3), np.array([1.0, 0.0, 0.0]))
    has = whole.topology.faces >= 0
    x = np.abs(whole.positions[whole.topology.faces[has], 0])
    assert np.abs(whole.uv.reshape(-1, 4, 2)[has][:, 0] - 1000 - x).max() < 1e-3  # type: ignore[union-attr]


def test_corners_left_out_take_their_edges_with_them() -> None:
    quad = np.array([[0, 0, 1, 0, 1, 1, 0, 1]], np.float32)
    bits = np.array([0b1011], np.uint8)
    made = taken_round({"uv": quad, "seams": bits}, np.array([[1, 2, 3, -1]]), np.array([4]))
    assert made["uv"].tolist() == [[1, 0, 1, 1, 0, 1, 0, 0]]
    # From 1 to 2 it was a seam, from 2 to 3 none; from 3 to 1 there was no edge.
    assert made["seams"].tolist() == [0b001]
    turned = taken_round({"seams": bits}, np.array([[0, 3, 2, 1]]), np.array([4]))
    assert turned["seams"].tolist() == [0b1101]


def test_clay_of_other_faces_has_none() -> None:
    mesh = around(make_ball(50.0, 12))
    assert loosened(mesh).settled().uv is None


def test_carrying_over_takes_them_from_the_nearest_surface_and_never_across_a_seam() -> None:
    source = make_ball(100.0, 16)
    edges = Edges.of(source.topology)
    side = middles(source)[:, 2] > 0
    cut = edges.inner & (side[edges.sides[:, 0]] != side[np.maximum(edges.sides[:, 1], 0)])
    made = unwrapped(source, cut, DONE, edges)
    source.uv, _ = packed(source, made.islands, made.uv, PackWish(), DONE)
    target = make_ball(99.0, 20)
    clay = source_of(source, None, np.eye(4), DONE)
    carried = carried_over(clay, target, Stack.of(target), CarryWish(reach=10.0), DONE).mesh
    laid, was = measured(carried), measured(source)
    assert laid.there.all()
    assert laid.size.max() < 1.6 * was.size.max()
    assert laid.size.min() > 0.5 * was.size.min()
    assert (laid.turned.mean()) < 0.01


# -- laid flat -------------------------------------------------------------------------------------------


def box(size: tuple[float, float, float], count: int) -> tuple[np.ndarray, np.ndarray]:
    """A box of quads, so many each way, about the origin."""
    points, faces = lattice(count, count, count)
    return ((points / count - 0.5) * size).astype(np.float32), faces


def none(mesh: Mesh) -> np.ndarray:
    return np.zeros(len(Edges.of(mesh.topology).ends), bool)


def tube(around_it: int = 24, along: int = 10, radius: float = 20.0) -> Mesh:
    """An open tube of quads."""
    turn = np.linspace(0, 2 * np.pi, around_it, endpoint=False)
    ring = radius * np.stack([np.cos(turn), np.zeros(around_it), np.sin(turn)], axis=1)
    points = np.concatenate([ring + np.array([0, 7.0 * k, 0]) for k in range(along + 1)])
    k, j = np.meshgrid(np.arange(along), np.arange(around_it), indexing="ij")
    a, b = k * around_it + j, k * around_it + (j + 1) % around_it
    faces = np.stack([a, a + around_it, b + around_it, b], axis=-1).reshape(-1, 4)
    return Mesh.from_faces(points.astype(np.float32), faces.astype(np.int32))


def torus(n: int = 16, m: int = 10) -> Mesh:
    u, v = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.arange(m) * 2 * np.pi / m, indexing="ij")
    ring = 60 + 20 * np.cos(v)
    points = np.stack([ring * np.cos(u), ring * np.sin(u), 20 * np.sin(v)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(n), np.arange(m), indexing="ij")
    at = lambda a, b: (a % n) * m + b % m  # noqa: E731
    faces = np.stack([at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)], axis=-1).reshape(-1, 4)
    return Mesh.from_faces(points.astype(np.float32), faces.astype(np.int32))


def test_a_sheet_and_a_tube_are_laid_without_any_stretch() -> None:
    for mesh in (make_sheet(12), tube()):
        made = unwrapped(mesh, none(mesh), DONE)
        mesh.uv = made.uv
        laid = measured(mesh)
        assert np.abs(laid.size - 1).max() < 1e-3
        assert laid.skew.max() < 1.005
        assert not laid.turned.any()
        # In millimetres, as large as the clay.
        assert np.isclose(laid.flat.sum(), laid.area.sum(), rtol=1e-3)
    assert made.added == 1


@pytest.mark.parametrize(
    "make", [lambda: make_ball(50.0, 12), torus, lambda: Mesh.from_faces(*box((30.0, 20.0, 10.0), 4))]
)
def test_closed_clay_and_clay_with_handles_is_opened_and_laid_without_turning_over(
    make: Callable[[], Mesh],
) -> None:
    mesh = make()
    made = unwrapped(mesh, none(mesh), DONE)
    assert made.added == 1
    assert made.islands.count == 1
    mesh.uv = made.uv
    assert made.turned == 0
    assert not measured(mesh).turned.any()
    other = folded_free(mesh)
    mesh.uv = other.uv
    assert other.turned == 0
    assert not measured(mesh).turned.any()


def test_a_sheet_with_a_hole_needs_no_cut() -> None:
    sheet = make_sheet(12)
    mesh = Mesh.from_faces(*picked(sheet, np.linalg.norm(middles(sheet), axis=1) > 8).source_arrays())
    cuts, added = opened(mesh, Edges.of(mesh.topology), none(mesh))
    assert added == 0
    assert not (cuts & Edges.of(mesh.topology).inner).any()
    mesh.uv = unwrapped(mesh, none(mesh), DONE).uv
    assert measured(mesh).stretch()[0] < 1.001


def bad_clay() -> dict[str, Mesh]:
    """What comes in from elsewhere."""
    one = np.array([[0, 0, 0], [10, 0, 0], [0, 10, 0]], np.float32)
    three = np.array([[0, 0, 0], [0, 10, 0], [10, 0, 0], [-10, 2, 0], [0, 3, 10]], np.float32)
    flat = make_sheet(4)
    places = flat.positions.copy()
    places[flat.topology.faces[5]] = places[flat.topology.faces[5][0]]
    rng = np.random.default_rng(2)
    crossing = make_ball(50.0, 6)
    return {
        "one triangle": Mesh.from_faces(one, np.array([[0, 1, 2, -1]], np.int32)),
        "an edge of three faces": Mesh.from_faces(three, np.array([[0, 1, 2, -1], [0, 1, 3, -1], [1, 0, 4, -1]], np.int32)),
        "faces without area": flat.with_positions(places),
        "shells": concatenated([make_ball(20.0, 4), make_ball(30.0, 5), make_sheet(3)]),
        "crossing": crossing.with_positions((crossing.positions + rng.normal(0, 20, crossing.positions.shape)).astype(np.float32)),
        "a point": make_ball(50.0, 4).with_positions(np.zeros((98, 3), np.float32)),
    }  # fmt: skip


@pytest.mark.parametrize("which", list(bad_clay()))
def test_bad_clay_is_laid_all_the_same(which: str) -> None:
    mesh = bad_clay()[which]
    made = unwrapped(mesh, none(mesh), DONE)
    assert np.isfinite(made.uv).all()
    uv, _ = packed(mesh, made.islands, made.uv, PackWish(size=512), DONE)
    assert np.isfinite(uv).all()
    assert uv.min() > -1e-4
    assert uv.max() < 1 + 1e-4
    if which == "shells":
        assert made.islands.count == 3


# -- seams ------------------------------------------------------------------------------------------------


def test_ways_loops_sharp_edges_and_borders() -> None:
    mesh = tube(12, 6)
    edges = Edges.of(mesh.topology)
    p = mesh.positions
    low, high = int(np.argmin(p[:, 1] + 0.01 * p[:, 0])), int(np.argmax(p[:, 1] - 0.01 * p[:, 0]))
    way = way_between(mesh, edges, low, low)
    assert len(way) == 0
    up = np.flatnonzero((np.abs(p[:, 0] - p[low, 0]) < 1e-3) & (np.abs(p[:, 2] - p[low, 2]) < 1e-3))
    top = int(up[np.argmax(p[up, 1])])
    way = way_between(mesh, edges, low, top)
    assert len(way) == 6
    assert high != low
    # Round the tube there is a loop of twelve, along it one that ends at both rims.
    flat = np.ptp(p[edges.ends][:, :, 1], axis=1) < 1e-3
    inner = np.flatnonzero(flat & edges.inner)
    assert len(loop_of(mesh, edges, int(inner[0]))) == 12
    assert len(loop_of(mesh, edges, int(np.flatnonzero(~flat)[0]))) == 6
    cube = Mesh.from_faces(*box((20.0, 20.0, 20.0), 3))
    assert sharp(cube, Edges.of(cube.topology), 60).sum() == 36
    mesh.regions = (middles(mesh)[:, 1] > 20).astype(np.uint16)
    assert region_borders(mesh, edges).sum() == 12


def test_bits_say_the_same_from_both_sides() -> None:
    mesh = mixed_ball()
    edges = Edges.of(mesh.topology)
    rng = np.random.default_rng(5)
    marked = rng.random(len(edges.ends)) < 0.3
    assert np.array_equal(edges.marked(edges.bits(marked, mesh.topology.faces), mesh.topology.faces), marked)


def test_seams_are_found_until_little_is_stretched() -> None:
    mesh = torus(24, 14)
    edges = Edges.of(mesh.topology)
    few = found_seams(mesh, edges, none(mesh), 3.0, DONE)
    many = found_seams(mesh, edges, none(mesh), 1.15, DONE)
    off = []
    for seams in (few, many):
        made = unwrapped(mesh, seams, DONE, edges)
        mesh.uv = made.uv
        assert made.added == 0
        for rows in made.islands.members():
            assert not laid_over(mesh.uv[rows], mesh.topology.faces[rows])
        off.append(measured(mesh).stretch()[0])
    assert many.sum() > few.sum()
    assert off[1] < 1.06
    assert off[1] < off[0]


def ramp(turns: float) -> Mesh:
    """A ramp that winds up round an axis: laid flat, what is more than a turn of it comes to lie on its beginning."""
    steps, rows = round(90 * turns), 6
    angle = np.linspace(0, 2 * np.pi * turns, steps + 1)
    radius = np.linspace(30.0, 60.0, rows + 1)
    p = np.stack(
        [
            radius[None, :] * np.cos(angle)[:, None],
            radius[None, :] * np.sin(angle)[:, None],
            np.broadcast_to(3.0 * angle[:, None] / (2 * np.pi), (steps + 1, rows + 1)),
        ],
        axis=-1,
    )
    index = np.arange((steps + 1) * (rows + 1)).reshape(steps + 1, rows + 1)
    faces = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], -1).reshape(-1, 4)
    return Mesh.from_faces(p.reshape(-1, 3).astype(np.float32), faces.astype(np.int32))


def test_what_lies_over_its_own_island_is_found_face_by_face() -> None:
    mesh = ramp(1.1)
    edges = Edges.of(mesh.topology)
    uv = unwrapped(mesh, none(mesh), DONE, edges).uv
    over = over_itself(uv, mesh.topology.faces)
    turn = middles(mesh)[:, 2] / 3.0
    assert over[(turn < 0.06) | (turn > 1.04)].mean() > 0.9
    assert not over[(turn > 0.14) & (turn < 0.96)].any()
    flat = make_sheet(6)
    assert not over_itself(unwrapped(flat, none(flat), DONE).uv, flat.topology.faces).any()


@pytest.mark.parametrize("turns", [1.04, 1.3, 2.2])
def test_it_is_taken_off_until_nothing_lies_over_its_own(turns: float) -> None:
    mesh = ramp(turns)
    edges = Edges.of(mesh.topology)
    first = unwrapped(mesh, none(mesh), DONE, edges)
    seams = taken_off(mesh, edges, none(mesh), first.uv)
    made = unwrapped(mesh, seams, DONE, edges)
    assert made.islands.count > 1
    for rows in made.islands.members():
        assert not over_itself(made.uv[rows], mesh.topology.faces[rows]).any()
    found = found_seams(mesh, edges, none(mesh), 1.5, DONE)
    mesh.uv, _ = packed(mesh, unwrapped(mesh, found, DONE, edges).islands, unwrapped(mesh, found, DONE, edges).uv, PackWish(size=512, margin=4), DONE)  # fmt: skip
    assert not overlapping(mesh).any()


def test_what_lies_flat_gets_no_more_seams() -> None:
    mesh = make_sheet(8)
    edges = Edges.of(mesh.topology)
    assert not taken_off(mesh, edges, none(mesh), unwrapped(mesh, none(mesh), DONE, edges).uv).any()


def test_work_can_be_cancelled() -> None:
    from kneten.core.arrays import Cancelled

    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            raise Cancelled

    mesh = make_ball(50.0, 6)
    with pytest.raises(Cancelled):
        unwrapped(mesh, none(mesh), Stop())
    with pytest.raises(Cancelled):
        found_seams(mesh, Edges.of(mesh.topology), none(mesh), 2.0, Stop())


# -- measured, packed, changed ------------------------------------------------------------------------------


def laid_cube(wish: PackWish | None = None) -> tuple[Mesh, np.ndarray]:
    mesh = Mesh.from_faces(*box((20.0, 20.0, 20.0), 4))
    edges = Edges.of(mesh.topology)
    made = unwrapped(mesh, sharp(mesh, edges, 60), DONE, edges)
    assert made.islands.count == 6
    mesh.uv, stacked = packed(mesh, made.islands, made.uv, wish or PackWish(size=512, margin=8), DONE)
    return mesh, stacked


@pytest.mark.long
def test_islands_lie_side_by_side_with_their_margin() -> None:
    mesh, stacked = laid_cube()
    assert not stacked.any()
    assert not overlapping(mesh).any()
    assert measured(mesh).stretch()[0] < 1.001
    islands = islands_of_uv(mesh)
    picture, _ = filled(in_texels(_triangles(mesh), 512, 512), 512, 512)
    owner = np.where(picture >= 0, np.repeat(islands.of_face, 2)[np.maximum(picture, 0)], -1)
    for k in range(islands.count):
        y, x = np.nonzero(owner == k)
        oy, ox = np.nonzero((owner >= 0) & (owner != k))
        far = np.hypot(y[:, None][::7] - oy[None, ::5], x[:, None][::7] - ox[None, ::5])
        assert far.min() >= 7


def _triangles(mesh: Mesh) -> np.ndarray:
    table = mesh.uv.reshape(-1, 4, 2)  # type: ignore[union-attr]
    return np.stack([table[:, [0, 1, 2]], table[:, [0, 2, 3]]], axis=1).reshape(-1, 3, 2)


@pytest.mark.long
def test_packing_is_as_full_as_the_packer_alone() -> None:
    mesh = make_ball(50.0, 16)
    edges = Edges.of(mesh.topology)
    side = (middles(mesh) > 0) @ np.array([1, 2, 4])
    cut = edges.inner & (side[edges.sides[:, 0]] != side[np.maximum(edges.sides[:, 1], 0)])
    made = unwrapped(mesh, cut, DONE, edges)
    mesh.uv, _ = packed(mesh, made.islands, made.uv, PackWish(size=512, margin=2), DONE)
    points = made.islands.points
    at = made.islands.at_points(made.uv).astype(float)
    at += made.islands.of_points()[:, None] * [400.0, 0.0]
    triangles = np.concatenate([points[:, :3], points[:, [0, 2, 3]]]).astype(np.uint32)
    atlas = xatlas.Atlas()
    atlas.add_uv_mesh((at / 50).astype(np.float32), triangles)
    options = xatlas.PackOptions()
    options.resolution, options.padding, options.bruteForce = 512, 2, True
    atlas.generate(pack_options=options)
    area = measured(mesh).area.sum() / 2500
    alone = area * (atlas.texels_per_unit / max(atlas.width, atlas.height)) ** 2
    assert fullness(mesh) > 0.97 * alone


def test_tiles_and_twins_share_out_places() -> None:
    mesh, _ = laid_cube(PackWish(size=512, tiles=2))
    assert tiles_of(mesh.uv) == [(0, 0), (1, 0)]  # type: ignore[arg-type]
    ball_ = make_ball(50.0, 8)
    edges = Edges.of(ball_.topology)
    side = middles(ball_)[:, 0] > 0
    cut = edges.inner & (side[edges.sides[:, 0]] != side[np.maximum(edges.sides[:, 1], 0)])
    made = unwrapped(ball_, cut, DONE, edges)
    ball_.uv, stacked = packed(ball_, made.islands, made.uv, PackWish(stack_mirrored=True), DONE)
    assert stacked.sum() == ball_.topology.n_faces // 2
    assert overlapping(ball_).any()
    assert not overlapping(ball_, leave=stacked).any()
    # Mirror images have the very same places.
    at = {}
    for face, row in zip(ball_.topology.faces, ball_.uv.reshape(-1, 4, 2), strict=True):
        for vertex, place in zip(face, row, strict=True):
            key = tuple(
                np.round(
                    np.abs(ball_.positions[vertex]) * [1, 0, 0] + ball_.positions[vertex] * [0, 1, 1], 2
                ).tolist()
            )
            at.setdefault(key, []).append(place)
    assert max(np.ptp(np.array(rows), axis=0).max() for rows in at.values()) < 1e-4


def test_what_is_larger_turned_over_or_laid_over_is_seen() -> None:
    mesh, _ = laid_cube()
    islands = islands_of_uv(mesh)
    rows = islands.members()[0]
    faces = mesh.topology.faces
    mesh.uv = edit.changed(mesh.uv, rows, faces, edit.about_middle(np.eye(2) * 2))  # type: ignore[arg-type]
    laid = measured(mesh)
    others = np.setdiff1d(np.arange(len(faces)), rows)
    assert np.allclose(laid.size[rows].mean() / laid.size[others].mean(), 2, rtol=1e-3)
    assert overlapping(mesh)[rows].any()
    mesh.uv = edit.changed(mesh.uv, rows, faces, edit.about_middle(np.diag([-1.0, 1.0])))
    assert measured(mesh).turned.sum() == len(rows)
    assert np.isclose(texels_per_mm(laid, 2048), 2 * texels_per_mm(laid, 1024))
    again = edit.evened(mesh, islands, mesh.uv)
    mesh.uv = again
    assert measured(mesh).stretch()[0] < 1.001


def test_islands_are_moved_turned_stood_up_and_straightened() -> None:
    mesh = tube(16, 6)
    made = unwrapped(mesh, none(mesh), DONE)
    rows = np.arange(mesh.topology.n_faces)
    turned = edit.changed(made.uv, rows, mesh.topology.faces, edit.about_middle(edit.rotation(33.0)))
    mesh.uv = turned
    assert measured(mesh).stretch()[0] < 1.001
    mesh.uv = edit.squared_up(mesh, turned, rows)
    corners = mesh.uv.reshape(-1, 2)
    spans = np.ptp(corners, axis=0)
    assert np.allclose(sorted(spans), sorted([42.0, 16 * 2 * 20 * np.sin(np.pi / 16)]), rtol=1e-2)
    stood = edit.stood(mesh, turned, rows).reshape(-1, 4, 2)
    high = mesh.positions[mesh.topology.faces, 1]
    assert np.corrcoef(stood[:, :, 1].ravel(), high.ravel())[0, 1] > 0.999
    bent = edit.changed(made.uv, rows, mesh.topology.faces, lambda at: at + 0.002 * at[:, ::-1] ** 2)
    straight = edit.straightened(
        mesh, islands_of(mesh.topology, Edges.of(mesh.topology), made.cuts), bent, rows
    )
    box_ = straight.reshape(-1, 2)
    low, top = box_.min(axis=0), box_.max(axis=0)
    mesh.uv = straight
    assert np.isclose(np.prod(top - low), measured(mesh).flat.sum(), rtol=1e-3)


@given(st.integers(0, 10_000))
def test_every_texel_of_a_square_belongs_to_one_triangle(seed: int) -> None:
    rng = np.random.default_rng(seed)
    inner = rng.random((12, 2))
    points = np.concatenate([[[0, 0], [1, 0], [1, 1], [0, 1]], inner])
    from scipy.spatial import Delaunay

    triangles = points[Delaunay(points).simplices]
    at = in_texels(triangles, 40, 40)
    triangle, times = filled(at, 40, 40)
    assert (times == 1).all()
    y, x = np.nonzero(triangle >= 0)
    shares = shares_at(at, triangle[y, x], x.astype(np.int32), y.astype(np.int32))
    assert shares.min() > -1e-4
    places = np.einsum("kc,kcd->kd", shares, at[triangle[y, x]])
    assert np.abs(places - np.stack([x + 0.5, y + 0.5], axis=1)).max() < 1e-3
    some, _ = filled_rows(at, 40, 10, 25)
    assert np.array_equal(some, triangle[10:25])
