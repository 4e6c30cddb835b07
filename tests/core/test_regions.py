"""Masks, regions, what is hidden, and distances over the surface."""

from __future__ import annotations

import numpy as np
import potpourri3d
import pytest

from kneten.core import masks, regions
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.changes import Change, change_to
from kneten.core.geodesic import Geodesics, distances, from_place
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.pieces import picked, taken_apart
from kneten.core.primitives import ball
from kneten.core.remesh import remesh, soup_of, triangulate
from kneten.core.solid import combine
from kneten.core.stroke import Stroke
from kneten.core.subdivide import subdivide
from tests.conftest import FRONT, make_ball, make_sheet


def halved(divisions: int = 24) -> Mesh:
    """A ball whose upper half is region 7."""
    mesh = make_ball(divisions=divisions)
    mesh.regions = np.where(regions.middles(mesh)[:, 1] > 0, 7, 0).astype(np.uint16)
    return mesh


# -- distances ------------------------------------------------------------------------------------


@pytest.mark.parametrize("triangles", [False, True])
def test_distances_over_a_ball_are_its_arcs(triangles: bool) -> None:
    mesh = make_ball(divisions=40, triangles=triangles)
    start = int(np.argmax(mesh.positions[:, 2]))
    found = distances(mesh, np.array([start], np.int32), np.zeros(1))
    cosine = mesh.positions.astype(float) @ mesh.positions[start].astype(float) / 100.0**2
    exact = 100.0 * np.arccos(np.clip(cosine, -1, 1))
    far = exact > 10
    assert (np.abs(found - exact)[far] / exact[far]).max() < 0.015


def test_distances_agree_with_an_independent_library() -> None:
    mesh = make_ball(divisions=32)
    rng = np.random.default_rng(5)
    mesh.positions += (6.0 * np.sin(mesh.positions[:, [1, 2, 0]] / 9.0)).astype(np.float32)
    mesh.refresh_all()
    solver = potpourri3d.MeshHeatMethodDistanceSolver(
        mesh.positions.astype(float), triangulate(mesh.topology.faces)
    )
    for start in rng.integers(0, mesh.n_vertices, 3).tolist():
        found = distances(mesh, np.array([start], np.int32), np.zeros(1))
        theirs = solver.compute_distance(start)
        far = theirs > 20
        # The heat method itself is some per cent off.
        assert np.median(np.abs(found - theirs)[far] / theirs[far]) < 0.02
        assert (np.abs(found - theirs)[far] / theirs[far]).max() < 0.12


def test_distances_stop_at_a_limit_and_start_within_faces() -> None:
    mesh = make_sheet(40, 2.0)
    hit = pick(mesh, np.array([0.3, 0.4, 50.0]), FRONT)
    assert hit is not None
    reach = Geodesics(mesh)
    for _ in range(2):
        found, far = reach.reach(*from_place(mesh, hit.face, hit.point), 15.0)
        exact = np.linalg.norm(mesh.positions[found].astype(float) - hit.point, axis=1)
        assert far.max() <= 15.0
        assert (np.diff(far) >= 0).all()
        assert np.abs(far - exact).max() < 0.35
        within = np.linalg.norm(mesh.positions - hit.point, axis=1) < 14.5
        assert set(np.flatnonzero(within)) <= set(found.tolist())


def test_what_no_way_leads_to_is_infinitely_far() -> None:
    a, b = ball(10.0, 6), ball(10.0, 6)
    both = Mesh.from_faces(
        np.concatenate([a[0], b[0] + np.float32([50, 0, 0])]), np.concatenate([a[1], b[1] + len(a[0])])
    )
    start = int(np.argmin(both.positions[:, 0]))
    found = distances(both, np.array([start], np.int32), np.zeros(1))
    assert np.isinf(found[both.positions[:, 0] > 30]).all()
    assert np.isfinite(found[both.positions[:, 0] < 30]).all()


# -- masks ----------------------------------------------------------------------------------------


def test_masks_grow_shrink_blur_and_sharpen() -> None:
    mesh = make_sheet(60, 1.0)
    mask = (np.abs(mesh.positions[:, 0]) < 10).astype(np.float32)
    wider = masks.grown(mesh, mask, 3)
    assert np.array_equal(wider == 1, np.abs(mesh.positions[:, 0]) < 13)
    back = masks.grown(mesh, wider, -3)
    inner = np.abs(mesh.positions[:, 1]) < 25
    assert np.array_equal(back[inner], mask[inner])
    soft = masks.blurred(mesh, mask, 6)
    assert ((soft > 0.05) & (soft < 0.95)).sum() > 0
    assert soft.sum() == pytest.approx(mask.sum(), rel=0.01)
    hard = soft
    for _ in range(6):
        hard = masks.sharpened(mesh, hard)
    assert ((hard > 0.05) & (hard < 0.95)).sum() < ((soft > 0.05) & (soft < 0.95)).sum() / 2


def test_masks_find_form() -> None:
    sheet = make_sheet(80, 1.0)
    x = sheet.positions[:, 0]
    sheet.positions[:, 2] = 3.0 * np.exp(-(((x - 15) / 4) ** 2)) - 3.0 * np.exp(-(((x + 15) / 4) ** 2))
    sheet.refresh_all()
    inner = np.abs(sheet.positions).max(axis=1) < 35
    form = masks.cavity(sheet)
    assert np.abs(x[inner][np.argmax(form[inner])] - 15) < 3
    assert np.abs(x[inner][np.argmin(form[inner])] + 15) < 3
    globe = make_ball()
    assert (
        np.corrcoef(masks.along(globe.positions, np.array([0, 1.0, 0])), globe.positions[:, 1])[0, 1] > 0.999
    )
    facing = masks.facing(globe.normals, np.array([0, 0, 1.0]))
    assert facing[np.argmax(globe.positions[:, 2])] > 0.98
    assert facing[np.argmin(globe.positions[:, 2])] < 0.02
    thick = masks.thickness(globe, Progress()) * np.linalg.norm(np.subtract(*globe.bounds()))
    assert np.median(thick) == pytest.approx(200, rel=0.02)
    share = masks.between(np.linspace(0, 1, 101, dtype=np.float32), 0.4, 0.6, 0.1)
    assert share[50] == 1
    assert share[20] == 0
    assert 0 < share[35] < 1


def test_masks_combine() -> None:
    a, b = np.float32([0, 0.3, 1, 1]), np.float32([0, 0.6, 0, 1])
    assert np.allclose(masks.COMBINE["add"](a, b), [0, 0.6, 1, 1])
    assert np.allclose(masks.COMBINE["subtract"](a, b), [0, 0.3, 1, 0])
    assert np.allclose(masks.COMBINE["intersect"](a, b), [0, 0.3, 0, 1])
    assert np.array_equal(masks.COMBINE["replace"](a, b), b)


# -- regions --------------------------------------------------------------------------------------


def test_regions_by_angle_are_the_sides_of_a_box() -> None:
    box = Mesh.from_faces(*box_of(12))
    labels = regions.by_angle(box, 40)
    normals = regions.face_normals(box)
    assert labels.max() == 5
    for side in range(6):
        assert np.ptp(normals[labels == side], axis=0).max() < 1e-6
    assert regions.by_angle(box, 100).max() == 0


def box_of(n: int) -> tuple[np.ndarray, np.ndarray]:
    """A box of n by n quads on each side."""
    from kneten.core.live.primitive import Primitive

    clay = Primitive("box", (20.0, 20.0, 20.0), (n, n, n)).made()
    return clay.positions, clay.faces


def test_regions_by_connection_and_growing() -> None:
    mesh = halved()
    assert regions.by_connection(mesh).max() == 0
    parts = regions.by_connection(mesh, mesh.regions)
    assert np.array_equal(np.unique(parts), [0, 1])
    inside = mesh.regions == 7
    wider = regions.grown(mesh, inside, 2)
    assert (wider & ~inside).any()
    assert not (inside & ~wider).any()
    assert np.array_equal(regions.grown(mesh, wider, -2), inside)


def test_a_region_from_a_mask_and_back_is_the_same() -> None:
    mesh = halved()
    inside = mesh.regions == 7
    mask = regions.vertices_of(mesh, inside).astype(np.float32)
    assert np.array_equal(regions.faces_of_mask(mesh, mask, 1.0), inside)


@pytest.mark.parametrize("make", ["subdivide", "remesh", "combine", "apart"])
def test_regions_are_carried_to_new_clay(make: str) -> None:
    mesh = halved(32)
    if make == "subdivide":
        new = subdivide(mesh, Progress())
    elif make == "remesh":
        new = regions.with_face_values([mesh], remesh(soup_of([mesh]), 6.0, Progress()))
    elif make == "combine":
        other = make_ball(divisions=16)
        other = other.with_positions(other.positions * np.float32(0.3) + np.float32([100, 0, 0]))
        new = combine("subtract", [mesh, other], Progress())
    else:
        new = taken_apart(mesh, (regions.middles(mesh)[:, 0] > 0).astype(np.uint8), Progress(), True)[1]
    assert new.regions is not None
    places = regions.middles(new)
    y = places[:, 1]
    # Not at the border, and not on the skin that an operation has made.
    clear = (np.abs(y) > 8) & (np.abs(places[:, 0] - 35) < 25) & (np.linalg.norm(places, axis=1) > 90)
    assert np.array_equal(new.regions[clear] == 7, y[clear] > 0)


def test_region_colours_follow_faces() -> None:
    mesh = halved()
    every = np.arange(mesh.topology.n_patches, dtype=np.int32)
    colours = regions.region_colours(mesh, every)
    top = colours[np.argmax(mesh.positions[:, 1]), :3]
    bottom = colours[np.argmin(mesh.positions[:, 1]), :3]
    assert tuple(top) == regions.region_colour(7)
    assert tuple(bottom) == regions.region_colour(0)
    near = {regions.region_colour(k) for k in range(1, 40)}
    assert len(near) == 39


# -- hiding ---------------------------------------------------------------------------------------


def test_hidden_faces_are_neither_hit_nor_moved() -> None:
    mesh = make_ball()
    front = regions.middles(mesh)[:, 2] > 60
    change_to(mesh, "hidden", front.astype(np.uint8)).swap(mesh)
    hit = pick(mesh, np.array([0.0, 0.0, 500.0]), FRONT)
    assert hit is not None
    assert hit.point[2] < -90
    before = mesh.positions.copy()
    stroke = Stroke(mesh, TOOLS["inflate"], TOOLS["inflate"].defaults)
    stroke.dab(Dab(np.array([0.0, 0.0, 62.0]), np.zeros(3), FRONT, 80.0, 1.0, 0.2))
    stroke.finish()
    moved = (mesh.positions != before).any(axis=1)
    only_hidden = ~regions.vertices_of(mesh, ~front)
    assert moved.any()
    assert not (moved & only_hidden).any()


def test_a_copied_region_is_open_and_has_only_its_faces() -> None:
    mesh = halved()
    piece = picked(mesh, mesh.regions == 7)
    assert piece.topology.has_border
    assert piece.topology.n_faces == (mesh.regions == 7).sum()
    assert (piece.regions == 7).all()


# -- changes --------------------------------------------------------------------------------------


@pytest.mark.parametrize("what", ["mask", "colour", "regions", "hidden", "positions"])
def test_changes_swap_exactly_and_cost_what_they_change(what: str) -> None:
    mesh = make_ball()
    rng = np.random.default_rng(1)
    before = mesh.positions.copy() if what == "positions" else mesh.value(what).copy()
    after = before.copy()
    places = np.sort(rng.choice(len(before), 200, replace=False))
    if what in ("mask", "positions"):
        after[places] += rng.uniform(0.1, 0.9, after[places].shape).astype(np.float32)
    else:
        after[places] = 1
    change = change_to(mesh, what, after)
    assert isinstance(change, Change)
    assert len(change.places) <= 200
    back = change.swap(mesh)
    now = mesh.positions if what == "positions" else mesh.value(what)
    assert np.array_equal(now, after)
    again = back.swap(mesh)
    now = mesh.positions if what == "positions" else mesh.value(what)
    assert np.array_equal(now, before)
    assert np.array_equal(again.values, change.values)
    assert change_to(mesh, what, before) is None


def test_protection_joins_the_mask_and_what_is_hidden() -> None:
    mesh = make_ball()
    assert len(mesh.protection()) == 0
    mask = np.linspace(0, 1, mesh.n_vertices, dtype=np.float32)
    change_to(mesh, "mask", mask).swap(mesh)
    assert np.array_equal(mesh.protection(), mask)
    hidden = (regions.middles(mesh)[:, 0] > 0).astype(np.uint8)
    change_to(mesh, "hidden", hidden).swap(mesh)
    gone = ~regions.vertices_of(mesh, hidden == 0)
    assert (mesh.protection()[gone] == 1).all()
    assert np.array_equal(mesh.protection()[~gone], mask[~gone])
