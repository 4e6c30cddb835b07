"""Rows and scatter: ways over clay, where pieces sit, and how they are laid."""

from __future__ import annotations

from dataclasses import replace

import manifold3d
import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Progress
from kneten.core.live.clay import RecipeError
from kneten.core.live.recipes import recipe_from, recipe_words, with_parts_named
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.scatter.laying import laid_clay, laid_positions
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.scatter.pieces import OWN, own_piece, piece_from, piece_of
from kneten.core.scatter.rows import border_of, rims, strung
from kneten.core.scatter.sites import Ground, Sites, headings, placed
from kneten.core.scatter.walk import Spots, spots_of, walked


def sheet(n: int = 40, size: float = 100.0, height=None) -> Mesh:  # type: ignore[no-untyped-def]
    """A square in quads, y up."""
    t = np.linspace(-size / 2, size / 2, n + 1)
    x, z = np.meshgrid(t, t, indexing="ij")
    y = np.zeros_like(x) if height is None else height(x, z)
    i = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    faces = np.stack([i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]], -1).reshape(-1, 4)
    return Mesh.from_faces(np.stack([x, y, z], -1).reshape(-1, 3).astype(np.float32), faces.astype(np.int32))


def globe(n: int = 40) -> Mesh:
    return Mesh.from_faces(*ball(50.0, n))


def surface(mesh: Mesh) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)


def laid(mesh: Mesh, scatter: Scatter, ground: Ground | None = None):  # type: ignore[no-untyped-def]
    """Sites, and the clay of a scatter of one of our own pieces."""
    pieces = [own_piece(key) for key in scatter.sources]
    sites = placed(ground or Ground(mesh), scatter, pieces, Progress())
    heads = headings(scatter, sites.spots.places(mesh), sites.spots.normals(mesh), sites.spins, None)
    return sites, laid_clay(mesh, sites, heads, scatter, pieces)


def spots_at(mesh: Mesh, faces: list[int]) -> Spots:
    rows = np.array(faces, np.int32)
    return Spots(rows, np.zeros(len(rows), np.int32), np.full((len(rows), 3), 1 / 3))


# -- pieces ------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", OWN)
def test_each_piece_is_closed_clay_that_stands_on_its_foot(key: str) -> None:
    piece = own_piece(key)
    body = trimesh.Trimesh(piece.positions, triangulate(piece.faces), process=False)
    assert body.is_watertight
    assert body.is_winding_consistent
    assert body.volume > 0
    assert piece.positions[:, 1].min() == 0
    assert np.ptp(piece.positions[:, [0, 2]], axis=0).max() == pytest.approx(1, abs=1e-6)
    assert len(piece.faces) <= 260


def test_clay_of_any_place_and_size_is_a_piece() -> None:
    mesh = Mesh.from_faces(*ball(7.0, 6), np.full((218, 4), 90, np.uint8))
    mesh.positions += [30, -8, 4]
    piece = piece_from(mesh)
    assert piece.half == pytest.approx((0.5, 0.5), abs=1e-6)
    assert piece.high == pytest.approx(1, abs=1e-6)
    assert piece.is_round
    assert piece.colour is not None
    with pytest.raises(RecipeError, match="extent"):
        piece_of(np.array([[0, 0, 0], [0, 1, 0], [0, 2, 0]], np.float32), np.array([[0, 1, 2, -1]], np.int32))


# -- ways over clay ----------------------------------------------------------------------------------


def test_a_way_over_flat_clay_is_straight() -> None:
    mesh = sheet()
    start = spots_at(mesh, [800, 801, 850])
    way = np.tile([[0.6, 0.0, 0.8]], (3, 1))
    there, ways, left = walked(mesh, start, way, np.array([3.0, 11.0, 20.0]))
    expected = start.places(mesh) + way * np.array([[3.0], [11.0], [20.0]])
    inside = np.abs(expected[:, [0, 2]]).max(axis=1) < 50
    assert inside.any()
    np.testing.assert_allclose(there.places(mesh)[inside], expected[inside], atol=1e-4)
    np.testing.assert_allclose(ways, way, atol=1e-6)
    assert (left[inside] == 0).all()


def test_a_way_round_a_ball_is_a_great_circle() -> None:
    mesh = globe(80)
    start = spots_at(mesh, [5, 900, 20_000])
    normals = start.normals(mesh)
    way = np.cross(normals, [0.3, 0.5, 0.81])
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    there, _, _ = walked(mesh, start, way, np.full(3, 50.0))
    a, b = start.places(mesh), there.places(mesh)
    angle = np.arccos((a * b).sum(axis=1) / np.linalg.norm(a, axis=1) / np.linalg.norm(b, axis=1))
    np.testing.assert_allclose(angle, 1.0, atol=0.01)
    # It stays in the plane that it began in.
    axis = np.cross(normals, way)
    assert np.abs((b * axis).sum(axis=1)).max() < 0.6


def test_a_way_ends_where_clay_ends() -> None:
    mesh = sheet()
    start = spots_at(mesh, [800])
    there, _, left = walked(mesh, start, np.array([[1.0, 0.0, 0.0]]), np.array([500.0]))
    place = there.places(mesh)[0]
    assert place[0] == pytest.approx(50, abs=1e-4)
    assert left[0] == pytest.approx(500 - (50 - start.places(mesh)[0, 0]), abs=1e-3)


def test_spots_are_found_again_by_their_vertices() -> None:
    mesh = globe()
    rng = np.random.default_rng(4)
    n = 300
    shares = rng.dirichlet([1, 1, 1], n)
    spots = Spots(
        rng.integers(0, mesh.topology.n_faces, n).astype(np.int32),
        rng.integers(0, 2, n).astype(np.int32),
        shares,
    )
    corners = spots.corners(mesh)
    turn = np.array([1, 2, 0])
    again = spots_of(mesh, corners[:, turn], shares[:, turn])
    np.testing.assert_allclose(again.places(mesh), spots.places(mesh), atol=1e-5)
    with pytest.raises(ValueError, match="not there"):
        spots_of(mesh, np.array([[0, 1, mesh.n_vertices - 1]], np.int32), np.ones((1, 3)) / 3)


# -- scatter -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", ["scale", "rivet", "plate"])
def test_pieces_never_meet(key: str) -> None:
    mesh = sheet(60)
    scatter = Scatter(size=6.0, sources=(key,), sink=0.0, vary=0.3, loose=180)
    sites, clay = laid(mesh, scatter)
    piece = own_piece(key)
    n = len(piece.positions)
    assert len(sites) > 100
    bodies = [
        manifold3d.Manifold(
            manifold3d.Mesh(clay.positions[k * n : (k + 1) * n], triangulate(piece.faces).astype(np.uint32))
        )
        for k in range(len(sites))
    ]
    centres = sites.spots.places(mesh)
    far = np.linalg.norm(centres[:, None] - centres[None], axis=2)
    near = np.argwhere((far < 10) & (np.arange(len(sites))[:, None] < np.arange(len(sites))))
    met = [float((bodies[a] ^ bodies[b]).volume()) for a, b in near[:250].tolist()]
    assert max(met) < 1e-6


def test_even_scatter_covers_more_and_leaves_no_bald_places() -> None:
    mesh = sheet(60)
    by_chance = len(laid(mesh, Scatter(size=5.0, sources=("rivet",), even=0.0))[0])
    sites = laid(mesh, Scatter(size=5.0, sources=("rivet",), even=1.0))[0]
    assert len(sites) > 1.12 * by_chance
    rng = np.random.default_rng(0)
    probes = np.stack([rng.uniform(-45, 45, 3000), np.zeros(3000), rng.uniform(-45, 45, 3000)], -1)
    nearest = np.linalg.norm(probes[:, None] - sites.spots.places(mesh)[None], axis=2).min(axis=1)
    assert nearest.max() < 5.0


def test_the_same_numbers_give_the_same_places() -> None:
    mesh = globe()
    one, two = (placed(Ground(mesh), Scatter(size=5.0), [own_piece("scale")], Progress()) for _ in range(2))
    assert np.array_equal(one.spots.faces, two.spots.faces)
    assert np.array_equal(one.spots.shares, two.spots.shares)
    other = placed(Ground(mesh), Scatter(size=5.0, seed=2), [own_piece("scale")], Progress())
    assert not np.array_equal(one.spots.faces[:50], other.spots.faces[:50])


@pytest.mark.parametrize("bend", [True, False])
def test_every_foot_follows_the_clay_without_a_gap(bend: bool) -> None:
    mesh = sheet(160, height=lambda x, z: 3 * np.sin(x / 9) * np.cos(z / 11) + 0.3 * np.sin(x * 1.1))
    scatter = Scatter(size=7.0, sources=("scale",), sink=0.1, bend=bend)
    sites, clay = laid(mesh, scatter)
    piece = own_piece("scale")
    foot = np.flatnonzero(piece.positions[:, 1] == 0)
    whole = np.abs(sites.spots.places(mesh)[:, [0, 2]]).max(axis=1) < 44
    feet = clay.positions.reshape(len(sites), -1, 3)[whole][:, foot].reshape(-1, 3).astype(np.float64)
    inside = np.abs(feet[:, [0, 2]]).max(axis=1) < 49.5
    at = np.column_stack([feet[inside, 0], np.full(inside.sum(), 50.0), feet[inside, 2]])
    hit, ray, _ = surface(mesh).ray.intersects_location(at, np.tile([0.0, -1.0, 0.0], (len(at), 1)), False)
    above = feet[inside][ray, 1] - hit[:, 1]
    # None hovers by more than a hundredth of a piece, hardly any by a quarter of that.
    assert above.max() < 0.01 * 7
    assert np.quantile(above, 0.99) < 0.0025 * 7


def test_bent_pieces_follow_the_clay_and_stiff_ones_keep_their_top() -> None:
    mesh = globe(60)
    tops = {}
    for bend in (True, False):
        _, clay = laid(mesh, Scatter(size=20.0, sources=("plate",), most=1, sink=0.0, bend=bend))
        piece = own_piece("plate")
        high = piece.positions[:, 1] > 0.9 * piece.high
        centre = clay.positions.mean(axis=0)
        out = centre / np.linalg.norm(centre)
        tops[bend] = np.ptp(clay.positions[high] @ out)
    assert tops[True] > 2 * tops[False]


def test_scatter_keeps_to_its_mask_and_region() -> None:
    mesh = globe()
    mask = (mesh.positions[:, 1] > 10).astype(np.float32)
    sites, _ = laid(mesh, Scatter(size=4.0, over="mask"), Ground(mesh, mask))
    assert len(sites) > 30
    assert sites.spots.places(mesh)[:, 1].min() > 5
    mesh.regions = np.where(mesh.positions[mesh.topology.faces[:, 0], 0] > 0, 3, 0).astype(np.uint16)
    sites, _ = laid(mesh, Scatter(size=4.0, over="region", of="3"))
    assert (mesh.regions[sites.spots.faces] == 3).all()
    with pytest.raises(RecipeError, match="region"):
        laid(mesh, Scatter(size=4.0, over="region", of="9"))
    with pytest.raises(RecipeError, match="mask"):
        laid(mesh, Scatter(size=4.0, over="mask"))


def test_nothing_is_laid_on_hidden_faces() -> None:
    mesh = globe()
    mesh.hidden = (mesh.positions[mesh.topology.faces[:, 0], 2] < 0).astype(np.uint8)
    sites, _ = laid(mesh, Scatter(size=4.0))
    assert (mesh.hidden[sites.spots.faces] == 0).all()


def test_pieces_shrink_towards_guides_and_outside_a_mask() -> None:
    mesh = globe()
    ring = np.stack(
        [50 * np.cos(np.linspace(0, 6.2, 90)), np.zeros(90), 50 * np.sin(np.linspace(0, 6.2, 90))], -1
    )
    scatter = Scatter(size=6.0, shrink_by="guides", shrink=0.3, reach=25.0, flow="guides")
    sites = placed(Ground(mesh, lines=[ring]), scatter, [own_piece("scale")], Progress())
    high = np.abs(sites.spots.places(mesh)[:, 1])
    assert sites.sizes[high < 4].max() < 3.0
    assert sites.sizes[high > 30].min() > 5.5
    mask = np.clip(mesh.positions[:, 1] / 50, 0, 1).astype(np.float32)
    sites = placed(
        Ground(mesh, mask), Scatter(size=6.0, shrink_by="mask", shrink=0.3), [own_piece("scale")], Progress()
    )
    high = sites.spots.places(mesh)[:, 1]
    assert sites.sizes[high < 0].max() < 2.0
    assert sites.sizes[high > 45].min() > 5.0
    with pytest.raises(RecipeError, match="guides"):
        placed(Ground(mesh), scatter, [own_piece("scale")], Progress())


def test_pieces_point_along_the_flow() -> None:
    mesh = globe(60)
    sites, _ = laid(mesh, Scatter(size=5.0, most=200))
    normals = sites.spots.normals(mesh)
    heads = headings(Scatter(turn=90), sites.spots.places(mesh), normals, sites.spins, None)
    np.testing.assert_allclose(np.linalg.norm(heads, axis=1), 1, atol=1e-9)
    np.testing.assert_allclose((heads * normals).sum(axis=1), 0, atol=1e-9)
    # A quarter turn from downwards is level.
    assert np.abs(heads[np.abs(normals[:, 1]) < 0.9, 1]).max() < 1e-6


def test_mirrored_scatter_is_a_mirror_image() -> None:
    mesh = globe()
    sites, clay = laid(mesh, Scatter(size=6.0, mirrored=True, loose=40.0, vary=0.2))
    half = len(sites) // 2
    a, b = sites.taken(np.arange(half)), sites.taken(np.arange(half, 2 * half))
    np.testing.assert_allclose(b.spots.places(mesh) * [-1, 1, 1], a.spots.places(mesh), atol=0.02)
    assert (b.hands == -1).all()
    n = len(own_piece("scale").positions)
    body = trimesh.Trimesh(clay.positions, triangulate(clay.faces), process=False)
    assert body.is_winding_consistent
    assert body.volume > 0
    assert clay.positions[: half * n, 0].min() > -0.5


def test_what_cannot_be_laid_says_why() -> None:
    mesh = globe()
    for numbers, words in (
        (Scatter(size=0.0), "above 0"),
        (Scatter(size=-3.0), "above 0"),
        (Scatter(sources=()), "choose a piece"),
        (Scatter(most=0), "ask for"),
        (Scatter(gap=-0.95), "out of range"),
        (Scatter(over="moon"), "not known"),
        (Scatter(size=0.04, most=1_000_000), "the most"),
    ):
        with pytest.raises(RecipeError, match=words):
            laid(mesh, numbers)
    for row, words in ((Row(ends=0.0), "out of range"), (Row(along="moon"), "not known")):
        with pytest.raises(RecipeError, match=words):
            row.check()
    with pytest.raises(RecipeError, match="no piece"):
        own_piece("moon")
    with pytest.raises(RecipeError, match="no room"):
        laid(sheet(), Scatter(size=150.0, mirrored=True))


def test_positions_alone_are_those_of_the_clay() -> None:
    mesh = globe()
    scatter = Scatter(size=7.0, sources=("scale", "rivet"))
    pieces = [own_piece(key) for key in scatter.sources]
    sites = placed(Ground(mesh), scatter, pieces, Progress())
    heads = headings(scatter, sites.spots.places(mesh), sites.spots.normals(mesh), sites.spins, None)
    positions, starts = laid_positions(mesh, sites, heads, scatter, pieces)
    clay = laid_clay(mesh, sites, heads, scatter, pieces)
    assert np.array_equal(clay.positions, positions)
    assert starts[-1] == len(positions)
    assert np.isfinite(positions).all()
    assert set(sites.which.tolist()) == {0, 1}


def test_recipes_come_back_from_words() -> None:
    for recipe in (
        Scatter(ground="g", sources=("p", "scale"), mask="m"),
        Row(ground="g", along="strands", of="s"),
    ):
        assert recipe_from(recipe_words(recipe)) == recipe
        named = with_parts_named(recipe, {"g": "new", "s": "rope", "p": "tooth"})
        assert isinstance(named, Scatter | Row)
        assert named.ground == "new"
    with pytest.raises(ValueError, match="above 0"):
        recipe_from(recipe_words(replace(Scatter(), size=-1.0)))
    assert with_parts_named(None, {}) is None


# -- rows --------------------------------------------------------------------------------------------


def ring(n: int = 200, radius: float = 30.0) -> np.ndarray:
    t = np.linspace(0, 2 * np.pi, n, endpoint=False)
    return np.stack([radius * np.cos(t), np.zeros(n), radius * np.sin(t)], -1)


def strung_on(mesh: Mesh, row: Row, line: np.ndarray, closed: bool) -> tuple[Sites, np.ndarray]:
    return strung(mesh, row, [(line, closed)], [own_piece(key) for key in row.sources])


def test_a_closed_row_closes_without_a_seam() -> None:
    mesh = sheet(60)
    sites, heads = strung_on(mesh, Row(sources=("rivet",), size=4.0, gap=0.5), ring(), True)
    places = sites.spots.places(mesh)
    steps = np.linalg.norm(places - np.roll(places, -1, axis=0), axis=1)
    assert np.ptp(steps) < 0.05
    assert 6.0 <= steps.mean() < 6.4
    tangent = np.cross(places / 30, [0, 1, 0])
    assert ((heads * tangent).sum(axis=1)).min() > 0.99


def test_an_open_row_fills_its_line_and_tapers() -> None:
    mesh = sheet(60)
    line = np.stack([np.linspace(-40, 40, 50), np.zeros(50), np.zeros(50)], -1)
    row = Row(sources=("rivet",), size=5.0, gap=0.0, ends=0.4)
    sites, _ = strung_on(mesh, row, line, False)
    x = sites.spots.places(mesh)[:, 0]
    assert (np.diff(x) > 0).all()
    # The first and the last just reach the ends, and none runs into its neighbour.
    assert x[0] - sites.sizes[0] / 2 == pytest.approx(-40, abs=0.1)
    assert x[-1] + sites.sizes[-1] / 2 == pytest.approx(40, abs=0.3)
    assert (np.diff(x) - (sites.sizes[1:] + sites.sizes[:-1]) / 2).min() > -1e-3
    assert sites.sizes[0] == pytest.approx(2.0, rel=0.1)
    assert sites.sizes.max() == pytest.approx(5.0, rel=0.02)


def test_a_row_takes_a_count_turns_and_sources_in_turn() -> None:
    mesh = sheet(60)
    line = np.stack([np.linspace(-40, 40, 50), np.zeros(50), np.zeros(50)], -1)
    row = Row(sources=("rivet", "stitch"), size=3.0, count=9, aside=2.0, weave=True)
    sites, heads = strung_on(mesh, row, line, False)
    places = sites.spots.places(mesh)
    np.testing.assert_allclose(places[:, 0], np.linspace(-40, 40, 9), atol=1e-3)
    np.testing.assert_allclose(np.abs(places[:, 2]), 2, atol=1e-3)
    assert (np.sign(places[::2, 2]) == -np.sign(places[1, 2])).all()
    np.testing.assert_allclose(heads[:, 0], [1, -1] * 4 + [1], atol=1e-6)
    assert sites.which.tolist() == [0, 1] * 4 + [0]
    one, _ = strung_on(mesh, replace(row, count=1), line, False)
    assert one.spots.places(mesh)[0, 0] == pytest.approx(0, abs=1e-3)


def test_rows_follow_rims_and_borders_of_regions() -> None:
    mesh = sheet(30)
    (rim,) = rims(mesh)
    assert np.abs(np.abs(rim[:, [0, 2]]).max(axis=1) - 50).max() < 1e-3
    round_one = globe()
    round_one.regions = (round_one.positions[round_one.topology.faces[:, 0], 1] > 20).astype(np.uint16)
    (border,) = border_of(round_one, 1)
    assert np.abs(border[:, 1] - 20).max() < 4
    sites, _ = strung_on(round_one, Row(sources=("stitch",), size=3.0, gap=0.3), border, True)
    assert len(sites) > 40
    with pytest.raises(RecipeError, match="region"):
        border_of(round_one, 4)


def test_a_row_that_makes_no_sense_says_why() -> None:
    mesh = sheet()
    with pytest.raises(RecipeError, match="no line"):
        strung(mesh, Row(), [], [own_piece("rivet")])
    with pytest.raises(RecipeError, match="more than"):
        strung_on(mesh, Row(size=1e-5, sources=("rivet",)), ring(), True)
