"""Skin, wrinkles and lips."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.presses.entry import press
from kneten.core.presses.fields import (
    LOWEST,
    PIT,
    SIDE,
    blank,
    bump,
    cells,
    lines,
    marks,
    places,
    rough,
    soft,
    spread,
    step,
    strokes,
    tapered,
    uneven,
    warped,
)


def _furrows(across: int, seed: int, width: float) -> AnyArray:
    """The fine net of furrows between the little fields of skin, 0 to 1."""
    _, border, _ = cells(across, seed)
    return bump(border / width)


def _pits(across: int, seed: int, least: float, most: float, drawn: float = 1.0, turn: float = 0.0) -> F32:
    """Pores of many sizes: pits with a soft rim, drawn out by so much."""
    chance = np.random.default_rng(seed)
    at = spread(across, seed, stray=0.42)
    size = chance.uniform(0, 1, len(at)) ** 1.8 * (most - least) + least
    deep = chance.uniform(0.45, 1.0, len(at)) * (0.5 + 0.5 * size / most)
    way = turn + chance.normal(0, 0.35, len(at))
    out = marks(blank(), at, size * drawn, size, way, -deep, PIT, LOWEST)
    return soft(out, 0.0012)


@press("pores-fine", "Fine pores", "skin", "small pits cheek forehead")
def pores_fine() -> AnyArray:
    net = _furrows(52, 3, 0.16) * (0.5 + 0.5 * rough(5, 8, 2))
    return _pits(34, 5, 0.0035, 0.0085) - 0.22 * net


@press("pores-broad", "Broad pores", "skin", "large pits nose cheek")
def pores_broad() -> AnyArray:
    net = _furrows(22, 13, 0.14)
    swell = 0.16 * soft(_pits(15, 11, 0.010, 0.026, 1.35, 1.57), 0.012)
    return _pits(15, 11, 0.010, 0.026, 1.35, 1.57) - swell - 0.16 * net


@press("pores-two", "Pores of two sizes", "skin", "mixed cheek nose")
def pores_two() -> AnyArray:
    return np.minimum(
        _pits(13, 21, 0.010, 0.021, 1.2, 1.4), 0.6 * _pits(38, 22, 0.003, 0.007)
    ) - 0.1 * _furrows(40, 23, 0.16)


@press("pores-drawn", "Drawn pores", "skin", "stretched cheek side old")
def pores_drawn() -> AnyArray:
    dx = 0.012 * uneven(3, 34)
    return warped(_pits(24, 31, 0.004, 0.010, 2.6, 1.2), dx, 0.5 * dx)


@press("skin-fields", "Skin fields", "skin", "hand back diamonds net")
def skin_fields() -> AnyArray:
    """The diamonds on the back of a hand: two families of furrows that cross, broken by chance."""
    x, y = places()
    dx, dy = 0.022 * rough(6, 41, 2), 0.022 * rough(6, 42, 2)
    total = np.zeros_like(x)
    for a, b, seed in ((11, 17, 1), (-12, 16, 2), (24, 3, 3)):
        phase = (x + dx) * a + (y + dy) * b + 0.35 * rough(9, 43 + seed, 2)
        near = np.abs(phase - np.round(phase))
        total = np.maximum(total, bump(near / 0.22) * (0.55 + 0.45 * step(-0.3, 0.3, rough(8, 50 + seed, 2))))
    return -soft(total, 0.001) - 0.18 * _furrows(60, 47, 0.2)


@press("goose-bumps", "Goose bumps", "skin", "cold hair follicles raised")
def goose_bumps() -> AnyArray:
    chance = np.random.default_rng(51)
    at = spread(13, 52, stray=0.3)
    size = chance.uniform(0.016, 0.026, len(at))
    out = marks(blank(), at, size, height=chance.uniform(0.55, 1.0, len(at)))
    return marks(out, at + [0.0, 0.002], 0.0035, height=-0.5, way=2)


@press("skin-nose", "Nose skin", "skin", "orange peel glands tip")
def skin_nose() -> AnyArray:
    """Domes packed tightly, each with its opening beside the middle."""
    near, border, own = cells(20, 61, stray=0.33)
    dome = np.sqrt(np.clip(border / 0.5, 0, 1)) * (0.6 + 0.4 * own)
    return soft(dome, 0.002) - 0.9 * bump(near / 0.26) * step(0.3, 0.7, own)


@press("skin-spots", "Age spots and moles", "skin", "mole wart raised")
def skin_spots() -> AnyArray:
    chance = np.random.default_rng(71)
    at = chance.uniform(0, 1, (26, 2))
    size = chance.uniform(0, 1, 26) ** 3 * 0.045 + 0.010
    out = marks(
        blank(), at, size, size * chance.uniform(0.7, 1, 26), chance.uniform(0, 3, 26), 0.3 + 12 * size
    )
    ragged = warped(out, 0.012 * rough(24, 72, 2), 0.012 * rough(24, 73, 2))
    return ragged * (1 + 0.35 * rough(60, 74, 2))


@press("skin-scar", "Scar", "skin", "healed cut seam", tiles=False, rolls=True)
def skin_scar() -> AnyArray:
    x, y = places(512, SIDE)
    middle = 0.5 + 0.035 * rough(3, 81, 3, shape=(512, SIDE))
    wide = 0.11 + 0.04 * rough(6, 82, 2, shape=(512, SIDE))
    off = (y - middle) / wide
    rope = bump(off) * (0.75 + 0.45 * rough(14, 83, 3, 5, (512, SIDE)))
    pulled = sum(bump((x - k / 13 - 0.01) / 0.012) * bump(off / 2.6) for k in range(14))
    return rope - 0.35 * bump((np.abs(off) - 1.1) / 0.5) - 0.22 * pulled * (np.abs(off) > 0.7)


def _wrinkle(out: F32, points: AnyArray, wide: AnyArray, deep: AnyArray) -> F32:
    """Furrows with the swelling beside them that makes them read as pressed together."""
    taper = tapered(points.shape[1], 0.4, 0.6)
    raised = lines(np.zeros_like(out), points, 3.2 * wide * taper, 0.42 * deep * taper)
    cut = lines(np.zeros_like(out), points, wide * taper, -deep * taper, way=LOWEST)
    return soft(raised, 0.002) * (1 + cut / max(float(-cut.min()), 1e-6)) + cut


@press("wrinkles-fine", "Fine wrinkles", "wrinkles", "lines lid forehead")
def wrinkles_fine() -> AnyArray:
    chance = np.random.default_rng(91)
    at = spread(7, 92, 26)
    n = len(at)
    points = strokes(
        at, chance.normal(0, 0.10, n), chance.uniform(0.10, 0.34, n), chance.normal(0, 0.2, n), 0.10, 93
    )
    return _wrinkle(blank(), points, chance.uniform(0.003, 0.007, (n, 1)), chance.uniform(0.3, 1.0, (n, 1)))


@press("wrinkles-deep", "Deep folds", "wrinkles", "forehead brow old")
def wrinkles_deep() -> AnyArray:
    chance = np.random.default_rng(101)
    at = spread(2, 102, 8, 0.25)
    n = len(at)
    points = strokes(
        at, chance.normal(0, 0.06, n), chance.uniform(0.45, 0.8, n), chance.normal(0, 0.25, n), 0.12, 103, 40
    )
    big = _wrinkle(blank(), points, chance.uniform(0.010, 0.018, (n, 1)), chance.uniform(0.7, 1.0, (n, 1)))
    return big + 0.25 * wrinkles_fine()


@press("wrinkles-crossed", "Crossed wrinkles", "wrinkles", "neck knuckle weathered")
def wrinkles_crossed() -> AnyArray:
    total = blank()
    for turn, seed in ((0.5, 111), (-0.62, 112), (1.5, 113)):
        chance = np.random.default_rng(seed)
        at = spread(9, seed, 16)
        n = len(at)
        points = strokes(at, turn + chance.normal(0, 0.16, n), chance.uniform(0.12, 0.3, n), 0.0, 0.14, seed)
        total = np.minimum(
            total,
            _wrinkle(blank(), points, chance.uniform(0.003, 0.008, (n, 1)), chance.uniform(0.4, 1, (n, 1))),
        )
    return total


@press("wrinkles-fan", "Fan of wrinkles", "wrinkles", "eye corner laughing crow", tiles=False)
def wrinkles_fan() -> AnyArray:
    chance = np.random.default_rng(121)
    n = 11
    turn = np.linspace(-0.85, 0.85, n) + chance.normal(0, 0.05, n)
    begin = np.stack([np.full(n, 0.14) + chance.uniform(0, 0.1, n), 0.5 + 0.16 * np.sin(turn)], -1)
    points = strokes(begin, turn, chance.uniform(0.4, 0.72, n), -0.35 * turn, 0.08, 122, 40)
    taper = tapered(40, 0.25, 0.75)
    wide, deep = chance.uniform(0.008, 0.013, (n, 1)), chance.uniform(0.6, 1, (n, 1))
    raised = lines(blank(), points, 3.0 * wide * taper, 0.35 * deep * taper, tiles=False)
    return soft(raised, 0.004) + lines(blank(), points, wide * taper, -deep * taper, way=LOWEST, tiles=False)


@press("wrinkles-knuckle", "Knuckle", "wrinkles", "finger joint folds", tiles=False)
def wrinkles_knuckle() -> AnyArray:
    x, y = places()
    u, v = 2 * x - 1, 2 * y - 1
    v = v + 0.04 * rough(6, 131, 2)
    rings = np.zeros_like(x)
    for k in range(-4, 5):
        line = v - 0.17 * k * (1 - 0.75 * u * u) - 0.02 * np.sin(7 * u + k)
        rings = np.maximum(rings, bump(line / (0.055 - 0.005 * abs(k))) * (1 - 0.12 * abs(k)))
    inside = step(0, 0.5, 1 - np.hypot(u, 1.25 * v))
    return inside * (0.35 * ball_of(u, v) - rings) - 0.12 * inside * _furrows(60, 132, 0.2)


def ball_of(u: AnyArray, v: AnyArray) -> AnyArray:
    """A soft cap over the unit circle, (h, w)."""
    return bump(np.hypot(u, v))


@press("palm-lines", "Palm ridges", "wrinkles", "finger print sole hand")
def palm_lines() -> AnyArray:
    """Ridges that run side by side and bend together, each with its row of pores."""
    _, y = places()
    phase = 34 * (y + 0.09 * uneven(2, 141) + 0.03 * uneven(4, 142)) + 0.7 * uneven(3, 144)
    wave = np.cos(2 * np.pi * phase)
    return np.clip(1.4 * wave, -1, 1) * 0.6 + 0.5 * _pits(44, 145, 0.003, 0.004) * (wave > 0.5)


def _lip(seed: int, count: int, deep: float) -> AnyArray:
    """Creases from rim to rim, forked at their ends."""
    chance = np.random.default_rng(seed)
    at = np.stack(
        [(np.arange(count) + chance.uniform(-0.35, 0.35, count)) / count, chance.uniform(0, 0.25, count)], -1
    )
    n = len(at)
    points = strokes(
        at,
        np.pi / 2 + chance.normal(0, 0.09, n),
        chance.uniform(0.5, 0.95, n),
        chance.normal(0, 0.22, n),
        0.10,
        seed,
        36,
    )
    out = _wrinkle(blank(), points, chance.uniform(0.006, 0.016, (n, 1)), chance.uniform(0.5, 1, (n, 1)))
    fork = points[:, 22]
    side = np.where(chance.random(n) < 0.5, -1.0, 1.0)
    twigs = strokes(fork, np.pi / 2 + 0.45 * side, chance.uniform(0.12, 0.3, n), -0.3 * side, 0.05, seed + 1)
    return out + deep * _wrinkle(blank(), twigs, np.full((n, 1), 0.005), chance.uniform(0.4, 0.9, (n, 1)))


@press("lip-creases", "Lip creases", "lips", "mouth vertical lines")
def lip_creases() -> AnyArray:
    return _lip(151, 17, 0.7)


@press("lip-full", "Full lips", "lips", "mouth pillows swollen")
def lip_full() -> AnyArray:
    x, _ = places()
    phase = 9 * x + 0.45 * uneven(4, 161, 2) + 0.15 * uneven(12, 162, 6)
    pillow = np.abs(np.cos(np.pi * phase)) ** 0.6
    return soft(pillow, 0.002) - 1 + 0.25 * _lip(163, 30, 0.4)


@press("lip-dry", "Dry lips", "lips", "chapped flakes cracked")
def lip_dry() -> AnyArray:
    _, border, own = cells(17, 171, 9, 0.42)
    _, small, rise = cells(40, 172, 24)
    flakes = step(0.02, 0.14, border) * (0.45 + 0.35 * own) + step(0.03, 0.2, small) * 0.3 * rise
    return warped(flakes, 0.01 * rough(10, 173), 0.02 * rough(7, 174)) - 0.75
