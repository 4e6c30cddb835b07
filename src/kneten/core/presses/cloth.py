"""Weave, knit and stitch: threads that go over and under each other."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.presses.entry import press
from kneten.core.presses.fields import SIDE, ball, bump, lines, places, rough, step, uneven, warped


def _woven(
    up: AnyArray, across: int, down: int, loose: float = 0.0, seed: int = 0, thread: float = 0.92
) -> AnyArray:
    """Threads by a pattern (r, c) that says where those from top to bottom lie above; repeated to so many threads."""
    x, y = places()
    if loose:
        x = x + loose * rough(5, seed, 2) / across
        y = y + loose * rough(5, seed + 1, 2) / down
    px, py = x * across, y * down
    column, row = np.floor(px).astype(int), np.floor(py).astype(int)

    def above(r: AnyArray, c: AnyArray) -> AnyArray:
        return up[r % up.shape[0], c % up.shape[1]].astype(np.float64)

    fx, fy = px - column, py - row
    # A thread rises where it lies above and sinks where it does not, softly in between.
    here = above(row, column)
    warp_next = np.where(fy < 0.5, above(row - 1, column), above(row + 1, column))
    weft_next = np.where(fx < 0.5, 1 - above(row, column - 1), 1 - above(row, column + 1))
    ty, tx = np.abs(fy - 0.5) * 2, np.abs(fx - 0.5) * 2
    warp_lift = here + (warp_next - here) * 0.5 * step(0, 1, ty)
    weft_lift = (1 - here) + (weft_next - (1 - here)) * 0.5 * step(0, 1, tx)
    ply = 0.05 * np.cos(2 * np.pi * (3 * fx + 2 * py)), 0.05 * np.cos(2 * np.pi * (3 * fy + 2 * px))
    warp = ball((fx - 0.5) * 2 / thread) * 0.55 + 0.45 * warp_lift + ply[0]
    weft = ball((fy - 0.5) * 2 / thread) * 0.55 + 0.45 * weft_lift + ply[1]
    warp = np.where(np.abs(fx - 0.5) * 2 < thread, warp, -0.1)
    weft = np.where(np.abs(fy - 0.5) * 2 < thread, weft, -0.1)
    return np.maximum(warp, weft) - 0.35


PLAIN = np.array([[1, 0], [0, 1]])


@press("weave-linen", "Linen", "weave", "plain cloth shirt")
def weave_linen() -> AnyArray:
    return _woven(PLAIN, 40, 40, 0.25, 1) * (0.9 + 0.1 * uneven(20, 2, 3))


@press("weave-sack", "Sackcloth", "weave", "burlap coarse jute")
def weave_sack() -> AnyArray:
    return _woven(PLAIN, 18, 18, 0.9, 3, 0.74) * (0.85 + 0.25 * rough(9, 4, 3))


@press("weave-twill", "Twill", "weave", "denim trousers diagonal")
def weave_twill() -> AnyArray:
    return _woven(np.array([[1, 1, 0, 0], [0, 1, 1, 0], [0, 0, 1, 1], [1, 0, 0, 1]]), 40, 40, 0.15, 5)


@press("weave-herring", "Herringbone", "weave", "tweed coat zigzag")
def weave_herring() -> AnyArray:
    base = np.array([[1, 1, 0, 0], [0, 1, 1, 0], [0, 0, 1, 1], [1, 0, 0, 1]])
    pattern = np.concatenate([np.tile(base, (1, 2)), np.tile(base, (1, 2))[:, ::-1]], axis=1)
    return _woven(pattern, 48, 48, 0.15, 7)


@press("weave-basket", "Basket", "weave", "wicker reed willow")
def weave_basket() -> AnyArray:
    x, y = places()
    half = np.floor(16 * y) % 2
    strip = 16 * y - np.floor(16 * y)
    over = np.cos(2 * np.pi * (4 * x + 0.5 * half))
    body = ball((strip - 0.5) * 2.05) * (0.62 + 0.38 * over)
    stake = 0.5 * ball((8 * x - np.floor(8 * x) - 0.5) * 3.4)
    return np.maximum(body, stake * (over < 0.2)) + 0.05 * rough(6, 8, 3, 80)


@press("weave-reed", "Reed mat", "weave", "thatch straw coat bundles", rolls=True)
def weave_reed() -> AnyArray:
    """Stems side by side, tied down by two cords."""
    x, y = places()
    stems = 26
    px = stems * x + 0.12 * uneven(26, 9, 4)
    number = np.random.default_rng(10).random(stems)[np.floor(px).astype(int) % stems]
    body = ball((px - np.floor(px) - 0.5) * 2.05) * (0.7 + 0.3 * number)
    knots = bump((((y + number) * 2) % 1 - 0.5) / 0.03) * 0.2
    for height in (0.25, 0.75):
        cord = bump((y - height) / 0.045) * (0.9 + 0.25 * np.cos(2 * np.pi * (stems * x + 6 * (y - height))))
        body = np.maximum(body * (1 - 0.55 * bump((y - height) / 0.09)), cord)
    return body + knots * (body > 0.3)


@press("weave-felt", "Felt", "weave", "wool hat matted fibres")
def weave_felt() -> AnyArray:
    chance = np.random.default_rng(11)
    n = 900
    t = np.linspace(0, 1, 14)
    at, turn, bend = (
        chance.uniform(0, 1, (n, 2)),
        chance.uniform(0, 6.3, (n, 1)),
        chance.normal(0, 1.6, (n, 1)),
    )
    angle = turn + bend * t
    long = chance.uniform(0.05, 0.14, (n, 1)) / 14
    points = np.stack(
        [at[:, :1] + np.cumsum(np.cos(angle) * long, 1), at[:, 1:] + np.cumsum(np.sin(angle) * long, 1)], -1
    )
    out: F32 = np.zeros((SIDE, SIDE), np.float32)
    lines(out, points, 0.0026, chance.uniform(0.2, 1.0, (n, 1)), 2)
    return out + 0.35 * rough(9, 12, 3)


def _loop(columns: int, rows: int, split: bool = False) -> AnyArray:
    """Stitches of plain knitting: rows of Vs, each hanging in the one below."""
    x, y = places()
    px = x * columns
    column = np.floor(px)
    fx = px - column
    side = np.where(fx < 0.5, -1.0, 1.0)
    t = np.where(fx < 0.5, fx * 2, (fx - 0.5) * 2)
    lean = (t - 0.5) * side
    fy = y * rows - 0.85 * lean
    fy = fy - np.floor(fy)
    leg = ball((t - 0.5) * 2.0) * (0.55 + 0.45 * np.sin(np.pi * fy)) * ball((fy - 0.5) * 1.9) ** 0.5
    ply = 0.06 * np.cos(2 * np.pi * (2.5 * t + 2 * fy * side))
    return leg + ply * (leg > 0.15) if not split else leg


@press("knit-plain", "Plain knit", "knit", "jersey stocking jumper")
def knit_plain() -> AnyArray:
    return warped(_loop(18, 22), 0.003 * rough(6, 13, 2), 0.003 * rough(6, 14, 2))


@press("knit-fine", "Fine knit", "knit", "sock stocking glove")
def knit_fine() -> AnyArray:
    return warped(_loop(40, 46), 0.002 * rough(9, 15, 2), 0.002 * rough(9, 16, 2))


@press("knit-purl", "Purl knit", "knit", "back garter bumps")
def knit_purl() -> AnyArray:
    x, y = places()
    row = np.floor(24 * y)
    fx, fy = 16 * x + 0.5 * (row % 2), 24 * y - row
    wave = 0.24 * np.cos(2 * np.pi * fx)
    arc = ball((fy - 0.5 - wave) * 2.7)
    return arc * (0.75 + 0.25 * np.cos(2 * np.pi * fx)) + 0.05 * np.cos(2 * np.pi * (4 * fx + 3 * fy)) * (
        arc > 0.3
    )


@press("knit-rib", "Rib knit", "knit", "cuff collar elastic")
def knit_rib() -> AnyArray:
    x, _ = places()
    rib = step(-0.35, 0.35, np.cos(2 * np.pi * 6 * x))
    return _loop(24, 26) * (0.45 + 0.55 * rib) + 0.65 * rib


@press("knit-cable", "Cable knit", "knit", "aran plait jumper", rolls=True)
def knit_cable() -> AnyArray:
    """Two cords that cross over each other, between ribs."""
    x, y = places()
    out = 0.3 * _loop(28, 26).T
    phase = 2 * np.pi * 2 * x
    for turn in (0.0, np.pi):
        middle = 0.5 + 0.13 * np.sin(phase + turn)
        lift = 0.75 + 0.25 * np.cos(phase + turn)
        cord = ball((y - middle) / 0.105) * lift
        ply = 0.10 * np.abs(np.sin(np.pi * (22 * x + 40 * np.abs(y - middle))))
        out = np.maximum(out, cord - ply * (cord > 0))
    for edge in (0.17, 0.83):
        out = np.maximum(out, ball((y - edge) / 0.05) * (0.5 + 0.1 * np.cos(2 * np.pi * 22 * x)))
    return out


def _thread(points: AnyArray, wide: float, out: F32, tiles: bool = True) -> None:
    """A sewn thread: round, twisted, sunk in at its ends."""
    n = len(points)
    t = np.linspace(0, 1, n)
    lines(out, points[None], wide, (0.25 + 0.75 * np.sin(np.pi * t) ** 0.5)[None], 2, tiles=tiles)


def _holes(out: F32, at: list[tuple[float, float]], size: float) -> F32:
    x, y = places(*out.shape)
    wide = out.shape[1] / out.shape[0]
    for px, py in at:
        dx = np.abs(x - px)
        dx = np.minimum(dx, 1 - dx) * wide
        out = (out - 0.5 * bump(np.hypot(dx, y - py) / size) * (out < 0.15)).astype(np.float32)
    return out


def _dimple(y: AnyArray) -> AnyArray:
    """Cloth drawn in along a seam."""
    return -0.22 * bump((y - 0.5) / 0.42)


@press("stitch-running", "Running stitch", "stitch", "seam sewn dashes", rolls=True)
def stitch_running() -> AnyArray:
    out = np.zeros((256, SIDE), np.float32)
    for k in range(4):
        x = np.linspace((k + 0.18) / 4, (k + 0.82) / 4, 24)
        _thread(np.stack([x, np.full(24, 0.5)], -1), 0.13, out)
    out = _holes(out, [((k + s) / 4, 0.5) for k in range(4) for s in (0.16, 0.84)], 0.13)
    return out + _dimple(places(256, SIDE)[1])


@press("stitch-cross", "Cross stitch", "stitch", "seam x mended", rolls=True)
def stitch_cross() -> AnyArray:
    out = np.zeros((512, SIDE), np.float32)
    t = np.linspace(0, 1, 30)
    for k in range(4):
        for way in (1, -1):
            x = (k + 0.2 + 0.6 * t) / 4
            y = 0.5 + way * 0.24 * (2 * t - 1)
            high = 0.2 + (0.6 + 0.25 * (way < 0)) * np.sin(np.pi * t) ** 0.5
            lines(out, np.stack([x, y], -1)[None], 0.055, high[None], 2)
    out = _holes(out, [((k + s) / 4, v) for k in range(4) for s in (0.2, 0.8) for v in (0.26, 0.74)], 0.07)
    return out - 0.25 * bump((places(512, SIDE)[1] - 0.5) / 0.06) * (out < 0.1)


@press("stitch-whip", "Whip stitch", "stitch", "leather edge wound slanted", rolls=True)
def stitch_whip() -> AnyArray:
    out = np.zeros((512, SIDE), np.float32)
    t = np.linspace(0, 1, 30)
    for k in range(7):
        x = (k + 0.2 + 0.55 * t) / 7
        _thread(np.stack([x, 0.22 + 0.56 * t], -1), 0.06, out)
    out = _holes(out, [((k + s) / 7, v) for k in range(7) for s, v in ((0.2, 0.2), (0.75, 0.8))], 0.08)
    seam = (places(512, SIDE)[1] - 0.5) / 0.05
    return out + (0.3 * bump((np.abs(seam) - 1.6) / 1.6) - 0.35 * bump(seam)) * (out < 0.15)


@press("stitch-seam", "Felled seam", "stitch", "trousers jeans double", rolls=True)
def stitch_seam() -> AnyArray:
    x, y = places(512, SIDE)
    fold = (
        0.55 * step(0.2, 0.26, y) * (1 - step(0.74, 0.80, y)) * (0.9 + 0.15 * np.cos(2 * np.pi * (4 * x + y)))
    )
    out = np.zeros((512, SIDE), np.float32)
    for row in (0.34, 0.66):
        for k in range(8):
            px = np.linspace((k + 0.15) / 8, (k + 0.85) / 8, 20)
            _thread(np.stack([px, np.full(20, row)], -1), 0.028, out)
    sunk = 0.25 * (bump((y - 0.34) / 0.06) + bump((y - 0.66) / 0.06))
    return fold - sunk * (out < 0.1) + 0.5 * out


@press("stitch-lace", "Lacing", "stitch", "boot corset thong eyelets", rolls=True)
def stitch_lace() -> AnyArray:
    x, y = places(512, SIDE)
    out = np.zeros((512, SIDE), np.float32)
    t = np.linspace(0, 1, 40)
    for k in range(3):
        for way in (1, -1):
            px = (k + 0.08 + 0.84 * t) / 3
            py = 0.5 + way * 0.30 * (2 * t - 1)
            high = 0.35 + (0.45 + 0.2 * (way > 0)) * np.sin(np.pi * t) ** 0.4
            lines(out, np.stack([px, py], -1)[None], 0.05, high[None], 1)
    for k in range(4):
        for row in (0.18, 0.82):
            dx = np.abs(x - k / 3)
            dx = np.minimum(dx, 1 - dx) * 2
            d = np.hypot(dx, y - row) / 0.1
            out = np.maximum(out, 0.5 * bump((d - 0.75) / 0.25)).astype(np.float32)
            out = np.where(d < 0.45, np.minimum(out, -0.3), out).astype(np.float32)
    gap = bump((y - 0.5) / 0.10)
    return np.where(out > 0.05, out, out - 0.5 * gap)
