"""Maps: tangents by the open standard, what rays and finer levels tell, padding, bad input."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import AnyArray, Cancelled, Progress
from kneten.core.maps import bake as baking
from kneten.core.maps.bake import (
    MAPS,
    BakeWish,
    as_bytes,
    baked,
    bytes_for,
    hemisphere,
    packed_together,
    padded,
)
from kneten.core.maps.skin import painted, skin_of, texels_of, tile_of_texels
from kneten.core.maps.surfaces import Cage, High, Low, by_uv, deviation, spots_in
from kneten.core.maps.tangents import tangents_of
from kneten.core.maps.tiles import in_one
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.regions import middles
from kneten.core.subdivide import subdivide
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges
from kneten.core.uv.pack import PackWish, packed
from kneten.core.uv.unwrap import unwrapped
from tests.conftest import make_ball, make_sheet

DONE = Progress()
CAGE = Cage(10.0, 10.0)


def test_tangents_are_those_of_the_standard() -> None:
    """Reference data of an independent implementation: noise, mirrored islands, triangles without a place or an area."""
    data = np.load(Path(__file__).parents[1] / "data" / "tangents.npz")
    made = tangents_of(data["positions"], data["normals"], data["uv"])
    wanted = data["tangents"]
    assert (made[..., 3] == wanted[..., 3]).all()
    assert ((made[..., :3] * wanted[..., :3]).sum(axis=2) > 0.9999).all()
    assert len(np.unique(wanted[..., 3])) == 2


def test_tangents_of_nothing_and_of_flat_clay() -> None:
    assert tangents_of(np.zeros((0, 3, 3), np.float32), np.zeros((0, 3, 3), np.float32), np.zeros((0, 3, 2), np.float32)).shape == (0, 3, 4)  # fmt: skip
    sheet = Low.of(laid(make_sheet(4)))
    assert np.allclose(np.linalg.norm(sheet.tangents[:, :, :3], axis=2), 1, atol=1e-5)
    assert np.allclose(sheet.tangents[:, :, 2], 0, atol=1e-6)


def laid(mesh: Mesh, margin: int = 8) -> Mesh:
    """A mesh with UVs: closed clay cut between its two sides."""
    edges = Edges.of(mesh.topology)
    side = middles(mesh)[:, 2] > 0
    cut = edges.inner & (side[edges.sides[:, 0]] != side[np.maximum(edges.sides[:, 1], 0)])
    made = unwrapped(mesh, cut, DONE, edges)
    mesh.uv, _ = packed(mesh, made.islands, made.uv, PackWish(size=512, margin=margin), DONE)
    return mesh


def bumpy(mesh: Mesh, deep: float = 1.5) -> Mesh:
    p = mesh.positions.astype(float)
    wave = deep * np.sin(p[:, 0] / 6) * np.sin(p[:, 1] / 6)
    out = mesh.with_positions((p + wave[:, None] * mesh.normals).astype(np.float32))
    out.refresh_all()
    return out


def levels(low: Mesh, count: int = 3) -> Mesh:
    """The finest of some levels over a mesh, in places of its own."""
    fine = low
    for _ in range(count):
        fine = subdivide(fine, DONE)
    return bumpy(fine)


def angles(low: Low, high: High, size: int, picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How far the map's normals, and those of the low mesh alone, are from those of the fine clay, in degrees."""
    spots = spots_in(low, size, 0, size, (0, 0))
    code = picture[spots.y, spots.x].astype(float) / 65535 * 2 - 1
    way = code[:, :1] * spots.tangent + code[:, 1:2] * spots.side + code[:, 2:] * spots.normal
    way /= np.linalg.norm(way, axis=1)[:, None]
    wanted = high.normal(by_uv(high, size, 0, size, (0, 0), spots))
    off = [np.degrees(np.arccos(np.clip((one * wanted).sum(axis=1), -1, 1))) for one in (way, spots.up)]
    return off[0], off[1]


def test_a_normal_map_gives_the_fine_clay_back() -> None:
    mesh = laid(make_ball(50.0, 8))
    high = High([levels(mesh)])
    low = Low.of(mesh)
    for wish in (BakeWish(("normal",), 512, own=True), BakeWish(("normal",), 512)):
        (made,) = baked(low, high, CAGE, wish, DONE)
        off, plain = angles(low, high, 512, made.pictures["normal"])
        assert off.mean() < (0.1 if wish.own else 2.0)
        assert plain.mean() > 5
        assert made.missed.max() < 0.05
    assert made.tangents.shape == (mesh.topology.n_faces, 4, 4)


def test_no_seam_is_seen() -> None:
    """What a map gives on both sides of a seam differs no more than within islands."""
    mesh = laid(make_ball(50.0, 8))
    high = High([levels(mesh)])
    low = Low.of(mesh)
    (made,) = baked(low, high, CAGE, BakeWish(("object",), 512, own=True), DONE)
    picture = made.pictures["object"].astype(float) / 65535 * 2 - 1
    edges = Edges.of(mesh.topology)
    islands = middles(mesh)[:, 2] > 0
    table = mesh.uv.reshape(-1, 4, 2)  # type: ignore[union-attr]

    def across(which: np.ndarray) -> np.ndarray:
        found = []
        for e in np.flatnonzero(which):
            sides = []
            for s in (0, 1):
                f = edges.sides[e, s]
                c = int(np.flatnonzero(edges.of_face[f] == e)[0])
                uv = (table[f, c] + table[f, (c + 1) % 4]) / 2
                # A texel further in: on the rim itself padding tells.
                middle = table[f].mean(axis=0)
                uv = uv + (middle - uv) / max(np.linalg.norm(middle - uv), 1e-9) * 0.7 / 512
                x, y = int(uv[0] * 512), int((1 - uv[1]) * 512)
                sides.append(picture[min(y, 511), min(x, 511)])
            found.append(np.linalg.norm(sides[0] - sides[1]))
        return np.array(found)

    seam = edges.inner & (islands[edges.sides[:, 0]] != islands[np.maximum(edges.sides[:, 1], 0)])
    rng = np.random.default_rng(1)
    within = edges.inner & ~seam & (rng.random(len(seam)) < 0.3)
    assert across(seam).mean() < 2 * across(within).mean()


def test_displacement_and_vectors_bring_the_fine_clay_back() -> None:
    mesh = laid(make_ball(50.0, 8))
    fine = levels(mesh)
    high = High([fine])
    low = Low.of(mesh)
    (made,) = baked(low, high, CAGE, BakeWish(("displacement", "vector"), 256, own=True), DONE)
    spots = spots_in(low, 256, 0, 256, (0, 0))
    hits = by_uv(high, 256, 0, 256, (0, 0), spots)
    told = made.pictures["vector"][spots.y, spots.x]
    frame = baking.square_frame(spots)
    back = spots.place + sum(told[:, [k]] * frame[k] for k in range(3))
    assert np.abs(back - high.place(hits)).max() < 1e-3
    out = made.pictures["displacement"][spots.y, spots.x, 0]
    assert np.allclose(out, told[:, 2], atol=1e-4)
    assert np.isclose(made.most, np.abs(made.pictures["displacement"]).max())
    # By rays along the normals the place is met, not only its height.
    (rays,) = baked(low, high, CAGE, BakeWish(("displacement",), 256), DONE)
    met = spots.place + rays.pictures["displacement"][spots.y, spots.x] * spots.up
    _, far = high.nearest(met.astype(np.float32), 5.0), None
    assert high.nearest(met.astype(np.float32), 0.05).found.mean() > 0.98
    assert far is None


def test_occlusion_is_white_in_the_open_and_half_beside_a_wall() -> None:
    mesh = laid(make_sheet(10))
    low = Low.of(mesh)
    wish = BakeWish(("occlusion", "bent"), 64, rays=64)
    (free,) = baked(low, High([mesh]), CAGE, wish, DONE)
    assert free.pictures["occlusion"][free.covered].min() == 65535
    bent = free.pictures["bent"][free.covered] / 65535 * 2 - 1
    assert np.allclose(bent.mean(axis=0), [0, 0, 1], atol=0.02)
    # A high wall through the middle: what lies at its foot sees half of the sky, as far as rays reach.
    wall = make_sheet(10)
    stands = np.stack([np.zeros(wall.n_vertices), wall.positions[:, 1], wall.positions[:, 0] + 20], axis=1)
    wall = Mesh.from_faces((stands * [1, 3, 3]).astype(np.float32), wall.topology.faces)
    (made,) = baked(low, High([mesh, wall]), Cage(0.5, 0.5), replace(wish, reach=5.0), DONE)
    spots = spots_in(low, 64, 0, 64, (0, 0))
    seen = made.pictures["occlusion"][spots.y, spots.x, 0] / 65535
    near, far = np.abs(spots.place[:, 0]) < 2, np.abs(spots.place[:, 0]) > 20
    assert abs(seen[near].mean() - 0.5) < 0.1
    assert seen[far].mean() > seen[near].mean() + 0.08


def test_paint_material_ids_and_places_are_told() -> None:
    mesh = laid(make_ball(50.0, 8))
    fine = subdivide(mesh, DONE)
    fine.need("colour")[:] = (200, 40, 20, 255)
    fine.need("material")[:] = (51, 204, 0, 0)
    fine.need("regions")[:] = np.where(middles(fine)[:, 1] > 0, 3, 0)
    keys = ("colour", "roughness", "metalness", "id", "position", "thickness", "cavity", "curvature")
    (made,) = baked(Low.of(mesh), High([fine]), CAGE, BakeWish(keys, 128, own=True), DONE)
    there = made.covered
    assert (made.pictures["colour"][there] == [200, 40, 20]).all()
    assert np.allclose(made.pictures["roughness"][there] / 65535, 0.2, atol=1e-3)
    assert np.allclose(made.pictures["metalness"][there] / 65535, 0.8, atol=1e-3)
    assert len(np.unique(made.pictures["id"][there], axis=0)) == 2
    places = made.pictures["position"][there] / 65535
    assert places.min() < 0.02
    assert places.max() > 0.98
    # Through the ball's middle it is as thick as the box around it is wide, of the box's diagonal.
    assert np.allclose(np.median(made.pictures["thickness"][there] / 65535), 1 / np.sqrt(3), atol=0.03)
    assert made.pictures["cavity"].dtype == np.uint16
    assert {key: picture.shape[2] for key, picture in made.pictures.items()} == {
        key: MAPS[key].channels for key in keys
    }


def test_several_parts_are_told_apart() -> None:
    mesh = laid(make_sheet(10))
    left = make_sheet(10)
    one = Mesh.from_faces(*_half(left, -1))
    two = Mesh.from_faces(*_half(left, 1))
    (made,) = baked(Low.of(mesh), High([one, two]), Cage(1.0, 1.0), BakeWish(("id",), 64), DONE)
    assert len(np.unique(made.pictures["id"][made.covered], axis=0)) == 2


def _half(sheet: Mesh, side: int) -> tuple[np.ndarray, np.ndarray]:
    faces = sheet.topology.faces[middles(sheet)[:, 0] * side > 0]
    used, flat = np.unique(faces, return_inverse=True)
    return sheet.positions[used], flat.reshape(-1, 4).astype(np.int32)


def test_rays_that_fall_short_are_told_and_the_mask_makes_them_longer() -> None:
    mesh = laid(make_sheet(10))
    raised = mesh.with_positions(mesh.positions + np.array([0, 0, 6], np.float32))
    high = High([Mesh.from_faces(*raised.source_arrays())])
    low = Low.of(mesh)
    wish = BakeWish(("displacement",), 64)
    (short,) = baked(low, high, Cage(2.0, 2.0), wish, DONE)
    assert short.missed.min() == 1
    # The nearest clay tells for it.
    assert np.allclose(short.pictures["displacement"][short.covered], 6, atol=1e-3)
    mesh.need("mask")[:] = 1
    (long,) = baked(Low.of(mesh), high, Cage(2.0, 2.0, by_mask=4.0), wish, DONE)
    assert long.missed.max() == 0
    assert deviation(mesh, high, DONE) == pytest.approx(6, rel=0.01)


def test_more_samples_smooth_and_tiles_stand_apart() -> None:
    mesh = laid(make_ball(50.0, 8))
    high = High([levels(mesh)])
    (one,) = baked(Low.of(mesh), high, CAGE, BakeWish(("normal", "id"), 128, own=True), DONE)
    (four,) = baked(Low.of(mesh), high, CAGE, BakeWish(("normal", "id"), 128, samples=2, own=True), DONE)
    assert four.covered.sum() >= one.covered.sum()
    both = one.covered & four.covered
    off = (as_bytes(one.pictures["normal"]).astype(int) - as_bytes(four.pictures["normal"]))[both]
    assert np.abs(off).mean() < 12
    islands = mesh.uv.reshape(-1, 4, 2)  # type: ignore[union-attr]
    islands[middles(mesh)[:, 2] > 0] += [1, 0]
    first, second = baked(Low.of(mesh), high, CAGE, BakeWish(("normal",), 128), DONE)
    assert (first.tile, second.tile) == ((0, 0), (1, 0))
    assert abs(int(first.covered.sum()) + int(second.covered.sum()) - int(one.covered.sum())) < 30


def test_islands_are_continued_by_their_nearest_texels() -> None:
    covered = np.zeros((20, 30), bool)
    covered[5:9, 5:9] = True
    source = padded(covered, 3)
    assert source[5, 4] == 5 * 30 + 5
    assert source[5, 2] == 5 * 30 + 5
    assert source[5, 1] == -1
    assert (source[covered] == np.flatnonzero(covered)).all()
    assert (padded(np.zeros((4, 4), bool), 5) == -1).all()
    mesh = laid(make_sheet(4))
    (made,) = baked(Low.of(mesh), High([mesh]), CAGE, BakeWish(("normal",), 64, padding=0), DONE)
    assert (made.pictures["normal"][~made.covered] == [32768, 32768, 65535]).all()


def test_rays_go_all_round_as_the_cosine_says() -> None:
    ways = hemisphere(256)
    assert np.allclose(np.linalg.norm(ways, axis=1), 1, atol=1e-5)
    assert abs(ways[:, 2].mean() - 2 / 3) < 0.01
    assert np.abs(ways[:, :2].mean(axis=0)).max() < 0.02


def test_what_cannot_be_baked_is_refused_in_words() -> None:
    mesh = laid(make_ball(50.0, 4))
    low, high = Low.of(mesh), High([mesh])
    wish = BakeWish(("normal",), 128)
    bare = Mesh.from_faces(*ball(50.0, 4))
    empty = replace(low, mesh=bare)
    for one, how, words in (
        (empty, wish, "unwrap it first"),
        (low, replace(wish, size=32), "64 to 8192"),
        (low, replace(wish, size=10_000), "64 to 8192"),
        (low, replace(wish, maps=("sparkle",)), "no such map: sparkle"),
        (low, replace(wish, maps=()), "none is chosen"),
    ):
        with pytest.raises(MeshError, match=words):
            baked(one, high, CAGE, how, DONE)
    broken = Mesh.from_faces(*ball(50.0, 4))
    broken.uv = np.full((broken.topology.n_faces, 8), np.nan, np.float32)
    with pytest.raises(MeshError, match="not finite"):
        baked(replace(low, mesh=broken), high, CAGE, wish, DONE)
    broken.uv = (np.arange(broken.topology.n_faces * 8).reshape(-1, 8) * 3.0).astype(np.float32)
    with pytest.raises(MeshError, match="64 tiles"):
        baked(replace(low, mesh=broken), high, CAGE, wish, DONE)


def test_overlapping_flipped_and_distant_uvs_are_baked_all_the_same() -> None:
    mesh = laid(make_ball(50.0, 6))
    table = mesh.uv.reshape(-1, 4, 2)  # type: ignore[union-attr]
    table[::3] = table[::3][:, ::-1]
    table[1::5] = 0.2
    table[2::7] += 3
    for made in baked(Low.of(mesh), High([mesh]), CAGE, BakeWish(tuple(MAPS), 64, rays=4), DONE):
        assert all(np.isfinite(picture).all() for picture in made.pictures.values())


def test_it_stops_when_it_is_told_to() -> None:
    class Stop(Progress):
        def report(self, fraction: float, text: str = "") -> None:
            if fraction > 0.2:
                raise Cancelled

    mesh = laid(make_ball(50.0, 6))
    with pytest.raises(Cancelled):
        baked(Low.of(mesh), High([mesh]), CAGE, BakeWish(("normal",), 2048), Stop())


def test_memory_grows_with_size_and_maps_and_three_maps_become_one_picture() -> None:
    few, many = BakeWish(("normal",), 1024), BakeWish(("normal", "vector"), 8192)
    assert bytes_for(many, 10_000, 1_000_000) > 20 * bytes_for(few, 10_000, 0)
    grey = np.full((4, 4, 1), 65535, np.uint16)
    whole = packed_together([None, grey // 2, grey], 4)
    assert whole[0, 0].tolist() == [255, 128, 255] or whole[0, 0].tolist() == [255, 127, 255]


# -- painted on -------------------------------------------------------------------------------------------


def test_a_skin_has_a_vertex_for_each_texel_and_no_gap_at_seams() -> None:
    mesh = laid(make_ball(50.0, 8), margin=16)
    fine = subdivide(mesh, DONE)
    fine.need("colour")[:] = (10, 200, 30, 255)
    skin = skin_of(High([fine]), 256)
    (made,) = baked(Low.of(mesh), High([fine]), CAGE, BakeWish(("colour",), 256, own=True, padding=0), DONE)
    x, y = texels_of(skin, 256)
    there = np.zeros((256, 256), bool)
    there[y, x] = True
    # All that clay covers, and a texel more around: where islands meet on the clay, both sides meet, too.
    assert (there | ~made.covered).mean() > 0.999
    assert there.sum() < 1.2 * made.covered.sum()
    assert np.abs(np.linalg.norm(skin.positions, axis=1) - 50).max() < 1.5
    assert (skin.value("colour") == [10, 200, 30, 255]).all()
    assert len({(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)}) == skin.n_vertices
    picture, known = painted(skin, 256, "colour")
    assert np.array_equal(known, there)
    assert (picture[there] == [10, 200, 30, 255]).all()
    # A dab over the seam reaches texels of both islands.
    near = np.linalg.norm(skin.positions - [50.0, 0, 0], axis=1) < 8
    islands = made.pictures["colour"].shape
    assert islands == (256, 256, 3)
    assert np.ptp(x[near]) > 30 or np.ptp(y[near]) > 30


def test_a_skin_of_too_few_texels_is_refused() -> None:
    mesh = laid(make_ball(50.0, 6))
    mesh.uv = mesh.uv * 1e-3  # type: ignore[operator]
    with pytest.raises(MeshError):
        skin_of(High([mesh]), 64)
    mesh.uv = np.zeros_like(mesh.uv)
    with pytest.raises(MeshError, match="nothing of it"):
        skin_of(High([mesh]), 64)


# -- tiles ------------------------------------------------------------------------------------------------


def on_two_tiles(mesh: Mesh) -> Mesh:
    """A mesh with UVs, its back on the tile above the second."""
    mesh = laid(mesh)
    assert mesh.uv is not None
    moved = mesh.uv.reshape(-1, 4, 2).copy()
    moved[middles(mesh)[:, 2] < 0] += (1, 1)
    mesh.uv = moved.reshape(-1, 8)
    return mesh


def test_a_skin_has_the_texels_of_all_tiles() -> None:
    mesh = on_two_tiles(make_ball(50.0, 8))
    mesh.need("colour")[:] = np.where(mesh.positions[:, 2:] < 0, (10, 20, 200, 255), (200, 20, 10, 255))
    skin = skin_of(High([mesh]), 64)
    tiles = tile_of_texels(skin)
    assert sorted(np.unique(tiles, axis=0).tolist()) == [[0, 0], [1, 1]]
    assert ((tiles[:, 0] == 1) == (skin.positions[:, 2] < 0))[np.abs(skin.positions[:, 2]) > 8].all()
    total = 0
    for tile, band in (((0, 0), 0), ((1, 1), 2)):
        picture, there = painted(skin, 64, "colour", tile)
        total += int(there.sum())
        assert np.median(picture[there][:, band]) == 200
    assert total == skin.n_vertices
    assert not painted(skin, 64, "colour", (1, 0))[1].any()


def test_maps_of_several_tiles_are_one_picture_in_which_corners_find_theirs() -> None:
    mesh = on_two_tiles(make_ball(50.0, 6))
    assert mesh.uv is not None
    rng = np.random.default_rng(3)
    tiles = {
        (0, 0): {"colour": rng.integers(0, 255, (16, 16, 3)).astype(np.uint8)},
        (1, 1): {"colour": rng.integers(0, 255, (16, 16, 3)).astype(np.uint8)},
        (2, 0): {"normal": np.full((16, 16, 3), 9, np.uint8)},
    }
    made, uv = in_one(tiles, mesh.uv)
    assert made["colour"].shape == made["normal"].shape == (32, 32, 3)
    assert sorted(np.unique(made["normal"][..., 0]).tolist()) == [9, 128]

    def at(picture: AnyArray, places: AnyArray) -> AnyArray:
        x = np.floor(places[:, 0] * picture.shape[1]).astype(int)
        y = np.floor((1 - places[:, 1]) * picture.shape[0]).astype(int)
        return np.asarray(picture[y, x])

    before, after = mesh.uv.reshape(-1, 4, 2).mean(axis=1), uv.reshape(-1, 4, 2).mean(axis=1)
    back = middles(mesh)[:, 2] < 0
    assert np.array_equal(at(made["colour"], after[~back]), at(tiles[0, 0]["colour"], before[~back]))
    assert np.array_equal(at(made["colour"], after[back]), at(tiles[1, 1]["colour"], before[back] - 1))
    assert (uv >= 0).all()
    assert (uv <= 1).all()


def test_one_tile_stays_as_it_is_and_many_large_ones_become_smaller(monkeypatch: pytest.MonkeyPatch) -> None:
    mesh = laid(make_ball(50.0, 4))
    assert mesh.uv is not None
    picture = np.arange(64, dtype=np.uint8).reshape(8, 8, 1)
    made, uv = in_one({(0, 0): {"occlusion": picture}}, mesh.uv)
    assert uv is mesh.uv
    assert made["occlusion"] is picture
    monkeypatch.setattr("kneten.core.maps.tiles.MOST", 8)
    made, uv = in_one({(0, 0): {"occlusion": picture}, (1, 0): {"occlusion": picture}}, mesh.uv)
    assert made["occlusion"].shape == (8, 8, 1)
    assert made["occlusion"][4, 0, 0] == round(float(picture[:2, :2].mean()))
    assert np.allclose(uv, mesh.uv / 2)
