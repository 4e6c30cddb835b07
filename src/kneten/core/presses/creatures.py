"""Scales, hide and horn."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, AnyArray, in_parts, kernel
from kneten.core.presses.entry import press
from kneten.core.presses.fields import (
    LOWEST,
    ROWS,
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


@kernel
def _lay_tiles(
    first: int, last: int, number: F64, width: float, length: float, point: float, out: F32
) -> None:
    rows = out.shape[1]
    columns = out.shape[2]
    down = number.shape[0]
    across = number.shape[1]
    for i in range(first, last):
        py = (i + 0.5) / rows * down
        for j in range(columns):
            px = (j + 0.5) / columns * across
            best = -1.0
            # What begins higher up lies over what begins below.
            for row in range(-3, 2):
                cy = int(np.floor(py)) + row
                b = (py - cy) / length
                if b < 0.0 or b >= 1.0 or b <= best:
                    continue
                shift = 0.5 * (cy % 2)
                outline = 1.0
                if b > 0.45:
                    outline = (1.0 - ((b - 0.45) / 0.55) ** (2.2 - point)) ** (0.5 + 0.5 * point)
                for column in range(-1, 2):
                    cx = int(np.floor(px - shift)) + column
                    a = (px - (cx + 0.5 + shift)) / (0.5 * width)
                    if abs(a) < outline and b > best:
                        best = b
                        out[1, i, j] = a
                        out[2, i, j] = min(outline - abs(a), (1.0 - b) * 1.2)
                        out[3, i, j] = number[cy % down, cx % across]
            out[0, i, j] = max(best, 0.0)


def _tiled(across: int, down: int, width: float, length: float, point: float, seed: int) -> F32:
    """Scales that lie over each other like tiles of a roof, their free ends below, (4, rows, columns).

    For each pixel the scale on top there: how far along it (0 root, 1 tip), how far aside (-1..1), how near its rim is
    (0 at the rim), and a number of chance.
    """
    number = np.random.default_rng(seed).random((down, across))
    out = np.zeros((4, SIDE, SIDE), np.float32)
    in_parts(SIDE, lambda first, last: _lay_tiles(first, last, number, width, length, point, out), ROWS)
    return out


@press("scales-round", "Round scales", "scales", "fish tiles overlapping")
def scales_round() -> AnyArray:
    along, aside, rim, own = _tiled(12, 16, 1.08, 1.9, 0.0, 1)
    return (0.35 + 0.65 * along) * (1 - 0.3 * aside**2) * step(0, 0.16, rim) * (0.88 + 0.12 * own)


@press("scales-pointed", "Pointed scales", "scales", "dragon kite sharp overlapping")
def scales_pointed() -> AnyArray:
    along, aside, rim, own = _tiled(9, 12, 1.12, 2.1, 0.9, 2)
    keel = 0.28 * bump(aside / 0.35) * along
    return ((0.3 + 0.6 * along) * (1 - 0.45 * aside**2) + keel) * step(0, 0.14, rim) * (0.85 + 0.15 * own)


@press("scales-ringed", "Ringed scales", "scales", "carp growth rings old fish")
def scales_ringed() -> AnyArray:
    along, aside, rim, own = _tiled(7, 10, 1.1, 1.9, 0.1, 3)
    rings = 0.06 * np.cos(2 * np.pi * (7 * along + 1.2 * aside**2 + own))
    return ((0.35 + 0.6 * along) * (1 - 0.25 * aside**2) + rings) * step(0, 0.12, rim)


@press("scales-pebble", "Pebble scales", "scales", "lizard beads gecko")
def scales_pebble() -> AnyArray:
    near, border, own = cells(26, 4, stray=0.30)
    return np.sqrt(np.clip(border / 0.42, 0, 1)) * (0.6 + 0.4 * own) - 0.1 * bump(near / 0.2)


@press("scales-mixed", "Large and small scales", "scales", "lizard toad crocodile studs")
def scales_mixed() -> AnyArray:
    """Large studs set apart, the ground between them full of small ones."""
    _, border, _ = cells(34, 5, stray=0.33)
    ground = 0.45 * np.sqrt(np.clip(border / 0.42, 0, 1))
    at, chance = spread(6, 6, stray=0.3), np.random.default_rng(7)
    size = chance.uniform(0.035, 0.065, len(at))
    studs = marks(
        blank(),
        at,
        size,
        size * 0.85,
        chance.uniform(0, 3, len(at)),
        size / 0.065,
        2,
    )
    ring = marks(blank(), at, size * 1.25, size * 1.1, 0.0, 1.0, 1)
    return np.where(studs > 0.02, 0.45 + 0.55 * studs, ground * (1 - 0.75 * ring))


@press("scales-snake", "Snake scales", "scales", "keeled narrow hexagons")
def scales_snake() -> AnyArray:
    along, aside, rim, own = _tiled(14, 10, 0.98, 1.5, 0.55, 8)
    keel = 0.35 * bump(aside / 0.16) * step(0.05, 0.3, along) * step(0, 0.2, 1 - along)
    return (
        ((0.5 + 0.3 * along) * (1 - 0.4 * np.abs(aside) ** 3) + keel)
        * step(0, 0.2, rim)
        * (0.92 + 0.08 * own)
    )


@press("scutes", "Belly plates", "scales", "snake crocodile bands wide", rolls=True)
def scutes() -> AnyArray:
    x, y = places()
    phase = 8 * x + 0.05 * uneven(3, 9) + 0.35 * (2 * y - 1) ** 2
    t = phase - np.floor(phase)
    grain = 0.05 * rough(40, 10, 3, 6)
    return (0.3 + 0.7 * t**0.8) * step(0, 0.10, 1 - t) * step(-0.02, 0.04, t) + grain


@press("hide-thick", "Thick hide", "hide", "elephant folds deep net")
def hide_thick() -> AnyArray:
    _, big, own = cells(8, 11, 11, 0.42)
    _, small, rise = cells(34, 12, 40)
    _, least, _ = cells(80, 13, 80)
    plates = step(0, 0.22, big) * 0.55 * (0.8 + 0.2 * own) + 0.28 * step(0, 0.28, small) * (0.7 + 0.3 * rise)
    return warped(plates + 0.1 * step(0, 0.3, least), 0.02 * rough(5, 14), 0.02 * rough(5, 15)) - 0.9


@press("hide-grain", "Leather grain", "hide", "cow leather fine cells")
def hide_grain() -> AnyArray:
    _, border, own = cells(46, 16, 58, 0.42)
    _, wide, _ = cells(13, 17, 9, 0.42)
    grain = np.sqrt(np.clip(border / 0.36, 0, 1)) * (0.65 + 0.35 * own)
    return (
        warped(grain * (0.45 + 0.55 * step(0, 0.22, wide)), 0.008 * rough(9, 18), 0.008 * rough(9, 19)) - 0.8
    )


@press("hide-plates", "Armour plates", "hide", "rhinoceros plates studs")
def hide_plates() -> AnyArray:
    near, border, own = cells(11, 20, stray=0.36)
    dome = step(0, 0.12, border) * (0.55 + 0.45 * np.clip(1 - near, 0, 1))
    knobs = 0.35 * bump((near - 0.12) / 0.3) * own
    return dome + knobs + 0.07 * rough(50, 21, 3)


@press("hide-warts", "Warts", "hide", "toad lumps glands")
def hide_warts() -> AnyArray:
    chance = np.random.default_rng(22)
    out = blank()
    for across, least, most in ((26, 0.006, 0.014), (11, 0.014, 0.032), (5, 0.03, 0.06)):
        at = spread(across, 23 + across, stray=0.45)
        at = at[chance.random(len(at)) < 0.72]
        size = chance.uniform(least, most, len(at))
        marks(
            out,
            at,
            size,
            size * chance.uniform(0.75, 1.0, len(at)),
            chance.uniform(0, 3, len(at)),
            size / 0.06 + 0.15,
            2,
        )
    _, net, _ = cells(70, 24)
    return soft(out, 0.0015) + 0.06 * step(0, 0.3, net)


@press("hide-sucked", "Suckers", "hide", "octopus squid rings", rolls=True)
def hide_sucked() -> AnyArray:
    chance = np.random.default_rng(25)
    out = blank(512)
    x, y = places(512, SIDE)
    for height, shift, size in ((0.28, 0.0, 0.19), (0.72, 0.5, 0.19)):
        for k in range(6):
            grown = size * chance.uniform(0.9, 1.05)
            dx = np.abs(x - (k + shift) / 6 - 0.04)
            dx = np.minimum(dx, 1 - dx) * 2
            d = np.hypot(dx, y - height) / grown
            ring = bump((d - 0.78) / 0.24) + 0.45 * bump(d / 0.2) - 0.35 * bump(d / 0.62)
            out = np.where(d < 1.02, ring, out)
    return out


@press("horn-rings", "Horn rings", "horn", "ram goat growth bands", rolls=True)
def horn_rings() -> AnyArray:
    x, _ = places()
    phase = 9 * x + 0.22 * rough(4, 26, 3) + 0.12 * uneven(2, 27)
    t = phase - np.floor(phase)
    ridge = np.where(t < 0.72, (t / 0.72) ** 1.6, 1 - step(0.72, 1.0, t))
    fibre = 0.12 * rough(6, 28, 4, 60)
    return ridge * (0.8 + 0.2 * uneven(9, 29, 2)) + fibre


@press("horn-fibres", "Horn fibres", "horn", "keratin streaks hoof claw", rolls=True)
def horn_fibres() -> AnyArray:
    streaks = rough(3, 30, 5, 70) + 0.6 * rough(2, 31, 3, 24)
    chance = np.random.default_rng(32)
    at = chance.uniform(0, 1, (60, 2))
    points = strokes(at, chance.normal(0, 0.02, 60), chance.uniform(0.15, 0.5, 60), 0.0, 0.03, 33)
    cuts = lines(blank(), points, 0.003 * tapered(), -1.1, 3, LOWEST)
    return warped(streaks, 0, 0.012 * rough(4, 34, 2)) * 0.6 + cuts


@press("horn-nail", "Nail ridges", "horn", "claw nail hoof", rolls=True)
def horn_nail() -> AnyArray:
    _, y = places()
    ridges = np.cos(2 * np.pi * (26 * y + 0.4 * uneven(2, 35, 8)))
    growth = 0.35 * rough(9, 36, 3, 2)
    return 0.35 * ridges * (0.6 + 0.4 * uneven(3, 37, 9)) + growth + 0.08 * rough(30, 38, 2)


@press("horn-chipped", "Chipped horn", "horn", "broken flakes tooth antler")
def horn_chipped() -> AnyArray:
    """Terraces that broke off one under the other, each with the ripples of its own break."""
    field = 2.6 * rough(4, 39, 3)
    t = field - np.floor(field)
    ripples = 0.07 * np.cos(2 * np.pi * 6 * np.sqrt(t))
    return np.floor(field) / 3 + 0.25 * step(0.0, 0.06, t) + ripples * step(0.02, 0.2, t)
