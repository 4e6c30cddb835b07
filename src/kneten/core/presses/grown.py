"""Bark, cracks, mud, foam and hair."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.presses.entry import press
from kneten.core.presses.fields import (
    LOWEST,
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


@press("bark-oak", "Oak bark", "bark", "furrows plates deep tree")
def bark_oak() -> AnyArray:
    _, border, own = cells(9, 1, 4, 0.44)
    ridge = step(0.02, 0.34, border) * (0.7 + 0.3 * own)
    grooves = 0.22 * rough(34, 2, 4, 5)
    torn = 0.12 * bump((places()[1] * 30 + 2 * rough(8, 3)) % 1 - 0.5)
    return warped(ridge + (grooves - torn) * step(0.05, 0.3, border), 0.025 * rough(5, 4), 0.04 * rough(4, 5))


@press("bark-birch", "Birch bark", "bark", "smooth peeling slits tree")
def bark_birch() -> AnyArray:
    chance = np.random.default_rng(6)
    at = spread(5, 7, 22, 0.45)
    n = len(at)
    slits = marks(
        blank(),
        at,
        chance.uniform(0.02, 0.085, n),
        chance.uniform(0.003, 0.007, n),
        0.0,
        chance.uniform(0.3, 0.8, n),
    )
    slits = marks(slits, at, 0.015, 0.0025, 0.0, -0.8, way=2)
    edges = 3 * places()[1] + 0.25 * rough(4, 8, 3)
    t = edges - np.floor(edges)
    return (
        warped(slits, 0, 0.006 * rough(7, 9))
        + 0.5 * step(0.0, 0.02, t) * (1 - t) ** 3
        + 0.08 * rough(4, 10, 3, 30)
    )


@press("bark-pine", "Pine bark", "bark", "plates scales flakes tree")
def bark_pine() -> AnyArray:
    _, border, own = cells(6, 11, 5, 0.42)
    total = step(0, 0.10, border) * (0.35 + 0.4 * own)
    for across, seed, high in ((13, 12, 0.3), (27, 13, 0.16)):
        _, edge, rise = cells(across, seed, int(0.8 * across), 0.45)
        total = total + high * np.round(3 * rise) / 3 * step(0, 0.12, edge) * step(0, 0.14, border)
    return warped(total, 0.012 * rough(9, 14), 0.012 * rough(9, 15)) - 0.3


@press("wood-grain", "Wood grain", "bark", "plank knots rings timber")
def wood_grain() -> AnyArray:
    """Growth rings cut lengthwise, drawn aside by two knots."""
    x, y = places()
    field = 15 * y + 0.45 * uneven(2, 16, 4) + 0.10 * uneven(3, 17, 20)
    for kx, ky, size in ((0.28, 0.36, 0.10), (0.74, 0.79, 0.075)):
        dx, dy = (x - kx + 0.5) % 1 - 0.5, (y - ky + 0.5) % 1 - 0.5
        r = np.hypot(dx / 2.2, dy) / size
        field = field + 3.4 * np.sign(dy) * np.exp(-(r**1.4)) * step(0, 0.01, np.abs(dy)) * (
            1 - np.exp(-3 * r)
        )
    t = field - np.floor(field)
    rings = np.where(t < 0.8, t / 0.8, (1 - t) / 0.2)
    return 0.6 * soft(rings, 0.0012) + 0.25 * rough(4, 18, 3, 110)


@press("cracks-mud", "Dried mud", "cracks", "desert curled plates dry")
def cracks_mud() -> AnyArray:
    near, border, own = cells(7, 19, stray=0.44)
    _, small, _ = cells(19, 20, stray=0.44)
    curl = 0.35 * np.clip(near, 0, 1) ** 2
    plate = step(0.02, 0.09, border) * (0.6 + 0.15 * own + curl)
    fine = 0.22 * bump(small / 0.05) * step(0.1, 0.3, border)
    return warped(plate - fine, 0.012 * rough(12, 21), 0.012 * rough(12, 22)) - 0.75


@press("cracks-glaze", "Crazed glaze", "cracks", "craquelure porcelain paint")
def cracks_glaze() -> AnyArray:
    _, big, own = cells(6, 23, stray=0.46)
    _, small, rise = cells(17, 24, stray=0.46)
    cut = np.maximum(bump(big / 0.035), 0.7 * bump(small / 0.045) * step(0.35, 0.5, own * 0.6 + rise * 0.4))
    return -warped(cut, 0.004 * rough(24, 25, 2), 0.004 * rough(24, 26, 2))


@press("crack", "Crack", "cracks", "branching broken fracture", tiles=False)
def crack() -> AnyArray:
    chance = np.random.default_rng(27)
    out = blank()
    begun = [(np.array([0.03, 0.52]), 0.0, 0.96, 0.020, 0)]
    while begun:
        at, turn, length, wide, deep = begun.pop()
        points = strokes(
            at[None],
            turn,
            length,
            chance.normal(0, 0.25),
            0.5 / (1 + deep),
            int(chance.integers(1_000_000)),
            48,
        )
        taper = tapered(48, 0.05, 0.9)
        jag = wide * taper * chance.uniform(0.7, 1.3, 48)
        lines(out, points, jag[None], -(0.5 + 0.5 * taper)[None], 3, LOWEST, False)
        if deep < 3:
            for _ in range(4 - deep):
                k = int(chance.integers(8, 40))
                side = 1 if chance.random() < 0.5 else -1
                begun.append(
                    (
                        points[0, k],
                        turn + side * chance.uniform(0.4, 1.0),
                        length * chance.uniform(0.2, 0.45),
                        wide * 0.6 * taper[k],
                        deep + 1,
                    )
                )
    return out


@press("cracks-stone", "Broken stone", "cracks", "rock slate layers edges")
def cracks_stone() -> AnyArray:
    field = 6 * places()[1] + 0.9 * rough(3, 28, 4) + 0.3 * rough(9, 29, 2, 2)
    t = field - np.floor(field)
    ledge = step(0.0, 0.05, t) * (1 - 0.7 * t)
    return ledge + 0.14 * rough(12, 30, 5)


@press("mud-splash", "Splashes", "mud", "spatter drops wet")
def mud_splash() -> AnyArray:
    chance = np.random.default_rng(31)
    n = 130
    at = chance.uniform(0, 1, (n, 2))
    size = 0.006 + 0.045 * chance.uniform(0, 1, n) ** 4
    out = marks(
        blank(), at, size, size * chance.uniform(0.6, 1, n), chance.uniform(0, 3, n), 0.3 + 14 * size, 2
    )
    for k in np.argsort(size)[-9:]:
        rays = 7
        turn = chance.uniform(0, 2 * np.pi, rays)
        points = strokes(
            np.repeat(at[k : k + 1], rays, 0),
            turn,
            size[k] * chance.uniform(1.0, 1.9, rays),
            0.0,
            0.05,
            int(k),
        )
        lines(out, points, (size[k] * 0.34 * (1 - 0.75 * np.linspace(0, 1, 24)))[None], 0.55)
    return soft(warped(out, 0.004 * rough(24, 32, 2), 0.004 * rough(24, 33, 2)), 0.0012)


@press("mud-runs", "Runs and drips", "mud", "slime tears water wax")
def mud_runs() -> AnyArray:
    chance = np.random.default_rng(34)
    n = 26
    at = np.stack([chance.uniform(0, 1, n), chance.uniform(0, 1, n)], -1)
    points = strokes(at, np.pi / 2, chance.uniform(0.2, 0.6, n), 0.0, 0.05, 35, 40)
    wide = (
        chance.uniform(0.007, 0.016, (n, 1))
        * (0.7 + 0.3 * np.linspace(0, 1, 40)[None] ** 3)
        * tapered(40, 0.3, 0.02)
    )
    out = lines(blank(), points, wide, 0.75)
    drops = points[:, -2]
    size = wide.max(axis=1) * 1.5
    return soft(marks(out, drops, size, size * 1.35, 0.0, 1.0, 2), 0.0015)


@press("mud-clods", "Clods", "mud", "earth dirt crumbs rust")
def mud_clods() -> AnyArray:
    out = blank()
    for across, high in ((9, 1.0), (20, 0.55), (44, 0.28)):
        _, border, own = cells(across, 37 + across, stray=0.45)
        there = own > 0.5
        out = np.maximum(out, there * high * np.sqrt(np.clip(border / 0.4, 0, 1)) * (0.5 + own / 2))
    return warped(out, 0.014 * rough(20, 38), 0.014 * rough(20, 39)) + 0.1 * rough(50, 40, 3)


@press("foam-bubbles", "Bubbles", "foam", "froth soap spawn")
def foam_bubbles() -> AnyArray:
    chance = np.random.default_rng(41)
    out = blank()
    for across, least, most in ((34, 0.006, 0.016), (15, 0.02, 0.036), (7, 0.045, 0.075)):
        at = spread(across, 42 + across, stray=0.45)
        at = at[chance.random(len(at)) < 0.75]
        size = chance.uniform(least, most, len(at))
        marks(out, at, size, height=size / 0.075, section=2)
    return np.sqrt(out)


@press("foam-sponge", "Sponge", "foam", "holes pumice coral bread")
def foam_sponge() -> AnyArray:
    out = blank()
    chance = np.random.default_rng(43)
    for across, size, deep in ((8, 0.05, 1.0), (17, 0.024, 0.75), (38, 0.011, 0.5)):
        at = spread(across, 44 + across, stray=0.45)
        n = len(at)
        wide = size * chance.uniform(0.5, 1.1, n)
        marks(
            out,
            at,
            wide,
            wide * chance.uniform(0.6, 1, n),
            chance.uniform(0, 3, n),
            -deep * chance.uniform(0.6, 1, n),
            1,
            LOWEST,
        )
    return soft(warped(out, 0.01 * rough(18, 45), 0.01 * rough(18, 46)), 0.001)


@press("foam-coral", "Brain coral", "foam", "maze labyrinth folds meander")
def foam_coral() -> AnyArray:
    """Winding ridges: what activator and inhibitor come to rest at, by blurring over two widths and sharpening, in turn."""
    field = np.random.default_rng(47).normal(0, 1, (256, 256)).astype(np.float32)
    for _ in range(14):
        field = np.tanh(5.0 * (soft(field, 0.010) - 0.92 * soft(field, 0.0185)) / 0.12 * 0.8)
    large = np.kron(field, np.ones((4, 4), np.float32))
    return soft(large, 0.004)


@press("foam-barnacles", "Barnacles", "foam", "crust shells harbour crater")
def foam_barnacles() -> AnyArray:
    chance = np.random.default_rng(48)
    x, y = places()
    out = 0.08 * rough(24, 49, 3)
    at = spread(6, 50, stray=0.42)
    for px, py in at:
        size = chance.uniform(0.035, 0.085)
        dx, dy = (x - px + 0.5) % 1 - 0.5, (y - py + 0.5) % 1 - 0.5
        near = (np.abs(dx) < size) & (np.abs(dy) < size)
        rows, columns = np.flatnonzero(near.any(axis=1)), np.flatnonzero(near.any(axis=0))
        here = np.ix_(rows, columns)
        angle = np.arctan2(dy[here], dx[here])
        d = np.hypot(dx[here], dy[here]) / (size * (1 + 0.07 * np.cos(6 * angle + px * 50)))
        wall = np.clip((1 - d) / 0.62, 0, 1) * (0.86 + 0.14 * np.cos(14 * angle)) - 1.1 * step(
            0, 0.16, 0.36 - d
        )
        out[here] = np.where(d < 1, np.maximum(out[here], wall * size / 0.085), out[here])
    return out


def _locks(seed: int, lanes: int, strands: int, waver: float) -> F32:
    """Strands that run side by side and gather in locks, along x; goes on from end to end."""
    chance = np.random.default_rng(seed)
    x = np.linspace(0.0, 1.0, 65)
    out = blank()
    for lane in range(lanes):
        wander = np.zeros_like(x)
        for k in (1, 2):
            wander += chance.normal(0, waver / k) * np.sin(2 * np.pi * (k * x + chance.random()))
        tight = 0.62 + 0.38 * np.cos(2 * np.pi * (x + chance.random()))
        high = chance.uniform(0.55, 1.0)
        for strand in np.linspace(-1, 1, strands):
            own = 0.05 * np.sin(2 * np.pi * (x * int(chance.integers(1, 4)) + chance.random()))
            y = (lane + 0.5) / lanes + wander + (strand * tight * 0.62 + own) / lanes
            wide = (0.30 / lanes) * tight * 3.2 / strands
            top = high * (0.35 + 0.65 * np.sqrt(1 - 0.9 * strand**2)) * (0.9 + 0.1 * chance.random())
            lines(out, np.stack([x, y], -1)[None], wide[None] * 1.35, top, 2)
    return out


@press("hair-locks", "Hair in locks", "hair", "strands combed flow", rolls=True)
def hair_locks() -> AnyArray:
    return _locks(51, 7, 9, 0.018)


@press("hair-lock", "One lock", "hair", "strand tress clump", tiles=False, rolls=True)
def hair_lock() -> AnyArray:
    x = np.linspace(0.0, 1.0, 65)
    out = blank(512, SIDE)
    chance = np.random.default_rng(52)
    for strand in np.linspace(-1, 1, 15):
        own = 0.02 * np.sin(2 * np.pi * (2 * x + chance.random()))
        y = 0.5 + strand * 0.36 * (0.85 + 0.15 * np.cos(2 * np.pi * (x + 0.2))) + own
        lines(
            out, np.stack([x, y], -1)[None], 0.045, 0.4 + 0.6 * np.sqrt(1 - 0.95 * strand**2), 2, tiles=False
        )
    return out


@press("hair-wavy", "Wavy hair", "hair", "curled mane waves", rolls=True)
def hair_wavy() -> AnyArray:
    return warped(_locks(53, 6, 10, 0.01), 0, 0.045 * np.sin(4 * np.pi * places()[0] + 0.8 * uneven(2, 54)))


@press("fur-short", "Short fur", "hair", "coat pelt animal tufts")
def fur_short() -> AnyArray:
    chance = np.random.default_rng(55)
    at = spread(34, 56, 34, 0.45)
    n = len(at)
    turn = 0.9 * uneven(3, 57)[(at[:, 1] * SIDE).astype(int) % SIDE, (at[:, 0] * SIDE).astype(int) % SIDE]
    points = strokes(
        at,
        turn + chance.normal(0, 0.16, n),
        chance.uniform(0.05, 0.10, n),
        chance.normal(0, 0.25, n),
        0.0,
        58,
        12,
    )
    return lines(
        blank(),
        points,
        0.0042 * tapered(12, 0.3, 0.9),
        chance.uniform(0.35, 1.0, (n, 1)) * np.linspace(0.45, 1, 12),
        2,
    )


@press("fur-wet", "Wet fur", "hair", "clumped tufts otter spikes")
def fur_wet() -> AnyArray:
    """Tufts that water has drawn together: each a sheaf of hairs that ends in one point."""
    chance = np.random.default_rng(59)
    at = spread(13, 60, 15, 0.42)
    out = blank()
    for lift, some in enumerate(np.array_split(chance.permutation(len(at)), 3)):
        n = len(some)
        begin = at[some]
        turn = chance.normal(0, 0.18, n)
        for hair in np.linspace(-1, 1, 9):
            side = np.stack([-np.sin(turn), np.cos(turn)], -1)
            root = begin + side * hair * 0.024
            points = strokes(root, turn - 0.10 * hair, 0.17, -0.13 * hair, 0.04, 61 + lift, 20)
            top = (0.45 + 0.18 * lift) * (1 - 0.25 * hair**2) * np.linspace(0.55, 1.0, 20)
            lines(out, points, 0.0055 * tapered(20, 0.3, 0.9), np.broadcast_to(top, (n, 20)), 2)
    return out


@press("fur-curls", "Curls", "hair", "wool lamb astrakhan ringlets")
def fur_curls() -> AnyArray:
    out = blank()
    chance = np.random.default_rng(62)
    t = np.linspace(0, 1, 60)
    for px, py in spread(12, 63, stray=0.3):
        size, begin, side = (
            chance.uniform(0.042, 0.058),
            chance.uniform(0, 6.3),
            1 if chance.random() < 0.5 else -1,
        )
        angle = begin + side * 2 * np.pi * 1.7 * t
        r = size * (1 - 0.85 * t)
        for strand in (-1, 0, 1):
            far = r + strand * 0.006 * (1 - 0.6 * t)
            line = np.stack([px + far * np.cos(angle), py + far * np.sin(angle)], -1)
            lines(
                out, line[None], (0.0065 * (1 - 0.4 * t))[None], (0.4 + 0.6 * t - 0.08 * strand**2)[None], 2
            )
    return out
