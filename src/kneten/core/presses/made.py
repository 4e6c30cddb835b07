"""What is made by hands: scratches and dents, rope, rivets, letters, plain shapes."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.presses.entry import press
from kneten.core.presses.fields import (
    FLAT,
    LOWEST,
    SIDE,
    ball,
    blank,
    bump,
    lines,
    marks,
    places,
    rough,
    soft,
    spread,
    step,
    strokes,
    tapered,
)


def _centred() -> tuple[AnyArray, AnyArray, AnyArray]:
    """-1 to 1 to the right, upwards, and how far from the middle."""
    x, y = places()
    u, v = 2 * x - 1, 1 - 2 * y
    return u, v, np.hypot(u, v)


@press("scratches", "Scratches", "scratches", "worn metal fine lines")
def scratches() -> AnyArray:
    chance = np.random.default_rng(1)
    n = 160
    points = strokes(
        chance.uniform(0, 1, (n, 2)),
        chance.normal(0.4, 0.7, n),
        chance.uniform(0.03, 0.5, n),
        chance.normal(0, 0.25, n),
        0.0,
        2,
    )
    wide = chance.uniform(0.0012, 0.0035, (n, 1)) * tapered()
    deep = chance.uniform(0.15, 1.0, (n, 1)) ** 1.5
    burr = lines(blank(), points, 2.4 * wide, 0.18 * deep)
    return burr + lines(blank(), points, wide, -deep, 3, LOWEST)


@press("scratch-claws", "Claw marks", "scratches", "torn slash four", tiles=False)
def scratch_claws() -> AnyArray:
    chance = np.random.default_rng(3)
    n = 4
    begin = np.stack([np.full(n, 0.08) + [0.06, 0.0, 0.02, 0.10], np.linspace(0.24, 0.72, n)], -1)
    points = strokes(begin, 0.10, np.array([0.76, 0.86, 0.82, 0.66]), 0.22, 0.04, 4, 60)
    taper = tapered(60, 0.10, 0.85)
    ragged = taper * np.stack(
        [np.interp(np.linspace(0, 8, 60), np.arange(9), chance.uniform(0.8, 1.15, 9)) for _ in range(n)]
    )
    raised = soft(lines(blank(), points, 0.055 * taper, 0.35 * taper, tiles=False), 0.004)
    return raised + lines(blank(), points, 0.026 * ragged, -1.15 * ragged, 3, LOWEST, False)


@press("scratch-cut", "Cut", "scratches", "slash nick blade", tiles=False, rolls=True)
def scratch_cut() -> AnyArray:
    _, y = places(256, SIDE)
    off = (y - 0.5) / (0.10 + 0.03 * rough(9, 5, 3, shape=(256, SIDE)))
    return 0.45 * bump((np.abs(off) - 1.5) / 1.5) - 1.0 * np.clip(1 - np.abs(off), 0, 1)


@press("dents-hammered", "Hammered", "scratches", "metal beaten tin copper")
def dents_hammered() -> AnyArray:
    """Facets of a hammer's round face, each lying over those before."""
    chance = np.random.default_rng(6)
    x, y = places()
    out = np.zeros_like(x)
    for px, py in chance.permutation(spread(9, 7, stray=0.4)):
        dx, dy = (x[0] - px + 0.5) % 1 - 0.5, (y[:, 0] - py + 0.5) % 1 - 0.5
        columns, rows = np.flatnonzero(np.abs(dx) < 0.09), np.flatnonzero(np.abs(dy) < 0.09)
        here = np.ix_(rows, columns)
        d2 = (dx[columns][None] ** 2 + dy[rows][:, None] ** 2) / 0.09**2
        bowl = 1.1 * d2 - chance.uniform(0.75, 1.0)
        out[here] = np.where(d2 < 1, np.minimum(out[here], bowl), out[here])
    return soft(out, 0.0015)


@press("dents", "Dents", "scratches", "tin knocks bumps lantern")
def dents() -> AnyArray:
    chance = np.random.default_rng(8)
    n = 34
    at = chance.uniform(0, 1, (n, 2))
    size = 0.02 + 0.09 * chance.uniform(0, 1, n) ** 2
    out = marks(
        blank(), at, size, size * chance.uniform(0.4, 1, n), chance.uniform(0, 3, n), -size / 0.11, way=2
    )
    return marks(out, at, size * 1.35, size, chance.uniform(0, 3, n), 0.22 * size / 0.11, way=2)


@press("rust", "Rust pits", "scratches", "corroded iron pitted flakes")
def rust() -> AnyArray:
    eaten = step(-0.05, 0.22, rough(5, 9, 5))
    pits = rough(26, 10, 3)
    rim = bump((rough(5, 9, 5) - 0.06) / 0.07)
    return -eaten * (0.6 + 0.4 * np.abs(pits)) + 0.25 * rim + 0.05 * rough(90, 11, 2)


def _twisted(cords: int, turns: int, lay: float, rows: int = 512) -> AnyArray:
    """Cords laid round each other, seen from the side."""
    x, y = places(rows, SIDE)
    v = (2 * y - 1) / 0.94
    # Round the rope: where a place is as an angle, from the edge we see to the other.
    angle = np.arcsin(np.clip(v, -1, 1))
    phase = (turns * x + lay * angle / np.pi) * cords
    t = phase - np.floor(phase) - 0.5
    cord = ball(t * 2.0) * 0.5
    ply = 0.05 * np.cos(2 * np.pi * (5 * phase - 9 * turns * x))
    return np.where(
        np.abs(v) < 1,
        np.sqrt(np.clip(1 - v * v, 0, 1)) * 0.6 + (cord + ply) * step(0, 0.3, 1 - np.abs(v)),
        0.0,
    )


@press("rope", "Rope", "rope", "twisted three strands cable", rolls=True)
def rope() -> AnyArray:
    return _twisted(3, 1, 1.1)


@press("rope-cord", "Cord", "rope", "twine string fine", rolls=True)
def rope_cord() -> AnyArray:
    return _twisted(2, 3, 0.9, 256)


@press("rope-plait", "Plait", "rope", "braid hair three", rolls=True)
def rope_plait() -> AnyArray:
    x, y = places(512, SIDE)
    out = np.zeros_like(x)
    for k in range(3):
        phase = 2 * np.pi * (2 * x + k / 3)
        middle = 0.5 + 0.23 * np.sin(phase)
        slope = np.hypot(1.0, 0.23 * 4 * np.pi * np.cos(phase) / 2)
        lift = 0.62 + 0.38 * np.cos(2 * phase)
        off = (y - middle) / (0.17 * np.minimum(slope, 1.5))
        body = ball(off) * lift + 0.06 * np.cos(2 * np.pi * 1.5 * off) * (np.abs(off) < 0.95)
        out = np.maximum(out, np.where(np.abs(off) < 1, body, 0))
    return out


@press("rope-chain", "Chain", "rope", "links iron metal", rolls=True)
def rope_chain() -> AnyArray:
    x, y = places(512, SIDE)
    out = np.zeros_like(x)
    for k in range(2):
        # Links seen flat, rounded at both ends.
        dx = ((x - k / 2 - 0.25 + 0.5) % 1 - 0.5) * 2
        dy = y - 0.5
        off = np.hypot(np.maximum(np.abs(dx) - 0.26, 0), dy)
        out = np.maximum(out, ball((off - 0.25) / 0.085) * (0.9 - 0.3 * bump((np.abs(dx) - 0.55) / 0.2)))
    for k in range(2):
        # Links seen from their edge, which lie through those.
        dx = ((x - k / 2 + 0.5) % 1 - 0.5) * 2
        out = np.maximum(out, ball(dx / 0.33) * ball((y - 0.5) / 0.085))
    return out


@press("rope-net", "Fishing net", "rope", "mesh knots ferry")
def rope_net() -> AnyArray:
    x, y = places()
    out = np.zeros_like(x)
    sag = 0.02 * rough(3, 12, 2)
    for way in (1, -1):
        phase = 6 * (x + sag) + way * 6 * (y - sag)
        t = phase - np.round(phase)
        other = 6 * (x + sag) - way * 6 * (y - sag)
        out = np.maximum(out, ball(t / 0.085) * (0.55 + 0.06 * np.cos(2 * np.pi * 9 * other)))
    a, b = 6 * (x + sag) + 6 * (y - sag), 6 * (x + sag) - 6 * (y - sag)
    knot = np.hypot(a - np.round(a), b - np.round(b)) / 0.19
    return np.maximum(out, ball(knot) * (0.85 + 0.15 * np.cos(12 * (a - b))))


@press("rivet", "Rivet", "rivets", "round head metal", tiles=False)
def rivet() -> AnyArray:
    _, _, d = _centred()
    return np.where(d < 0.62, 0.25 + 0.75 * np.sqrt(np.clip(1 - (d / 0.62) ** 2, 0, 1)), 0.0) - 0.18 * bump(
        (d - 0.74) / 0.14
    )


@press("rivet-row", "Row of rivets", "rivets", "belt armour studs", rolls=True)
def rivet_row() -> AnyArray:
    x, y = places(256, SIDE)
    t = 4 * x - np.floor(4 * x) - 0.5
    d = np.hypot(t, y - 0.5) / 0.3
    return ball(d) + 0.0 * x - 0.15 * bump((d - 1.15) / 0.2)


@press("bolt", "Bolt", "rivets", "hexagon nut machine", tiles=False)
def bolt() -> AnyArray:
    u, v, d = _centred()
    angle = np.arctan2(v, u)
    hexed = d * np.cos((angle + np.pi / 6) % (np.pi / 3) - np.pi / 6)
    washer = 0.28 * step(0, 0.05, 0.88 - d)
    head = 0.62 * step(0, 0.04, 0.62 - hexed) * (1 - 0.25 * step(0.56, 0.70, d))
    return washer + head - 0.12 * bump((d - 0.46) / 0.03) * (hexed < 0.6)


@press("screw", "Screw", "rivets", "slot head metal", tiles=False)
def screw() -> AnyArray:
    u, v, d = _centred()
    slot = np.abs(u * np.sin(0.5) + v * np.cos(0.5))
    return (0.35 + 0.5 * ball(d / 0.72)) * step(0, 0.05, 0.7 - d) * (1 - step(0, 0.03, 0.085 - slot))


@press("button", "Button", "rivets", "shirt coat four holes", tiles=False)
def button() -> AnyArray:
    u, v, d = _centred()
    disc = 0.55 * step(0, 0.08, 0.8 - d) + 0.4 * bump((d - 0.68) / 0.14)
    for a in (-0.16, 0.16):
        for b in (-0.16, 0.16):
            disc = disc - 0.75 * step(0, 0.04, 0.085 - np.hypot(u - a, v - b))
    return disc


@press("buckle", "Buckle", "rivets", "belt strap frame", tiles=False)
def buckle() -> AnyArray:
    u, v, _ = _centred()
    box = np.maximum(np.abs(u) / 0.78, np.abs(v) / 0.62)
    round_ = (np.abs(u / 0.78) ** 5 + np.abs(v / 0.62) ** 5) ** 0.2
    frame = ball((round_ - 0.88) / 0.15)
    tongue = ball(v / 0.07) * step(0, 0.03, 0.78 - np.abs(u)) * 0.9
    hinge = ball((u + 0.05) / 0.06) * step(0, 0.05, 0.58 - np.abs(v)) * 0.7
    return np.maximum(np.maximum(frame, hinge), tongue) + 0 * box


@press("pierced-star", "Pierced tin", "rivets", "lantern holes star", tiles=False)
def pierced_star() -> AnyArray:
    angle = 2 * np.pi * np.arange(12) / 12
    out = blank()
    for far, size, turn in ((0.30, 0.055, 0.0), (0.55, 0.07, np.pi / 12), (0.80, 0.055, 0.0)):
        here = angle[::2] if far > 0.7 else angle
        at = 0.5 + 0.5 * far * np.stack([np.cos(here + turn), np.sin(here + turn)], -1)
        marks(out, at, 0.9 * size, height=0.3, tiles=False)
        marks(out, at, 0.55 * size, height=-1.0, section=FLAT, way=LOWEST, tiles=False)
    return marks(out, np.array([[0.5, 0.5]]), 0.05, height=-1.0, section=FLAT, way=LOWEST, tiles=False)


def _glyph(strokes_: tuple[tuple[tuple[float, float], ...], ...], x: float, wide: float, out: F32) -> None:
    """A carved sign: straight strokes between points (0..1 across, 0..1 down)."""
    for line in strokes_:
        points = np.array([[x + wide * a, 0.16 + 0.68 * b] for a, b in line])
        lines(out, points[None], 0.055, -1.0, 3, LOWEST)


SIGNS = (
    (((0.2, 0.0), (0.2, 1.0)), ((0.2, 0.15), (0.8, 0.45)), ((0.2, 0.6), (0.8, 0.9))),
    (((0.1, 1.0), (0.5, 0.0), (0.9, 1.0)), ((0.28, 0.62), (0.72, 0.62))),
    (((0.5, 0.0), (0.5, 1.0)), ((0.1, 0.3), (0.5, 0.0), (0.9, 0.3)), ((0.2, 1.0), (0.8, 1.0))),
    (((0.1, 0.0), (0.9, 1.0)), ((0.9, 0.0), (0.1, 1.0))),
    (((0.2, 0.0), (0.2, 1.0)), ((0.8, 0.0), (0.8, 1.0)), ((0.2, 0.5), (0.8, 0.5))),
    (((0.1, 0.5), (0.5, 0.0), (0.9, 0.5), (0.5, 1.0), (0.1, 0.5)),),
    (((0.15, 0.0), (0.85, 0.25), (0.15, 0.5), (0.85, 0.75), (0.15, 1.0)),),
    (((0.2, 1.0), (0.2, 0.0), (0.8, 0.5), (0.2, 0.5)), ((0.5, 0.5), (0.8, 1.0))),
)
"""Tally signs of the ferry folk, for planks and oars."""


@press("letters-signs", "Ferry signs", "letters", "carved runes tally writing", rolls=True)
def letters_signs() -> AnyArray:
    out = blank(256, 1024)
    for k, sign in enumerate(SIGNS):
        _glyph(sign, (k + 0.14) / 8, 0.72 / 8, out)
    return out


@press("letters-tally", "Tally marks", "letters", "count scratches five wall", rolls=True)
def letters_tally() -> AnyArray:
    out = blank(512, SIDE)
    chance = np.random.default_rng(13)
    for group in range(3):
        for k in range(4):
            x = (group + 0.18 + 0.16 * k) / 3
            line = np.array([[x, 0.2], [x + chance.normal(0, 0.008), 0.8]])
            lines(out, line[None], 0.032, -1.0, 3, LOWEST)
        slash = np.array([[(group + 0.08) / 3, 0.70], [(group + 0.80) / 3, 0.32]])
        lines(out, slash[None], 0.032, -1.0, 3, LOWEST)
    return out


@press("letters-meander", "Meander", "letters", "key border ornament", rolls=True)
def letters_meander() -> AnyArray:
    out = blank(512, SIDE)
    base = np.array([[0, 0.84], [0, 0.16], [0.76, 0.16], [0.76, 0.64], [0.38, 0.64], [0.38, 0.40]])
    for k in range(3):
        points = base * [1 / 3 * 0.98, 1.0] + [k / 3 + 0.04, 0]
        lines(out, points[None], 0.06, 1.0, 1)
        lines(out, np.array([[k / 3 + 0.04, 0.84], [(k - 1) / 3 + 0.04, 0.84]])[None], 0.06, 1.0, 1)
    return out


@press("letters-waves", "Wave border", "letters", "water ornament scroll", rolls=True)
def letters_waves() -> AnyArray:
    out = blank(512, SIDE)
    t = np.linspace(0, 1, 70)
    for k in range(3):
        angle = -0.4 + 2 * np.pi * 1.25 * t
        r = 0.27 * (1 - t) ** 0.8
        x = (k + 0.55) / 3 + r * np.cos(angle) / 2
        lines(out, np.stack([x, 0.45 - r * np.sin(angle)], -1)[None], (0.055 * (1 - 0.5 * t))[None], 1.0, 2)
        s = np.linspace(0, 1, 30)
        px = (k + 0.15 + 0.62 * s) / 3 + 0.02
        lines(out, np.stack([px, 0.80 - 0.28 * np.sin(np.pi * 0.5 * s) ** 3], -1)[None], 0.05, 1.0, 2)
    lines(out, np.array([[0.0, 0.82], [1.0, 0.82]])[None], 0.05, 1.0, 2)
    return out


@press("plain-dome", "Dome", "plain", "half ball round", tiles=False)
def plain_dome() -> AnyArray:
    return ball(_centred()[2] / 0.97)


@press("plain-disc", "Disc", "plain", "flat round plate", tiles=False)
def plain_disc() -> AnyArray:
    return step(0, 0.06, 0.95 - _centred()[2])


@press("plain-square", "Square", "plain", "box plate block", tiles=False)
def plain_square() -> AnyArray:
    u, v, _ = _centred()
    return step(0, 0.06, 0.92 - np.maximum(np.abs(u), np.abs(v)))


@press("plain-ring", "Ring", "plain", "circle torus", tiles=False)
def plain_ring() -> AnyArray:
    return ball((_centred()[2] - 0.7) / 0.22)


@press("plain-cone", "Cone", "plain", "spike point thorn", tiles=False)
def plain_cone() -> AnyArray:
    return np.clip(1 - _centred()[2] / 0.95, 0, 1)


@press("plain-star", "Star", "plain", "five points", tiles=False)
def plain_star() -> AnyArray:
    u, v, d = _centred()
    # Folded into one tenth, a star is what lies on one side of a line from a tip to a notch.
    angle = np.abs((np.arctan2(u, v) + np.pi / 5) % (2 * np.pi / 5) - np.pi / 5)
    x, y = d * np.sin(angle), d * np.cos(angle)
    tip, notch = np.array([0.0, 0.95]), 0.40 * np.array([np.sin(np.pi / 5), np.cos(np.pi / 5)])
    way = (notch - tip) / np.linalg.norm(notch - tip)
    inside = (x - tip[0]) * way[1] - (y - tip[1]) * way[0]
    return np.clip(-inside / 0.30, 0, 1) if inside[SIDE // 2, SIDE // 2] < 0 else np.clip(inside / 0.30, 0, 1)


@press("plain-leaf", "Leaf", "plain", "vein foliage", tiles=False)
def plain_leaf() -> AnyArray:
    u, v, _ = _centred()
    half = 0.52 * np.sin(np.pi * np.clip((v + 0.95) / 1.9, 0, 1)) ** 0.8
    inside = step(0, 0.05, half - np.abs(u))
    veins = (np.abs(u) * 0.9 - v) * 6
    rib = bump(u / 0.035) + 0.5 * bump((veins - np.round(veins)) / 0.12)
    return inside * (0.55 + 0.35 * bump(u / 0.6) - 0.3 * np.clip(rib, 0, 1))


@press("plain-spiral", "Spiral", "plain", "snail shell coil", tiles=False)
def plain_spiral() -> AnyArray:
    u, v, d = _centred()
    phase = 3.2 * d - np.arctan2(v, u) / (2 * np.pi)
    return ball((phase - np.floor(phase) - 0.5) * 2.1) * step(0, 0.08, 0.95 - d) * (0.5 + 0.5 * (1 - d))


@press("plain-steps", "Steps", "plain", "terrace stairs ziggurat", tiles=False)
def plain_steps() -> AnyArray:
    u, v, _ = _centred()
    d = np.maximum(np.abs(u), np.abs(v)) / 0.95
    return np.where(d < 1, np.floor((1 - d) * 5 + 1) / 5, 0.0)


@press("plain-stripes", "Stripes", "plain", "lines grooves corduroy")
def plain_stripes() -> AnyArray:
    y = places()[1] * 12
    return ball((y - np.floor(y) - 0.5) * 2.1)


@press("plain-bricks", "Bricks", "plain", "wall masonry tiles")
def plain_bricks() -> AnyArray:
    x, y = places()
    row = np.floor(10 * y)
    fx = (5 * x + 0.5 * (row % 2)) % 1
    fy = 10 * y - row
    edge = np.minimum(np.minimum(fx, 1 - fx) * 2, np.minimum(fy, 1 - fy))
    chance = np.random.default_rng(14).random((10, 5))
    column = np.floor(5 * x + 0.5 * (row % 2)).astype(int) % 5
    return step(0.05, 0.16, edge) * (0.8 + 0.2 * chance[row.astype(int), column]) + 0.06 * rough(40, 15, 3)


@press("plain-studs", "Studs", "plain", "pyramids pointed quilted")
def plain_studs() -> AnyArray:
    x, y = places()
    a, b = 8 * (x + y), 8 * (x - y)
    return 1 - np.maximum(np.abs(a - np.floor(a) - 0.5), np.abs(b - np.floor(b) - 0.5)) * 2
