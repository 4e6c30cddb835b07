"""Pictures held before the view: bent and found again, read off, laid where clay is seen, brushed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import map_coordinates

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.paint.held import HeldPicture, Through, flat_net, found_on, places_of
from kneten.core.paint.ink import CHANNELS, Ink
from kneten.core.paint.light import DECODED
from kneten.core.paint.reading import as_light, between, evened, greys
from kneten.core.paint.stroke import PaintStroke
from kneten.core.paint.tiled import Tiled
from kneten.core.primitives import ball
from kneten.core.values import CLAY
from tests.conftest import make_ball, make_sheet

FLAT = Camera(target=(0.0, 0.0, 0.0), distance=400.0, orthographic=True)
HALVES = np.zeros((64, 64, 4), np.uint8)
HALVES[:, :32] = (250, 20, 20, 255)
HALVES[:, 32:] = (20, 20, 250, 255)


def square(size: float = 1.0, **traits: object) -> HeldPicture:
    return replace(HeldPicture("some", flat_net(size, size)), **traits)  # type: ignore[arg-type]


@given(st.lists(st.floats(-0.09, 0.09), min_size=18, max_size=18), st.integers(0, 99))
@settings(max_examples=40, deadline=None)
def test_places_on_a_bent_picture_are_found_again(moves: list[float], seed: int) -> None:
    net = tuple(
        (x + dx, y + dy) for (x, y), dx, dy in zip(flat_net(1.2, 0.8), moves[::2], moves[1::2], strict=True)
    )
    uv = np.random.default_rng(seed).random((200, 2))
    found, there = found_on(net, places_of(net, uv))
    assert there.all()
    assert np.abs(places_of(net, found) - places_of(net, uv)).max() < 1e-3
    assert not found_on(net, np.array([[3.0, 0.0], [0.0, -4.0]]))[1].any()


def test_a_flat_net_is_where_it_says_and_moves_as_one() -> None:
    held = square(0.5)
    assert np.allclose(
        places_of(held.net, np.array([[0, 0], [1, 1], [0.5, 0.5]])), [[-0.25, 0.25], [0.25, -0.25], [0, 0]]
    )
    moved = held.moved(np.array([[0.0, -1.0, 0.1], [1.0, 0.0, 0.0]]))
    assert np.allclose(places_of(moved.net, np.array([[0.0, 0.0]])), [[-0.15, -0.25]])
    corner = held.with_point(0, (-0.5, 0.5))
    assert corner.net[0] == (-0.5, 0.5)
    assert np.allclose(corner.net[1], (-0.125, 0.375))
    assert corner.net[8] == held.net[8]
    assert held.usable
    for bad in (replace(held, net=held.net[:5]), replace(held, opacity=2.0), replace(held, fade=0.0)):
        assert not bad.usable


def test_a_picture_is_read_between_its_pixels_in_light() -> None:
    rng = np.random.default_rng(2)
    pixels = rng.integers(0, 256, (20, 30, 4)).astype(np.uint8)
    pixels[..., 3] = 255
    uv = 0.05 + 0.9 * rng.random((300, 2))
    light, opacity = as_light(between(evened(pixels, 0.5), uv))
    for c in range(3):
        wanted = map_coordinates(
            DECODED[pixels[..., c]].astype(float),
            [uv[:, 1] * 20 - 0.5, uv[:, 0] * 30 - 0.5],
            order=1,
            mode="nearest",
        )
        assert np.abs(light[:, c] - wanted).max() < 1e-4
    assert (opacity == 1).all()
    # What is finer than the clay is evened out instead of picked at random.
    stripes = np.full((64, 64, 4), 255, np.uint8)
    stripes[:, ::2, :3] = 0
    even = as_light(between(evened(stripes, 8.0), uv))[0]
    assert np.ptp(even) < 1e-3
    assert even.mean() == pytest.approx(0.5, abs=0.01)
    assert greys(np.array([[1.0, 1, 1], [0, 0, 0]], np.float32)).tolist() == pytest.approx(
        [1.0, 0.0], abs=1e-4
    )


def test_what_is_clear_in_a_picture_lays_nothing() -> None:
    clear = HALVES.copy()
    clear[:, 32:, 3] = 0
    mesh = make_ball(50.0, 24)
    _, share = Through(mesh, np.eye(4), FLAT, 1.0, square(), clear).seen(Progress())
    assert share[mesh.positions[:, 0] > 5].max() == 0
    assert share[(mesh.positions[:, 0] < -5) & (mesh.positions[:, 2] > 40)].min() > 0.9


@pytest.mark.parametrize("camera", [FLAT, Camera(distance=300.0)])
def test_it_lies_where_it_is_seen_and_fades_where_clay_turns_away(camera: Camera) -> None:
    mesh = make_ball(50.0, 40)
    through = Through(mesh, np.eye(4), camera, 1.5, square(2.0), HALVES)
    light, share = through.seen(Progress())
    left, right = mesh.positions[:, 0] < -2, mesh.positions[:, 0] > 2
    seen = share > 0.5
    assert (light[left & seen][:, 0] > light[left & seen][:, 2]).all()
    assert (light[right & seen][:, 2] > light[right & seen][:, 0]).all()
    # 75 degrees and more get nothing, up to half of that all of it.
    facing = mesh.normals[:, 2] if camera.orthographic else None
    assert share[mesh.positions[:, 2] < -5].max() == 0
    if facing is not None:
        assert share[facing < np.cos(np.radians(75))].max() == 0
        assert share[facing > np.cos(np.radians(37))].min() > 0.99
        assert np.corrcoef(share, facing)[0, 1] > 0.7
    # A picture that is held beside the clay lies nowhere.
    aside = Through(
        mesh, np.eye(4), camera, 1.5, square(0.1).moved(np.array([[1, 0, 5.0], [0, 1, 0]])), HALVES
    )
    assert not aside.seen(Progress())[1].any()


def test_clay_behind_other_clay_gets_nothing() -> None:
    front, faces = ball(20.0, 24)
    wall = make_sheet(48, 2.5)
    places = np.concatenate([front + np.array([0, 0, 60.0]), wall.positions])
    own = wall.topology.faces.copy()
    own[own >= 0] += len(front)
    if faces.shape[1] == 3:
        faces = np.c_[faces, np.full(len(faces), -1)]
    mesh = Mesh.from_faces(places.astype(np.float32), np.concatenate([faces, own]).astype(np.int32))
    through = Through(mesh, np.eye(4), FLAT, 1.0, square(1.0), HALVES)
    _, share = through.seen(Progress())
    behind = (mesh.positions[:, 2] < 5) & (np.hypot(mesh.positions[:, 0], mesh.positions[:, 1]) < 17)
    beside = (mesh.positions[:, 2] < 5) & (np.hypot(mesh.positions[:, 0], mesh.positions[:, 1]) > 24)
    assert share[behind].max() == 0
    if (mesh.normals[beside][:, 2] > 0).all():
        assert share[beside].min() > 0.9
    # A brush does not look: what is before it is meant.
    assert through.at(np.flatnonzero(behind).astype(np.int32))[0].shape == (behind.sum(), 3)


def test_mirrored_it_lies_on_both_sides() -> None:
    mesh = make_ball(50.0, 24)
    half = square(0.5).moved(np.array([[1, 0, -0.3], [0, 1, 0.0]]))
    one = Through(mesh, np.eye(4), FLAT, 1.0, half, HALVES).seen(Progress())[1]
    both = Through(mesh, np.eye(4), FLAT, 1.0, replace(half, mirrored=True), HALVES).seen(Progress())[1]
    assert one[mesh.positions[:, 0] > 12].max() == 0
    assert both[mesh.positions[:, 0] > 12].max() > 0.5
    assert both.sum() == pytest.approx(2 * one.sum(), rel=0.1)


@pytest.mark.parametrize("channels", [("colour",), ("roughness", "wet"), tuple(CHANNELS)])
def test_a_brush_lays_the_picture_and_nothing_beside(channels: tuple[str, ...]) -> None:
    mesh = make_ball(50.0, 40)
    narrow = square(0.5)
    through = Through(mesh, np.eye(4), FLAT, 1.0, narrow, HALVES)
    tool = TOOLS["paint"]
    ink = Ink((1, 255, 1), channels=channels)
    made = PaintStroke(mesh, tool, replace(tool.defaults, falloff=((0, 1), (1, 1))), ink, through=through)
    for _ in range(12):
        made.dab(Dab(np.array([0.0, 0, 50]), np.zeros(3), np.array([0.0, 0, -1]), 40.0, 1.0, 0.5))
    x, y = mesh.positions[:, 0], mesh.positions[:, 1]
    inside = (np.abs(x) < 20) & (np.abs(y) < 20) & (mesh.positions[:, 2] > 30)
    colour, material = mesh.value("colour").astype(int), mesh.value("material").astype(int)
    if "colour" in channels:
        assert np.abs(colour[inside & (x < -6), :3] - (250, 20, 20)).max() <= 3
        assert np.abs(colour[inside & (x > 6), :3] - (20, 20, 250)).max() <= 3
    else:
        assert mesh.colour is None
    if "wet" in channels:
        grey = round(255 * float(greys(DECODED[HALVES[:1, 0, :3]])[0]))
        assert np.abs(material[inside & (x < -6)][:, [0, 3]] - grey).max() <= 2
    size = FLAT.half_height() * 2
    beside = np.abs(x) > 0.25 * size + 2
    assert (colour[beside, :3] == CLAY).all()
    for change in made.changes():
        change.swap(mesh)
    assert mesh.colour is None
    assert mesh.material is None


# -- tiled ------------------------------------------------------------------------------------------

STRIPES = np.zeros((8, 8, 4), np.uint8)
STRIPES[:, :4] = (240, 240, 240, 255)
STRIPES[:, 4:] = (10, 10, 10, 255)


def grey_of(mesh: Mesh, scale: float = 1.0, **traits: object) -> np.ndarray:
    held = replace(square(), tiled=True, **{"size": 10.0, **traits})  # type: ignore[arg-type]
    light, share = Tiled(mesh, scale, held, STRIPES).seen(Progress())
    assert np.allclose(share, 1)
    return light[:, 0]


def test_a_tiled_picture_comes_again_after_its_width() -> None:
    mesh = make_sheet(80, 0.5)
    grey = grey_of(mesh)
    flat = mesh.positions
    assert 0.3 < grey.mean() < 0.6
    # The sheet's vertices lie half a millimetre apart: the same colour again after ten millimetres, the other after five.
    order = np.lexsort((flat[:, 0], flat[:, 1]))
    rows, step = grey[order].reshape(81, 81), 20
    assert np.allclose(rows[:, :-step], rows[:, step:], atol=1e-3)
    assert np.abs(rows[:, : -step // 2] - rows[:, step // 2 :]).max() > 0.8
    # Along the stripes it is one colour; turned by a quarter they run across.
    assert np.ptp(rows, axis=0).max() < 1e-3
    turned = grey_of(mesh, turn=90.0)[order].reshape(rows.shape)
    assert np.ptp(turned, axis=1).max() < 1e-3


def test_its_width_is_of_the_scene_and_what_is_finer_than_the_clay_is_evened_out() -> None:
    mesh = make_sheet(80, 0.5)
    assert np.allclose(grey_of(mesh, scale=2.0, size=20.0), grey_of(mesh))
    fine = grey_of(mesh, size=0.4)
    assert fine.std() < 0.5 * grey_of(mesh).std()


def test_it_is_turned_over_nowhere_and_mirrored_on_demand() -> None:
    mesh = make_ball(30.0, 24)
    corner = np.zeros((16, 16, 4), np.uint8)
    corner[..., 3] = 255
    corner[:, :, 0] = np.linspace(0, 255, 16).astype(np.uint8)
    held = replace(square(), tiled=True, size=200.0)
    light = Tiled(mesh, 1.0, held, corner).seen(Progress())[0][:, 0]
    normals, at = mesh.normals, mesh.positions
    # Seen from outside, along each of the six directions, it grows lighter to the right.
    for axis, right in ((2, (1, 0, 0)), (0, (0, 0, -1)), (1, (1, 0, 0))):
        for side in (1, -1):
            there = side * normals[:, axis] > 0.97
            way = np.array(right) * (side if axis != 1 else 1)
            assert np.corrcoef(at[there] @ way, light[there])[0, 1] > 0.9, (axis, side)
    both = Tiled(mesh, 1.0, replace(held, mirrored=True), corner).seen(Progress())[0][:, 0]
    left = at[:, 0] > 0
    assert np.allclose(both[left], light[left])
    there = Tiled(Mesh(mesh.topology, at * np.float32([-1, 1, 1])), 1.0, held, corner)
    assert not np.allclose(there.seen(Progress())[0][~left, 0], both[~left])
    for bad in (replace(held, size=0.0), replace(held, turn=1e4)):
        assert not bad.usable
