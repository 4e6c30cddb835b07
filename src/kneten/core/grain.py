"""Grain: a pattern that lies on clay, worked out where the clay was when it was laid, so that it goes along with it.

Unevenness is worked out in space: gradient noise (Perlin 2002, "Improving noise") and the distances of strewn points
(Worley 1996, "A cellular texture basis function"). A press is laid along three directions that pass into each other
by which way the clay faces; on demand in pieces strewn without a repeat (Heitz and Neyret 2018, "High-performance
by-example noise"). Where several pieces meet, their mean would be flat: it is stretched so that the pattern stays as
rough as it is (the same paper, for pictures whose values lie evenly about their mean).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, I32, in_parts, inlined, kernel
from kneten.core.falloff import PRESSURE_LINEAR, Points, curve_table
from kneten.core.press import Press, sampled

KINDS: dict[str, tuple[str, str]] = {
    "clouds": ("Clouds", "Soft ups and downs, with smaller ones on them"),
    "ridges": ("Ridges", "Sharp crests between round hollows"),
    "billows": ("Billows", "Round humps between sharp creases"),
    "pebbles": ("Pebbles", "Domes packed side by side"),
    "pits": ("Pits", "Round hollows strewn evenly"),
    "cracks": ("Cracks", "A net of furrows"),
    "fibres": ("Fibres", "Streaks, upright unless they are turned"),
    "press": ("Press", "A press that goes on at its edges"),
}
"""Kinds of pattern: name and what it looks like."""

_NUMBERS = {name: number for number, name in enumerate(KINDS)}
CLOUDS, RIDGES, BILLOWS, PEBBLES, PITS, CRACKS, FIBRES, PRESS = range(len(KINDS))

WHERE: dict[str, tuple[str, str]] = {
    "all": ("Everywhere", "All over the part"),
    "mask": ("On a mask", "Where the part was masked when it was chosen"),
    "region": ("On a region", "On one of the part's regions"),
    "curve": ("Hollows and peaks", "0 % is the deepest hollow, 100 % the sharpest ridge"),
    "height": ("Height", "0 % is the part's lowest place, 100 % its highest"),
    "slope": ("Slope", "0 % looks down, 50 % to a side, 100 % up"),
    "thickness": ("Thickness", "0 % is the thinnest clay, 100 % the thickest"),
}
"""What says where a pattern lies: name and what it does."""

MOST = 8
"""Grains on a part at most."""

FINEST = 2.5
"""Edges of the mesh that the smallest unevenness must be wide: what is finer is left out."""

OCTAVES = 5
"""Sizes of unevenness on each other, at most."""

SHADED = 1.5
"""How many times too coarse a mesh is from which on what it lacks is shown by shading."""

STREAK = 0.14
"""How many times narrower fibres are than they are long."""

FARTHEST = 1e6
"""Widths of the pattern from the middle up to which it is worked out."""

CLOSER = 1.7
"""How many times closer pits lie than the pattern is wide: clay cuts through few of the points that are strewn in space."""


@dataclass(frozen=True)
class Grain:
    """A pattern and where it lies.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    press : str
        The key of the press, where that is the kind.
    scale : float
        How wide its largest unevenness, or the picture, is in the part's own units.
    height : float
        How far 1 stands out, in the part's own units; below 0 it goes in.
    turn : float
        Degrees that it is turned.
    roughness : float
        How much smaller unevenness there is on the larger, 0 to 1.
    curve : tuple of points
        What becomes of a height between 0 and 1; below 0 the same.
    seed : int
        Another number gives another pattern of the same kind.
    strewn : bool
        A press is laid in pieces here and there, so that nothing is seen twice.
    mirrored : bool
        The part's right side is the mirror image of its left one.
    where : str
        One of `WHERE`.
    low, high, soft : float
        The shares between which it lies, and over how much it runs out there.
    of : str
        The kept mask, or the number of the region.
    """

    kind: str = "clouds"
    press: str = ""
    scale: float = 8.0
    height: float = 0.5
    turn: float = 0.0
    roughness: float = 0.5
    curve: Points = PRESSURE_LINEAR
    seed: int = 1
    strewn: bool = True
    mirrored: bool = False
    where: str = "all"
    low: float = 0.0
    high: float = 0.5
    soft: float = 0.1
    of: str = ""

    @property
    def usable(self) -> bool:
        """Whether its words and numbers can be worked with."""
        shares = (self.low, self.high, self.soft, self.roughness)
        words = self.kind in KINDS and self.where in WHERE
        sized = 1e-6 < self.scale < 1e9 and abs(self.height) < 1e6 and abs(self.turn) < 1e6
        return words and sized and abs(self.seed) < 2**31 and all(0 <= share <= 1 for share in shares)


# -- unevenness in space ---------------------------------------------------------------------------


@inlined
def _mixed(i: int, j: int, k: int, seed: int) -> int:
    """A number of 32 bits that looks like chance (a finaliser as MurmurHash3 ends with)."""
    h = (i * 73856093) ^ (j * 19349663) ^ (k * 83492791) ^ (seed * 2654435761)
    h &= 0xFFFFFFFF
    h ^= h >> 16
    h = (h * 0x85EBCA6B) & 0xFFFFFFFF
    h ^= h >> 13
    h = (h * 0xC2B2AE35) & 0xFFFFFFFF
    return h ^ (h >> 16)


@kernel
def _slope(h: int, x: float, y: float, z: float) -> float:
    """Along one of twelve directions, to the middles of a cube's edges."""
    h &= 15
    u = x if h < 8 else y
    v = y if h < 4 else (x if h in (12, 14) else z)
    return (u if h & 1 == 0 else -u) + (v if h & 2 == 0 else -v)


@kernel
def _noise(x: float, y: float, z: float, seed: int) -> float:
    """Gradient noise at a place: about -1 to 1, 0 at whole numbers."""
    fx = np.floor(x)
    fy = np.floor(y)
    fz = np.floor(z)
    i = int(fx)
    j = int(fy)
    k = int(fz)
    x -= fx
    y -= fy
    z -= fz
    u = x * x * x * (x * (x * 6.0 - 15.0) + 10.0)
    v = y * y * y * (y * (y * 6.0 - 15.0) + 10.0)
    w = z * z * z * (z * (z * 6.0 - 15.0) + 10.0)
    total = 0.0
    for corner in range(8):
        a = corner & 1
        b = (corner >> 1) & 1
        c = corner >> 2
        share = (u if a else 1.0 - u) * (v if b else 1.0 - v) * (w if c else 1.0 - w)
        total += share * _slope(_mixed(i + a, j + b, k + c, seed), x - a, y - b, z - c)
    return total


@kernel
def _strewn_points(x: float, y: float, z: float, seed: int) -> tuple[float, float, int]:
    """How far the nearest and the next of points strewn one to each cube lie, and a number of the nearest's own."""
    fx = np.floor(x)
    fy = np.floor(y)
    fz = np.floor(z)
    first = 1e9
    second = 1e9
    which = 0
    for a in range(-1, 2):
        # A cube whose nearest side is farther than the second point holds nothing nearer.
        ox = max(fx + a - x, x - fx - a - 1.0, 0.0)
        if ox * ox > second:
            continue
        for b in range(-1, 2):
            oy = max(fy + b - y, y - fy - b - 1.0, 0.0)
            if ox * ox + oy * oy > second:
                continue
            for c in range(-1, 2):
                oz = max(fz + c - z, z - fz - c - 1.0, 0.0)
                if ox * ox + oy * oy + oz * oz > second:
                    continue
                h = _mixed(int(fx) + a, int(fy) + b, int(fz) + c, seed)
                # Kept off the cubes' sides: points do not fall together.
                dx = fx + a + 0.15 + 0.7 * (h & 1023) / 1023.0 - x
                dy = fy + b + 0.15 + 0.7 * ((h >> 10) & 1023) / 1023.0 - y
                dz = fz + c + 0.15 + 0.7 * ((h >> 20) & 1023) / 1023.0 - z
                far = dx * dx + dy * dy + dz * dz
                if far < first:
                    second = first
                    first = far
                    which = h
                elif far < second:
                    second = far
    return np.sqrt(first), np.sqrt(second), which


@kernel
def _uneven(kind: int, x: float, y: float, z: float, seed: int, roughness: float, octaves: int) -> float:
    """The height of a pattern at a place, told in its scale: -1 to 1."""
    if kind == FIBRES:
        x /= STREAK
        z /= STREAK
    else:
        # Askew, so that neither the middle of the clay nor its flat sides lie along the net that all this hangs in.
        x, y, z = 0.8 * x - 0.48 * y + 0.36 * z, 0.6 * x + 0.64 * y - 0.48 * z, 0.6 * y + 0.8 * z
    if kind == PITS:
        x *= CLOSER
        y *= CLOSER
        z *= CLOSER
    x += 0.37
    y += 0.41
    z += 0.29
    if kind in (PEBBLES, PITS, CRACKS):
        # The lines between cells waver as much as the pattern is rough.
        if roughness > 0.0 and octaves > 1:
            shift = 0.25 * roughness
            x += shift * _noise(x * 2.3, y * 2.3, z * 2.3, seed + 11)
            y += shift * _noise(x * 2.3, y * 2.3, z * 2.3, seed + 12)
        near, following, which = _strewn_points(x, y, z, seed)
        if kind == PEBBLES:
            gap = min((following - near) / 0.45, 1.0)
            return gap * (2.0 - gap)
        if kind == PITS:
            # Each of its own size and depth.
            size = 0.2 + 0.25 * (which & 255) / 255.0
            t = min(near / size, 1.0)
            return -(0.5 + 0.5 * ((which >> 8) & 255) / 255.0) * (1.0 - t * t * (3.0 - 2.0 * t))
        t = min((following - near) / 0.16, 1.0)
        return -(1.0 - t) * (1.0 - t)
    total = 0.0
    share = 1.0
    sum_of_shares = 0.0
    for octave in range(octaves):
        n = _noise(x, y, z, seed + 31 * octave)
        if kind == RIDGES:
            n = 1.0 - min(2.0 * abs(n), 1.0)
            n *= n
        elif kind == BILLOWS:
            n = min(2.0 * abs(n), 1.0)
            n = n * (2.0 - n)
        total += share * n
        sum_of_shares += share
        share *= roughness
        x = x * 2.03 + 17.3
        y = y * 2.03 + 5.1
        z = z * 2.03 + 9.7
    total /= sum_of_shares
    return total if kind in (RIDGES, BILLOWS) else max(min(1.6 * total, 1.0), -1.0)


# -- a press along three directions ----------------------------------------------------------------


@inlined
def _chance(i: int, j: int, seed: int) -> tuple[float, float]:
    h = _mixed(i, j, 7, seed)
    return (h & 0xFFFF) / 65536.0, (h >> 16) / 65536.0


@kernel
def _laid(
    picture: F32, mean: float, least: float, most: float,
    x: float, y: float, z: float, nx: float, ny: float, nz: float,
    aspect: float, cos: float, sin: float, seed: int, strewn: bool,
) -> float:  # fmt: skip
    """A press at a place of clay that faces along (nx, ny, nz); places are told in the picture's width."""
    total = 0.0
    squares = 0.0
    # What faces away from a direction by more than 78 degrees takes nothing from it, and there is no step there.
    wx = max(abs(nx) - 0.2, 0.0) ** 3
    wy = max(abs(ny) - 0.2, 0.0) ** 3
    wz = max(abs(nz) - 0.2, 0.0) ** 3
    all_shares = wx + wy + wz
    if not all_shares > 0.0:
        return 0.0
    for way in range(3):
        if way == 0:
            share, p, q = wx, z, y
        elif way == 1:
            share, p, q = wy, x + 0.37, z + 0.61
        else:
            share, p, q = wz, x + 0.71, y + 0.23
        if share <= 0.0:
            continue
        share /= all_shares
        u = p * cos + q * sin
        v = (q * cos - p * sin) * aspect
        if not strewn:
            total += share * (sampled(picture, u - np.floor(u), np.ceil(v) - v, True) - mean)
            squares += share * share
            continue
        fu = u - np.floor(u)
        fv = np.ceil(v) - v
        # A net of triangles, half a picture wide; each corner has a piece of its own, and they pass into each other.
        a = 2.0 * (u - v / np.sqrt(3.0))
        b = 2.0 * (2.0 * v / np.sqrt(3.0))
        i = np.floor(a)
        j = np.floor(b)
        a -= i
        b -= j
        c = 1.0 - a - b
        for corner in range(3):
            if c > 0.0:
                di, dj, held = ((0, 0, c), (1, 0, a), (0, 1, b))[corner]
            else:
                di, dj, held = ((1, 1, -c), (1, 0, 1.0 - b), (0, 1, 1.0 - a))[corner]
            # Sharper than straight: less of the clay lies between pieces.
            held = held * held * held
            if held < 1e-4:
                continue
            ou, ov = _chance(int(i) + di, int(j) + dj, seed + 5 * way)
            total += share * held * (sampled(picture, fu + ou, fv + ov, True) - mean)
            squares += share * share * held * held
    if squares <= 0.0:
        return 0.0
    return min(max(mean + total / np.sqrt(squares), least), most)


@kernel
def _heights(
    seats: F32, normals: F32, rows: I32, kind: int, scale: float, cos: float, sin: float, seed: int,
    roughness: float, octaves: int, strewn: bool, mirrored: bool, picture: F32, mean: float, least: float,
    most: float, aspect: float, curve: F32, first: int, last: int, out: F32,
) -> None:  # fmt: skip
    every = rows.shape[0] == 0
    top = curve.shape[0] - 1
    for i in range(first, last):
        v = i if every else rows[i]
        x = seats[v, 0] / scale
        y = seats[v, 1] / scale
        z = seats[v, 2] / scale
        # Seats come from files: where one is no number, or too far off to be told from its neighbour, it is the middle.
        if not abs(x) + abs(y) + abs(z) < FARTHEST:
            x = y = z = 0.0
        if mirrored:
            x = abs(x)
        if kind == PRESS:
            h = _laid(
                picture, mean, least, most, x, y, z, normals[v, 0], normals[v, 1], normals[v, 2],
                aspect, cos, sin, seed, strewn,
            )  # fmt: skip
        else:
            h = _uneven(kind, x * cos + y * sin, y * cos - x * sin, z, seed, roughness, octaves)
        at = min(abs(h), 1.0) * top
        k = min(int(at), top - 1)
        bent = curve[k] + (at - k) * (curve[k + 1] - curve[k])
        out[i] = bent if h >= 0.0 else -bent


EVERY = np.empty(0, np.int32)
_NO_PICTURE = np.zeros((2, 2), np.float32)


def heights(
    grain: Grain, press: Press | None, seats: F32, normals: F32, edge: float, rows: I32 = EVERY
) -> F32:
    """How high a pattern stands, -1 to 1, at each of some vertices.

    Parameters
    ----------
    press : Press or None
        What is laid, where the kind is "press".
    seats, normals : (n, 3) float32
        Where the vertices were when the pattern was laid, and which way the clay faced.
    edge : float
        How far vertices lie apart: what is finer than they can show is left out.
    rows : (k,) int32
        The vertices wanted; empty for all of them.

    Raises
    ------
    ValueError
        When the kind is "press" and there is none.
    """
    out = np.empty(len(rows) or len(seats), np.float32)
    kind = _NUMBERS[grain.kind]
    picture, aspect = _NO_PICTURE, 1.0
    if kind == PRESS:
        if press is None:
            raise ValueError("there is no press to lay")
        aspect = press.aspect
        picture = press.level(edge / grain.scale * press.heights.shape[1])
    octaves = octaves_held(grain, edge)
    share = share_held(grain, edge)
    turn = np.radians(grain.turn)
    curve = curve_table(grain.curve).astype(np.float32)
    limits = float(picture.mean()), float(picture.min()), float(picture.max())
    numbers = (
        kind,
        grain.scale,
        float(np.cos(turn)),
        float(np.sin(turn)),
        grain.seed,
        grain.roughness,
        octaves,
    )

    def some(first: int, last: int) -> None:
        _heights(
            seats, normals, rows, *numbers, grain.strewn, grain.mirrored, picture, *limits, aspect, curve,
            first, last, out,
        )  # fmt: skip

    in_parts(len(out), some, 2048)
    if share < 1.0:
        out *= np.float32(share)
    return out


def octaves_held(grain: Grain, edge: float) -> int:
    """How many octaves of a pattern a mesh with edges of a length can have, one at least."""
    octaves = 1
    while octaves < OCTAVES and grain.scale / 2.03**octaves > FINEST * edge:
        octaves += 1
    return octaves


def share_held(grain: Grain, edge: float) -> float:
    """How much of a pattern stands in the form of a mesh with edges of a length: on one far too coarse, vertices would hit upon any height, and the clay be rough at random. A press is evened out instead."""
    times = coarse(grain, edge)
    return 1.0 if grain.kind == "press" else min(max(3.0 - 2.0 * times / SHADED, 0.0), 1.0)


def coarse(grain: Grain, edge: float) -> float:
    """How many times smaller the mesh's edges should be for the pattern to be seen as it is; 1 or less where they are."""
    wide = {"press": 1 / 48, "fibres": STREAK / 3, "pits": 1 / 6, "cracks": 1 / 12}
    return edge / (grain.scale * wide.get(grain.kind, 1 / 4))
