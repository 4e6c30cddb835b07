"""An eye: ball, cornea, iris and pupil in colour and as regions, alone or as a pair."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, I32, U8, U16, AnyArray
from kneten.core.live.clay import Clay, clay_of, joined, round_grid
from kneten.core.regions import EYE_CORNEA, EYE_IRIS, EYE_PUPIL, EYE_WHITE

WHITE = np.array([232.0, 224.0, 210.0])
VEIN = np.array([206.0, 150.0, 132.0])
IRISES = {
    "moor": (np.array([104.0, 128.0, 88.0]), np.array([176.0, 150.0, 84.0])),
    "amber": (np.array([150.0, 96.0, 30.0]), np.array([226.0, 176.0, 72.0])),
    "peat": (np.array([74.0, 48.0, 32.0]), np.array([134.0, 90.0, 52.0])),
    "ice": (np.array([112.0, 142.0, 160.0]), np.array([196.0, 212.0, 214.0])),
    "rust": (np.array([120.0, 44.0, 30.0]), np.array([196.0, 104.0, 62.0])),
    "slate": (np.array([72.0, 84.0, 92.0]), np.array([134.0, 140.0, 134.0])),
}
"""Colours of the iris: at its rim, and around the pupil."""

PUPILS = ("round", "slit", "bar")
"""Forms of the pupil: as of people, cats and goats."""

BULGE = 1.2
"""Where the cornea ends, as a share of the angle of the iris' rim."""

CORNEA_COLOUR = (223, 232, 230, 15)
CORNEA_MADE_OF, WHITE_MADE_OF, IRIS_MADE_OF = (10, 0, 0, 255), (56, 0, 115, 255), (190, 0, 30, 0)
"""Roughness, metalness, subsurface and wet, of 255."""

RIM = np.array([34.0, 36.0, 30.0])
PUPIL = np.array([12.0, 11.0, 11.0])


def _profile(rings: int, iris: float) -> F64:
    """Angles from the gaze (0) to the back (pi), dense where iris and cornea meet."""
    t = np.linspace(0.0, 1.0, rings + 1)
    edge = _edge(iris)
    # Half of the rings lie on the cornea.
    half = 0.5
    return np.where(t < half, t / half * edge * 1.25, edge * 1.25 + (t - half) / half * (np.pi - edge * 1.25))


def _edge(iris: float) -> float:
    """The angle from the gaze to the rim of the iris."""
    return float(np.arcsin(min(max(iris, 0.1), 0.9)))


def _dark(angle: F64, around: F64, iris: float, pupil: str) -> F64:
    """How much of the pupil's darkness lies at each place (n,), 0 to 1."""
    # A slit or a bar is a round pupil seen narrower across.
    wide, tall = {"round": (1.0, 1.0), "slit": (3.4, 0.62), "bar": (0.62, 2.6)}[pupil]
    r = angle / _edge(iris)
    across = np.hypot(r * np.cos(around) * wide, r * np.sin(around) * tall)
    return np.clip((0.46 - across) / 0.08, 0, 1)


def _colours(angle: F64, around: F64, iris: float, colour: str, pupil: str) -> U8:
    r = angle / _edge(iris)
    fibres = 0.5 + 0.5 * np.sin(around * 23 + 2.2 * np.sin(around * 7 + 1.3)) * np.sin(around * 41 + 0.7)
    share = np.clip(r[:, None], 0, 1)
    outer, inner = IRISES[colour]
    coloured = inner * (1 - share) + outer * share
    coloured = coloured * (0.78 + 0.3 * fibres[:, None])
    limb = np.clip((r - 0.82) / 0.16, 0, 1)[:, None]
    coloured = coloured * (1 - limb) + RIM * limb
    dark = _dark(angle, around, iris, pupil)[:, None]
    coloured = coloured * (1 - dark) + PUPIL * dark
    back = np.clip((angle - 1.1) / 1.2, 0, 1)[:, None]
    ball = WHITE * (1 - 0.6 * back) + VEIN * 0.6 * back
    out = np.clip((r - 1.0) / 0.08, 0, 1)[:, None]
    mixed = coloured * (1 - out) + ball * out
    return np.concatenate([np.clip(mixed, 0, 255), np.full((len(angle), 1), 255.0)], 1).astype(np.uint8)


def _regions(faces: I32, angle: F64, dark: F64, iris: float) -> U16:
    """What each of the quads (f, 4) belongs to, by the place of most of it."""
    middle = angle[faces].mean(axis=1)
    edge = _edge(iris)
    found = np.full(len(faces), EYE_WHITE, np.uint16)
    found[middle < edge * BULGE] = EYE_CORNEA
    found[middle < edge] = EYE_IRIS
    found[dark[faces].mean(axis=1) > 0.5] = EYE_PUPIL
    return found


def _single(sides: tuple[int, int], iris: float, look: tuple[str, str], clear: bool) -> Clay:
    """An eye of radius 1 that looks along +z, without poles: a round grid over the pupil and one at the back."""
    n, rings = sides
    angles = _profile(rings, iris)
    # So many rings are as wide as the grid's squares.
    front = int(np.clip(round(n / 1.1), 2, rings // 3))
    cap, quads, rim = round_grid(n, max(round(0.45 * front), 1))
    turn, far = np.arctan2(cap[:, 1], cap[:, 0]), np.linalg.norm(cap, axis=1)
    between = angles[front + 1 : -front - 1]
    whole = (far * angles[front], np.repeat(between, len(rim)), np.pi - far * (np.pi - angles[-front - 1]))
    angle = np.concatenate(whole)
    spin = np.concatenate([turn, np.tile(turn[rim], len(between)), turn])
    last = len(cap) + len(whole[1])
    rows: list[AnyArray] = [
        rim,
        *(len(cap) + np.arange(len(rim)) + len(rim) * k for k in range(len(between))),
        rim + last,
    ]
    faces = [quads, quads[:, ::-1] + last]
    for a, b in itertools.pairwise(rows):
        faces.append(np.stack([a, b, np.roll(b, -1), np.roll(a, -1)], -1))
    bulge = _bulging(angle, iris)
    around = np.stack([np.cos(spin), np.sin(spin)], -1)
    every: I32 = np.concatenate(faces).astype(np.int32)
    regions = _regions(every, angle, _dark(angle, spin, iris, look[1]), iris)
    colours = _colours(angle, spin, iris, *look)
    if not clear:
        points = np.column_stack([around * (bulge * np.sin(angle))[:, None], bulge * np.cos(angle)])
        return replace(clay_of(points, every, colours), regions=regions)
    # The iris lies flat behind the rim of its cornea, and dips to the pupil.
    edge = _edge(iris)
    inner = angle < edge
    dip = 0.10 * np.sin(edge) * np.clip(1 - angle / edge, 0, 1)
    points = np.column_stack(
        [around * np.sin(angle)[:, None], np.where(inner, np.cos(edge) - dip, np.cos(angle))]
    )
    made_of = np.where(inner[:, None], IRIS_MADE_OF, WHITE_MADE_OF).astype(np.uint8)
    regions[regions == EYE_CORNEA] = EYE_WHITE
    ball = replace(clay_of(points, every, colours), regions=regions, material=made_of)
    # Its own clay reaches a little beyond its edge, into the white.
    own = every[(angle[every] < edge * BULGE * 1.02).all(axis=1)]
    used, index = np.unique(own, return_inverse=True)
    cover = np.column_stack([around * (bulge * np.sin(angle))[:, None], bulge * np.cos(angle)])[used]
    count = len(used)
    cornea = replace(
        clay_of(cover * 1.002, index.reshape(-1, 4).astype(np.int32), _all(CORNEA_COLOUR, count)),
        regions=np.full(len(own), EYE_CORNEA, np.uint16),
        material=_all(CORNEA_MADE_OF, count),
    )
    return joined([ball, cornea])


def _all(codes: tuple[int, int, int, int], count: int) -> U8:
    return np.tile(np.array(codes, np.uint8), (count, 1))


def _bulging(angle: F64, iris: float) -> F64:
    """How far from the ball's middle the cornea is at angles (n,) from the gaze; 1 beside it."""
    # The cornea is a smaller ball that stands out: the human eye's is 0.65 of the eyeball's radius.
    edge = _edge(iris) * BULGE
    high = np.clip(np.cos(np.minimum(angle / edge, 1.0) * np.pi / 2), 0, 1) ** 2
    return np.asarray(1.0 + 0.30 * edge * high)


def eye_clay(
    size: tuple[float, float, float],
    sides: tuple[int, int],
    iris: float,
    place: tuple[tuple[float, float], float],
    look: tuple[str, str],
    clear: bool = False,
) -> Clay:
    """One eye, or a pair that looks the same way, each in its own place.

    Parameters
    ----------
    size : three floats
        Extents of the eyeball, without its cornea.
    sides : two ints
        Quads along a quarter of the way round, even; and from the gaze to the back.
    iris : float
        The iris' radius as a share of the eyeball's.
    place : pair of floats, float
        Where it looks, degrees to the eye's left and up; and how far the middles of a pair are apart, 0 for one eye.
    look : two strings
        Of `IRISES` and of `PUPILS`.
    clear : bool
        The cornea is clay of its own that is seen through, the iris flat behind it.
    """
    gaze, apart = place
    base = _single(sides, iris, look, clear)
    spin = Rotation.from_euler("YX", [gaze[0], -gaze[1]], degrees=True)
    points = spin.apply(base.positions.astype(np.float64)) * np.array(size) / 2
    if apart <= 0:
        return replace(base, positions=points.astype(np.float32))
    pair = []
    for side in (-1.0, 1.0):
        moved = points + np.array([side * apart / 2, 0.0, 0.0])
        pair.append(replace(base, positions=moved.astype(np.float32)))
    return joined(pair)
