"""Lamps, skies and light sets as numbers."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.camera import Camera
from kneten.core.light.lamps import (
    FAR_AWAY,
    KINDS,
    LUMINANCE,
    MOST,
    PLACED,
    Lamp,
    became,
    colour_light,
    led_round,
    lit,
    placed,
    turned_to,
    warm_light,
)
from kneten.core.light.rigs import RIGS, rig
from kneten.core.light.skies import (
    ROUGH,
    SKIES,
    TALL,
    directions,
    fitted,
    own_tables,
    solid_angles,
    tables_of,
)
from kneten.core.light.surroundings import Surroundings

AXES = Camera(yaw=30.0, pitch=12.0).axes()
FRONT = np.eye(3)


def unit(*values: float) -> np.ndarray:
    return np.array(values) / np.linalg.norm(values)


ways = st.tuples(*[st.floats(-1, 1) for _ in range(3)]).filter(lambda v: np.linalg.norm(v) > 0.1)


def test_warm_light_is_red_when_cool_and_blue_when_hot_and_as_bright_as_white() -> None:
    balance = []
    for kelvin in (1500, 2700, 4000, 5600, 6500, 9000, 15000):
        light = warm_light(kelvin)
        assert LUMINANCE @ light == pytest.approx(1.0, abs=1e-6)
        balance.append(light[0] / max(light[2], 1e-6))
    assert balance == sorted(balance, reverse=True)
    # The white of a screen is that of 6,500 K, but for a little green.
    assert np.abs(warm_light(6500) - 1).max() < 0.06
    # CIE 1931 chromaticity of a black body of 2,856 K: x 0.4476, y 0.4074.
    srgb = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    xyz = srgb @ warm_light(2856)
    assert xyz[0] / xyz.sum() == pytest.approx(0.4476, abs=0.01)
    assert xyz[1] / xyz.sum() == pytest.approx(0.4074, abs=0.01)


def test_a_colour_gives_its_hue_and_not_its_darkness() -> None:
    assert np.allclose(colour_light((128, 128, 128)), 1.0)
    assert np.allclose(
        colour_light((40, 80, 20)) / colour_light((40, 80, 20)).max(),
        colour_light((40, 80, 20)) / colour_light((40, 80, 20))[1],
    )
    assert (colour_light((0, 0, 0)) == 0).all()
    assert np.allclose(Lamp("a", free=True, colour=(255, 255, 255), strength=2.5).light(), 2.5)


@given(ways, ways, ways)
@settings(max_examples=60, deadline=None)
def test_what_a_click_asks_for_is_there(
    way: tuple[float, ...], normal: tuple[float, ...], eye: tuple[float, ...]
) -> None:
    n, e = unit(*normal), unit(*eye)
    point = np.array([3.0, 4.0, 5.0])
    for kind in KINDS:
        lamp = turned_to(Lamp("a", kind), unit(*way), AXES)
        # Highlight: the way to the lamp and the way to the eye meet about the normal.
        found = placed(lamp, "highlight", point, n, e, AXES)
        assert np.allclose(found.towards(AXES) + e, 2 * (n @ e) * n, atol=1e-9)
        assert found.aim == (3.0, 4.0, 5.0)
        assert np.allclose(placed(lamp, "lit", point, n, e, AXES).towards(AXES), n)
        edge = placed(lamp, "edge", point, n, e, AXES).towards(AXES)
        assert abs(edge @ n) < 1e-9
        assert np.linalg.norm(edge) == pytest.approx(1.0)


def test_the_edge_of_shadow_is_found_from_straight_above() -> None:
    for normal in (unit(0, 1, 0), unit(0, 0, 1)):
        lamp = turned_to(Lamp("a"), normal, FRONT)
        assert abs(np.dot(placed(lamp, "edge", np.zeros(3), normal, unit(1, 0, 0), FRONT).way, normal)) < 1e-9


def test_a_rim_stays_behind_whatever_the_camera_does() -> None:
    rim = turned_to(Lamp("a", "rim"), AXES.T @ unit(0.5, 0.4, -0.7), AXES)
    for yaw in (0, 90, 200):
        axes = Camera(yaw=yaw, pitch=-20).axes()
        assert np.allclose(axes @ rim.towards(axes), unit(0.5, 0.4, -0.7))
    sun = Lamp("b", "sun")
    assert np.array_equal(sun.towards(AXES), sun.towards(FRONT))


@pytest.mark.parametrize("kind", list(KINDS))
def test_another_kind_shines_from_where_the_lamp_does(kind: str) -> None:
    for old in KINDS:
        lamp = turned_to(Lamp("a", old, distance=50.0), unit(-0.3, 0.8, 0.5), AXES)
        now = became(lamp, kind, AXES, 100.0)
        now.check()
        assert np.allclose(now.towards(AXES), unit(-0.3, 0.8, 0.5))
        assert now.distance == (300.0 if old in FAR_AWAY and kind not in FAR_AWAY else 50.0)
        assert now.is_far == (kind in FAR_AWAY)


def test_a_lamp_goes_with_the_hand_before_and_behind() -> None:
    for depth in (0.8, -0.8):
        lamp = turned_to(Lamp("a"), unit(0.0, 0.1, depth), FRONT)
        right = led_round(lamp, 0.3, 0.0, FRONT)
        down = led_round(lamp, 0.0, 0.3, FRONT)
        assert right.way[0] > 0.2
        assert down.way[1] < -0.1
    # Once all the way round it is where it was.
    assert np.allclose(led_round(lamp, 2 * np.pi, 0.0, FRONT).way, lamp.way)


def test_light_at_a_place_does_not_depend_on_how_far_the_lamp_is_from_it() -> None:
    near, far = Lamp("a", "point", distance=100.0), Lamp("a", "point", distance=400.0)
    assert np.array_equal(near.light(), far.light())
    assert near.spread() == pytest.approx(4 * far.spread())
    assert np.allclose(near.place(), np.array(near.way) / np.linalg.norm(near.way) * 100)


def test_hidden_lamps_give_none_and_the_strongest_come_first() -> None:
    lamps = tuple(Lamp(f"{k}", strength=1.0 + k) for k in range(12))
    assert [lamp.name for lamp in lit(lamps)] == [f"{k}" for k in range(12 - MOST, 12)]
    lamps = (*lamps[:2], replace(lamps[2], shown=False), Lamp("dark", strength=0.0))
    assert [lamp.name for lamp in lit(lamps)] == ["0", "1"]
    lamps = (*lamps, Lamp("alone", solo=True), Lamp("hidden", solo=True, shown=False))
    assert [lamp.name for lamp in lit(lamps)] == ["alone"]


@pytest.mark.parametrize(
    "traits",
    [
        {"kind": "moon"}, {"way": (0.0, 0.0, 0.0)}, {"strength": -1.0}, {"strength": float("nan")}, {"distance": 0.0},
        {"warmth": 10.0}, {"cone": 200.0}, {"colour": (1, 2)}, {"colour": (1, 2, 300)}, {"size": -1.0}, {"aim": (1e30, 0.0, 0.0)},
    ],
)  # fmt: skip
def test_lamps_that_cannot_be_are_refused(traits: dict[str, object]) -> None:
    with pytest.raises(ValueError, match="not usable"):
        replace(Lamp("a"), **traits).check()


@pytest.mark.parametrize(
    "traits", [{"sky": "none"}, {"strength": -1.0}, {"blur": 2.0}, {"turn": float("inf")}]
)
def test_surroundings_that_cannot_be_are_refused(traits: dict[str, object]) -> None:
    with pytest.raises(ValueError, match="not usable"):
        replace(Surroundings(), **traits).check()


def test_directions_share_the_ball() -> None:
    assert solid_angles(TALL).sum() == pytest.approx(4 * np.pi)
    assert np.allclose(np.linalg.norm(directions(16), axis=1), 1)
    assert np.allclose(directions(TALL).T @ solid_angles(TALL), 0, atol=1e-9)


@pytest.mark.parametrize("key", list(SKIES))
def test_a_sky_is_blurred_without_losing_light_and_lights_clay_as_its_integral_says(key: str) -> None:
    tables = own_tables(key)
    assert tables.levels.shape == (len(ROUGH), TALL, 2 * TALL, 3)
    assert np.isfinite(tables.levels).all()
    assert tables.levels.min() >= 0
    angles = solid_angles(TALL)[:, None] / (4 * np.pi)
    for level in tables.levels:
        mean = (level.reshape(-1, 3) * angles).sum(axis=0)
        assert np.allclose(mean, tables.mean, rtol=0.04)
    spans = [float(np.ptp(level)) for level in tables.levels]
    assert all(after <= before + 1e-5 for before, after in itertools.pairwise(spans))
    flat, ways_ = tables.levels[0].reshape(-1, 3), directions(TALL)
    for normal in (unit(0, 1, 0), unit(-1, 0.2, 0.4), unit(0.3, -0.9, 0.1)):
        seen = np.clip(ways_ @ normal, 0, None)[:, None] * solid_angles(TALL)[:, None]
        whole = (flat * seen).sum(axis=0) / np.pi
        found = tables.diffuse.reshape(-1, 3)[np.argmax(ways_ @ normal)]
        assert np.abs(found - whole).max() < 0.02 * float(tables.levels[0].mean()) + 0.02 * whole.max()


@pytest.mark.parametrize("size", [(TALL, 2 * TALL), (100, 200), (7, 14), (256, 512)])
def test_a_picture_of_a_sky_becomes_a_table_without_losing_light(size: tuple[int, int]) -> None:
    light = np.exp(np.random.default_rng(3).normal(0, 1, (*size, 3))).astype(np.float32)
    table = fitted(light)
    assert table.shape == (TALL, 2 * TALL, 3)
    assert np.allclose(table.mean(axis=(0, 1)), light.mean(axis=(0, 1)), rtol=1e-4)
    if size == (TALL, 2 * TALL):
        assert np.allclose(table, light, atol=1e-5)
    # Left stays left, above stays above.
    half = np.zeros((*size, 3), np.float32)
    half[: size[0] // 2, : size[1] // 2] = 1
    table = fitted(half)
    assert table[3, 3].min() > 0.99
    assert table[3, -3].max() < 0.01
    assert table[-3, 3].max() < 0.01


def test_an_even_sky_makes_white_clay_as_bright_as_it() -> None:
    tables = tables_of(np.full((TALL, 2 * TALL, 3), 0.7, np.float32))
    assert np.allclose(tables.diffuse, 0.7, atol=1e-3)
    assert np.allclose(tables.levels, 0.7, atol=1e-3)


@pytest.mark.parametrize("key", list(RIGS))
@pytest.mark.parametrize("size", [3.0, 4000.0])
def test_light_sets_fit_what_they_light(key: str, size: float) -> None:
    low, high = np.array([10.0, 0, 0]), np.array([10.0 + size, size, size / 2])
    lamps, around = rig(key, low, high)
    around.check()
    middle, reach = (low + high) / 2, float(np.linalg.norm(high - low)) / 2
    assert lamps
    assert len({lamp.name for lamp in lamps}) == len(lamps)
    for lamp in lamps:
        lamp.check()
        assert np.allclose(lamp.aim, middle)
        if not lamp.is_far:
            assert 1.2 * reach < np.linalg.norm(lamp.place() - middle) < 6 * reach
            assert lamp.size < 4 * reach


def test_what_is_offered_has_words() -> None:
    for words in (KINDS, PLACED):
        assert all(name and tip for name, tip in words.values())
    assert all(name and tip for name, tip, _ in (*SKIES.values(), *RIGS.values()))
    assert len(RIGS) >= 8
    assert len(SKIES) >= 8
