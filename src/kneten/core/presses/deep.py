"""Deep presses of our own: they move clay sideways too, for what hangs over, bulges or has a neck."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.interpolate import CubicSpline, PchipInterpolator
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, AnyArray
from kneten.core.presses.entry import press
from kneten.core.presses.fields import bump, places, step, uneven

FINE = 1500
"""Places along a line that a form runs along."""

DEEP = 384
"""Pixels along a side: three numbers each."""

Profile = tuple[tuple[float, float], ...]
"""From the outside (1, 0) to the middle: how far out it is and how high."""

BUD: Profile = (
    (1.0, 0.0),
    (0.62, 0.02),
    (0.47, 0.10),
    (0.46, 0.26),
    (0.58, 0.46),
    (0.55, 0.66),
    (0.32, 0.80),
    (0.0, 0.84),
)
CORD: Profile = ((1.0, 0.0), (0.66, 0.0), (0.52, 0.10), (0.58, 0.30), (0.56, 0.50), (0.34, 0.68), (0.0, 0.74))
CUP: Profile = (
    (1.0, 0.0),
    (0.60, 0.02),
    (0.46, 0.16),
    (0.58, 0.40),
    (0.62, 0.56),
    (0.52, 0.62),
    (0.40, 0.50),
    (0.30, 0.26),
    (0.0, 0.20),
)


def _upwards() -> tuple[AnyArray, AnyArray]:
    """-1 to 1 to the right and upwards, (DEEP, DEEP) each."""
    x, y = places(DEEP, DEEP)
    return 2 * x - 1, 1 - 2 * y


def _along(profile: Profile, d: AnyArray) -> tuple[AnyArray, AnyArray]:
    """Where a section is that lay at a distance `d` (0 to 1) from its middle: how far out, and how high."""
    points = np.array(profile)[::-1]
    lengths = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    share = lengths / lengths[-1]
    at = np.clip(d, 0.0, 1.0)
    return PchipInterpolator(share, points[:, 0])(at), PchipInterpolator(share, points[:, 1])(at)


def _round(
    profile: Profile,
    size: float = 0.95,
    wavy: Callable[[AnyArray], AnyArray] | None = None,
    x0: float = 0.0,
    y0: float = 0.0,
) -> F64:
    """The moves (DEEP, DEEP, 3) of a form all round a middle, in half-widths."""
    u, v = _upwards()
    dx, dy = u - x0, v - y0
    angle, far = np.arctan2(dy, dx), np.hypot(dx, dy)
    wide = size * (1.0 if wavy is None else wavy(angle))
    d = far / wide
    out, high = _along(profile, d)
    # From nothing at the rim: beyond it all stays where it is.
    inside = d < 1.0
    grow = np.where(inside, (out * wide - far) / np.maximum(far, 1e-6), 0.0)
    return np.stack([dx * grow, dy * grow, np.where(inside, high * size, 0.0)], -1)


def _cord(profile: Profile, wide: float, spine: F64, ends: float = 0.18) -> F64:
    """The moves of a form that runs along a line (k, 2) and sinks away at its ends."""
    u, v = _upwards()
    curve = np.linspace(0, len(spine) - 1, FINE)
    line = np.stack([CubicSpline(range(len(spine)), spine[:, k])(curve) for k in range(2)], -1)
    ways = np.gradient(line, axis=0)
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    lengths = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    _, nearest = cKDTree(line).query(np.stack([u, v], -1).reshape(-1, 2))
    nearest = nearest.reshape(u.shape)
    dx, dy = u - line[nearest, 0], v - line[nearest, 1]
    # Between two places of the line, square to it.
    past = dx * ways[nearest, 0] + dy * ways[nearest, 1]
    inner = (nearest > 0) & (nearest < FINE - 1)
    past = np.where(inner, past, 0.0)
    along = np.clip(lengths[nearest] + past, 0.0, lengths[-1])
    nx, ny = dx - past * ways[nearest, 0], dy - past * ways[nearest, 1]
    best = np.hypot(nx, ny)
    share = along / lengths[-1]
    risen = step(0.0, ends, share) * step(0.0, ends, 1 - share)
    d = best / wide
    out, high = _along(profile, d)
    inside = d < 1.0
    grow = np.where(inside, risen * (out * wide - best) / np.maximum(best, 1e-6), 0.0)
    return np.stack([nx * grow, ny * grow, np.where(inside, risen * high * wide, 0.0)], -1)


def _leaning(moves: F64, x: float, y: float, bend: float = 1.0) -> F64:
    """A form whose upper parts lean aside: the higher, the more."""
    high = moves[..., 2]
    lean = np.sign(high) * np.abs(high) ** (1.0 + bend)
    return moves + np.stack([x * lean, y * lean, np.zeros_like(high)], -1)


def _arc(radius: float, begin: float, end: float, x: float = 0.0, y: float = 0.0, count: int = 40) -> F64:
    angle = np.radians(np.linspace(begin, end, count))
    return np.stack([x + radius * np.cos(angle), y + radius * np.sin(angle)], -1)


@press("deep-wart", "Wart with a neck", "deep", "growth bud knob undercut", tiles=False, deep=True)
def deep_wart() -> AnyArray:
    bumps = 0.06 * uneven(7, 1, 7, (DEEP, DEEP))
    moves = _round(BUD, 0.9, lambda a: 1 + 0.06 * np.sin(3 * a + 1) + 0.04 * np.sin(5 * a))
    return moves * (1 + bumps[..., None] * step(0.2, 0.5, moves[..., 2])[..., None])


@press("deep-sucker", "Sucker", "deep", "octopus cup ring tentacle", tiles=False, deep=True)
def deep_sucker() -> AnyArray:
    return _round(CUP, 0.95)


@press("deep-barnacle", "Barnacle", "deep", "crater shell ship harbour", tiles=False, deep=True)
def deep_barnacle() -> AnyArray:
    cone: Profile = (
        (1.0, 0.0),
        (0.72, 0.06),
        (0.52, 0.44),
        (0.44, 0.66),
        (0.34, 0.70),
        (0.30, 0.56),
        (0.36, 0.20),
        (0.0, 0.12),
    )
    return _round(cone, 0.95, lambda a: 1 + 0.05 * np.abs(np.sin(4 * a)) + 0.04 * np.sin(2 * a + 0.5))


@press("deep-horn", "Horn bud", "deep", "spike thorn bent growth", tiles=False, deep=True)
def deep_horn() -> AnyArray:
    horn: Profile = (
        (1.0, 0.0),
        (0.60, 0.03),
        (0.46, 0.20),
        (0.40, 0.55),
        (0.26, 1.00),
        (0.10, 1.32),
        (0.0, 1.40),
    )
    return _leaning(_round(horn, 0.85, y0=-0.12), 0.0, 0.42, 0.8)


@press("deep-curl", "Curl", "deep", "lock hook wave tendril", tiles=False, deep=True)
def deep_curl() -> AnyArray:
    t = np.linspace(0, 1, 60)
    angle, far = np.radians(210 - 400 * t), 0.62 - 0.40 * t
    spine = np.stack([far * np.cos(angle), far * np.sin(angle)], -1)
    return _cord(CORD, 0.22, spine, 0.10)


@press("deep-root", "Undercut root", "deep", "vein cord tendon branch", tiles=False, deep=True)
def deep_root() -> AnyArray:
    x = np.linspace(-0.92, 0.92, 40)
    spine = np.stack([x, 0.10 * np.sin(3.4 * x)], -1)
    return _cord(CORD, 0.42, spine)


@press("deep-lid", "Lid", "deep", "eye fold overhang brow", tiles=False, deep=True)
def deep_lid() -> AnyArray:
    """A fold that hangs over what lies below it, running out at both corners."""
    moves = _cord(CORD, 0.38, _arc(1.05, 140, 40, 0.0, -0.72), 0.30)
    return _leaning(moves, 0.0, -0.62, 0.3)


@press("deep-ear", "Ear", "deep", "conch rim helix auricle", tiles=False, deep=True)
def deep_ear() -> AnyArray:
    rim = _leaning(_cord(CORD, 0.26, _arc(0.62, -40, 215, -0.06, 0.08), 0.16), 0.0, 0.0)
    u, v = _upwards()
    # The rim stands away from the hollow that it goes round.
    far = np.maximum(np.hypot(u + 0.06, v - 0.08), 1e-6)
    out = 0.55 * rim[..., 2]
    rim = rim + np.stack([out * (u + 0.06) / far, out * (v - 0.08) / far, np.zeros_like(u)], -1)
    hollow = -0.22 * bump(np.hypot(u + 0.02, v - 0.05) / 0.42)
    rim[..., 2] += hollow
    lobe = 0.20 * bump(np.hypot(u + 0.34, v + 0.46) / 0.40)
    rim[..., 2] += lobe
    return rim


@press("deep-nostril", "Nostril wing", "deep", "nose ala hole", tiles=False, deep=True)
def deep_nostril() -> AnyArray:
    u, v = _upwards()
    wing = _cord(CORD, 0.34, _arc(0.46, -20, 230, 0.0, 0.0), 0.24)
    far = np.maximum(np.hypot(u, v), 1e-6)
    inwards = -0.45 * wing[..., 2]
    wing = wing + np.stack([inwards * u / far, inwards * v / far, np.zeros_like(u)], -1)
    wing[..., 2] -= 0.34 * bump(np.hypot(u, v + 0.10) / 0.34)
    return wing


@press("deep-fringe", "Fringe", "deep", "frill gills teeth overhanging", tiles=False, deep=True)
def deep_fringe() -> AnyArray:
    """Flaps side by side that hang over the clay below."""
    u, _ = _upwards()
    flaps = 0.62 + 0.38 * np.abs(np.cos(2.5 * np.pi * u))
    moves = _cord(CORD, 0.40, np.array([[-0.86, 0.30], [0.86, 0.30]]), 0.14)
    high = moves[..., 2]
    hang = 1.05 * high**1.2 * flaps
    return moves + np.stack([np.zeros_like(u), -hang, -0.15 * hang * (1 - flaps)], -1)
