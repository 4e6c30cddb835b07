"""An eye: ball, cornea, iris and pupil in colour, alone or as a pair."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, U8
from kneten.core.live.clay import Clay, clay_of, joined, wall

WHITE = np.array([232.0, 224.0, 210.0])
VEIN = np.array([206.0, 150.0, 132.0])
IRIS = (np.array([104.0, 128.0, 88.0]), np.array([176.0, 150.0, 84.0]))
RIM = np.array([34.0, 36.0, 30.0])
PUPIL = np.array([12.0, 11.0, 11.0])


def _profile(divisions: int, iris: float) -> F64:
    """Angles from the gaze (0) to the back (pi), dense where iris and cornea meet."""
    t = np.linspace(0.0, 1.0, divisions + 1)[1:]
    edge = np.arcsin(min(max(iris, 0.1), 0.9))
    # Half of the rings lie on the cornea.
    half = 0.5
    return np.where(t < half, t / half * edge * 1.25, edge * 1.25 + (t - half) / half * (np.pi - edge * 1.25))


def _colours(angle: F64, around: F64, iris: float) -> U8:
    edge = np.arcsin(min(max(iris, 0.1), 0.9))
    r = angle / edge
    fibres = 0.5 + 0.5 * np.sin(around * 23 + 2.2 * np.sin(around * 7 + 1.3)) * np.sin(around * 41 + 0.7)
    share = np.clip(r[:, None], 0, 1)
    coloured = IRIS[1] * (1 - share) + IRIS[0] * share
    coloured = coloured * (0.78 + 0.3 * fibres[:, None])
    limb = np.clip((r - 0.82) / 0.16, 0, 1)[:, None]
    coloured = coloured * (1 - limb) + RIM * limb
    dark = np.clip((0.46 - r) / 0.08, 0, 1)[:, None]
    coloured = coloured * (1 - dark) + PUPIL * dark
    back = np.clip((angle - 1.1) / 1.2, 0, 1)[:, None]
    ball = WHITE * (1 - 0.6 * back) + VEIN * 0.6 * back
    out = np.clip((r - 1.0) / 0.08, 0, 1)[:, None]
    mixed = coloured * (1 - out) + ball * out
    return np.concatenate([np.clip(mixed, 0, 255), np.full((len(angle), 1), 255.0)], 1).astype(np.uint8)


def _single(divisions: tuple[int, int, int], iris: float) -> Clay:
    """An eye of radius 1 that looks along +z."""
    around = max(divisions[0] + divisions[0] % 2, 8)
    angles = _profile(max(divisions[1], 8), iris)[:-1]
    turn = np.arange(around) / around * 2 * np.pi
    # The cornea is a smaller ball that stands out: the human eye's is 0.65 of the eyeball's radius.
    edge = np.arcsin(min(max(iris, 0.1), 0.9)) * 1.2
    rise = 0.30 * edge * np.clip(np.cos(np.minimum(angles / edge, 1.0) * np.pi / 2), 0, 1) ** 2
    radius = 1.0 + rise
    x = radius[:, None] * np.sin(angles)[:, None] * np.cos(turn)
    y = radius[:, None] * np.sin(angles)[:, None] * np.sin(turn)
    z = np.broadcast_to((radius * np.cos(angles))[:, None], x.shape)
    rings = np.stack([x, y, z], -1).reshape(-1, 3)
    count = len(rings)
    front, back = np.array([[0.0, 0.0, 1.0 + 0.30 * edge]]), np.array([[0.0, 0.0, -1.0]])
    points = np.concatenate([rings, front, back])
    j = np.arange(around)
    last = (len(angles) - 1) * around
    fan = np.stack([np.full(around, count), j, (j + 1) % around], -1)
    rear = np.stack([np.full(around, count + 1), last + (j + 1) % around, last + j], -1)
    each = np.concatenate([np.repeat(angles, around), [0.0, np.pi]])
    spin = np.concatenate([np.tile(turn, len(angles)), [0.0, 0.0]])
    faces = [wall(len(angles), around, back=True), fan.astype(np.int32), rear.astype(np.int32)]
    return clay_of(points, faces, _colours(each, spin, iris))


def eye_clay(
    size: tuple[float, float, float],
    divisions: tuple[int, int, int],
    iris: float,
    gaze: tuple[float, float],
    apart: float,
) -> Clay:
    """One eye, or a pair that looks the same way, each in its own place.

    Parameters
    ----------
    size : three floats
        Extents of the eyeball, without its cornea.
    iris : float
        The iris' radius as a share of the eyeball's.
    gaze : two floats
        Degrees to the eye's left and up.
    apart : float
        Between the middles of a pair; 0 for one eye.
    """
    base = _single(divisions, iris)
    spin = Rotation.from_euler("YX", [gaze[0], -gaze[1]], degrees=True)
    points = spin.apply(base.positions.astype(np.float64)) * np.array(size) / 2
    if apart <= 0:
        return Clay(points.astype(np.float32), base.faces, base.colour)
    pair = []
    for side in (-1.0, 1.0):
        moved = points + np.array([side * apart / 2, 0.0, 0.0])
        pair.append(Clay(moved.astype(np.float32), base.faces, base.colour))
    return joined(pair)
