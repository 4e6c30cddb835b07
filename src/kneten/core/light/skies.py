"""Skies of our own: light from all around, as a function of direction, and what pictures need of it.

A sky is looked at as a table of directions: rows from straight up to straight down, columns all round from behind over the
left (x below 0), the front (z above 0) and the right. Light is counted as that of lamps: white clay under an even sky of 1 is white.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.light.day import day_sky

Sky = Callable[[F64], F64]
"""From unit directions (k, 3) to light (k, 3)."""

ROUGH = (0.0, 0.25, 0.45, 0.7, 1.0)
"""Roughnesses for which a table is blurred."""

TALL = 64
"""Rows of the sharp table; it is twice as wide."""


def _rgb(r: float, g: float, b: float) -> F64:
    return np.array([r, g, b])


def _smooth(low: float, high: float, x: F64) -> F64:
    t = np.clip((x - low) / (high - low), 0.0, 1.0)
    return np.asarray(t * t * (3 - 2 * t))[:, None]


def _fall(ways: F64, zenith: F64, horizon: F64, earth: F64, soft: float = 0.08) -> F64:
    """A sky that changes from the horizon up, over ground."""
    high = ways[:, 1]
    above = horizon + (zenith - horizon) * _smooth(-0.05, 0.75, high)
    return earth + (above - earth) * _smooth(-soft, soft, high)


def _glow(ways: F64, towards: tuple[float, float, float], wide: float, light: F64) -> F64:
    """A soft light in a direction; `wide` is where it has fallen to a third, degrees."""
    way = np.array(towards) / np.linalg.norm(towards)
    sharp = 1.0 / (1.0 - np.cos(np.radians(wide)))
    return np.exp(sharp * (ways @ way - 1.0))[:, None] * light


def _panel(ways: F64, towards: tuple[float, float, float], half: tuple[float, float], light: F64) -> F64:
    """A panel of light before one, half as wide and high as is given at distance 1, its edge a little soft."""
    way = np.array(towards) / np.linalg.norm(towards)
    side = np.cross([0.0, 1.0, 0.0], way)
    side = side / np.linalg.norm(side) if np.linalg.norm(side) > 1e-6 else np.array([1.0, 0.0, 0.0])
    up = np.cross(way, side)
    ahead = ways @ way
    flat = np.maximum(ahead, 1e-6)
    x, y = np.abs(ways @ side / flat), np.abs(ways @ up / flat)
    inside = _smooth(half[0] * 1.08, half[0] * 0.92, x) * _smooth(half[1] * 1.08, half[1] * 0.92, y)
    return np.asarray(inside * (ahead > 0)[:, None] * light)


def _even(ways: F64) -> F64:
    return np.full((len(ways), 3), 0.55)


def _studio(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.10, 0.10, 0.11), _rgb(0.16, 0.155, 0.15), _rgb(0.05, 0.046, 0.042), 0.3)
    out += _panel(ways, (-0.9, 0.55, 0.6), (0.55, 0.75), _rgb(4.2, 4.0, 3.7))
    out += _panel(ways, (1.0, 0.15, 0.2), (0.28, 0.9), _rgb(1.1, 1.2, 1.35))
    return out + _panel(ways, (0.25, 0.6, -1.0), (0.6, 0.25), _rgb(2.2, 2.3, 2.5))


def _overcast(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.92, 0.97, 1.04), _rgb(0.52, 0.56, 0.60), _rgb(0.10, 0.115, 0.12), 0.12)
    # Water gives back what is low in the sky.
    return out + _fall(ways, _rgb(0, 0, 0), _rgb(0, 0, 0), _rgb(0.06, 0.08, 0.09), 0.5)


def _low_sun(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.16, 0.24, 0.42), _rgb(0.72, 0.42, 0.24), _rgb(0.10, 0.07, 0.05))
    out += _glow(ways, (-0.85, 0.16, 0.35), 24, _rgb(2.2, 1.15, 0.48))
    return out + _glow(ways, (-0.85, 0.16, 0.35), 5, _rgb(26.0, 13.0, 5.0))


def _noon(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.19, 0.33, 0.66), _rgb(0.62, 0.72, 0.84), _rgb(0.24, 0.21, 0.165))
    return out + _glow(ways, (-0.35, 0.85, 0.4), 14, _rgb(1.6, 1.45, 1.2))


def _blue_hour(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.035, 0.06, 0.15), _rgb(0.13, 0.16, 0.27), _rgb(0.018, 0.02, 0.03))
    return out + _glow(ways, (0.8, 0.02, -0.6), 30, _rgb(0.42, 0.21, 0.14))


def _lantern_night(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.010, 0.016, 0.035), _rgb(0.028, 0.040, 0.066), _rgb(0.008, 0.009, 0.011), 0.2)
    out += _glow(ways, (0.5, 0.5, -0.8), 16, _rgb(0.34, 0.42, 0.58))
    return out + _glow(ways, (-0.45, -0.15, 0.9), 20, _rgb(1.5, 0.72, 0.24))


def _wood(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.42, 0.55, 0.30), _rgb(0.08, 0.12, 0.06), _rgb(0.045, 0.04, 0.025), 0.25)
    turn = np.arctan2(ways[:, 0], ways[:, 2])
    leaves = np.sin(9 * turn + 3.1 * ways[:, 1]) * np.sin(17 * ways[:, 1] + 2.3 * np.cos(5 * turn))
    holes = np.maximum(leaves, 0.0)[:, None] ** 3 * _smooth(0.15, 0.8, ways[:, 1])
    return out + holes * _rgb(2.4, 2.6, 1.9)


def _mist(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.66, 0.68, 0.69), _rgb(0.60, 0.61, 0.61), _rgb(0.30, 0.31, 0.31), 0.7)
    return out + _glow(ways, (-0.5, 0.35, 0.6), 40, _rgb(0.55, 0.53, 0.48))


def _workshop(ways: F64) -> F64:
    out = _fall(ways, _rgb(0.055, 0.048, 0.04), _rgb(0.085, 0.07, 0.055), _rgb(0.05, 0.035, 0.022), 0.4)
    for k in range(2):
        for j in range(3):
            towards = (-1.0, 0.34 + 0.42 * k, 0.42 * j - 0.15)
            out += _panel(ways, towards, (0.17, 0.17), _rgb(3.6, 4.1, 4.7))
    return out + _glow(ways, (0.7, 0.5, 0.4), 18, _rgb(0.9, 0.5, 0.22))


SKIES: dict[str, tuple[str, str, Sky]] = {
    "even": ("Even", "The same light from everywhere", _even),
    "studio": ("Studio panels", "A large panel on the left, a narrow one on the right, one behind", _studio),
    "overcast": ("Overcast lake", "A pale closed sky over dark water", _overcast),
    "low-sun": ("Low sun", "The last warm light from the left", _low_sun),
    "noon": ("Clear noon", "Blue above, dry ground below", _noon),
    "blue-hour": ("Blue hour", "After sunset: blue, a red rest behind", _blue_hour),
    "lantern": ("Lantern night", "A dark lake, a moon behind, a lantern before", _lantern_night),
    "wood": ("Under leaves", "Green shade with holes of light", _wood),
    "mist": ("Mist", "Soft and grey from all around", _mist),
    "hour": ("By the hour", "Sun and clear sky at an hour of the day", lambda ways: day_sky(ways, 10.0, 0.2)),
    "workshop": ("Workshop window", "A window of six panes on the left in a dark room", _workshop),
}
"""Names, what they are, and the skies themselves."""


def directions(tall: int) -> F64:
    """The unit directions, (tall * 2 tall, 3), that a table of so many rows has."""
    theta = (np.arange(tall) + 0.5) / tall * np.pi
    phi = (np.arange(2 * tall) + 0.5) / tall * np.pi - np.pi
    t, p = np.meshgrid(theta, phi, indexing="ij")
    ways = np.stack([np.sin(t) * np.sin(p), np.cos(t), np.sin(t) * np.cos(p)], axis=-1)
    return ways.reshape(-1, 3)


def solid_angles(tall: int) -> F64:
    """How much of the ball each direction of a table stands for, (tall * 2 tall,)."""
    edges = np.cos(np.linspace(0, np.pi, tall + 1))
    return np.repeat((edges[:-1] - edges[1:]) * np.pi / tall, 2 * tall)


@dataclass(frozen=True, eq=False)
class SkyTables:
    """What drawing needs of a sky.

    Attributes
    ----------
    levels : (len(ROUGH), TALL, 2 * TALL, 3) float32
        How it is mirrored by surfaces of each roughness of `ROUGH`.
    diffuse : (TALL, 2 * TALL, 3) float32
        How it lights dull white clay that faces each direction.
    mean : (3,) float32
        Its light on average.
    """

    levels: F32
    diffuse: F32
    mean: F32


def fitted(light: F32) -> F32:
    """A picture of all that is around, (h, w, 3), as a table, (TALL, 2 * TALL, 3): each place the mean of what it covers."""
    high, wide = light.shape[:2]
    few = (_shares(high, TALL) @ light.reshape(high, -1)).reshape(TALL, wide, 3)
    out = few.transpose(0, 2, 1) @ _shares(wide, 2 * TALL).T
    return np.ascontiguousarray(out.transpose(0, 2, 1), np.float32)


def _shares(n: int, wanted: int) -> F32:
    """How much each of n places has of each of so many wanted ones, (wanted, n); rows add up to one."""
    edges = np.linspace(0, n, wanted + 1)
    low, high = edges[:-1, None], edges[1:, None]
    at = np.arange(n)[None]
    return np.asarray(
        np.clip(np.minimum(high, at + 1) - np.maximum(low, at), 0, None) / (high - low), np.float32
    )


def tables_of(light: F32) -> SkyTables:
    """The tables of a sky that is given as a picture, (TALL, 2 * TALL, 3)."""
    flat = light.reshape(-1, 3).astype(np.float64)
    angles = solid_angles(TALL)
    levels = [light.astype(np.float32)]
    # Rough surfaces mirror no detail: half the rows are enough to gather from, and to give.
    half = TALL // 2
    few = light.reshape(half, 2, 2 * half, 2, 3).astype(np.float64).mean(axis=(1, 3)).reshape(-1, 3)
    for rough in ROUGH[1:]:
        levels.append(_gathered(few, half, 0.5 / rough**4))
    diffuse = _gathered(few, half)
    return SkyTables(np.stack(levels), diffuse, (angles @ flat / (4 * np.pi)).astype(np.float32))


def _gathered(flat: F64, rows: int, sharp: float = 0.0) -> F32:
    """A table, (TALL, 2 TALL, 3), of what surfaces gather of light (k, 3) that is given by so many rows.

    With `sharp` they mirror it: as a spherical Gaussian so sharp about what is mirrored (Wang, 2009); else they are dull.
    """
    ways, angles = directions(rows).astype(np.float32), solid_angles(rows).astype(np.float32)
    weighted = (flat * angles[:, None]).astype(np.float32)
    facing = ways @ ways.T
    share = np.exp(np.float32(sharp) * (facing - 1)) if sharp else np.maximum(facing, 0)
    out = share @ weighted / (share @ angles)[:, None]
    return _finer(out.reshape(rows, 2 * rows, 3), TALL // rows)


def _finer(table: F32, times: int) -> F32:
    """A table with so many times the rows and columns, evenly in between; it goes on all round, and stops above and below."""
    at = (np.arange(table.shape[0] * times) + 0.5) / times - 0.5
    low = np.clip(np.floor(at).astype(int), 0, table.shape[0] - 1)
    share = (np.clip(at, 0, table.shape[0] - 1) - low).astype(np.float32)[:, None, None]
    tall = table[low] * (1 - share) + table[np.minimum(low + 1, table.shape[0] - 1)] * share
    at = (np.arange(table.shape[1] * times) + 0.5) / times - 0.5
    left = np.floor(at).astype(int)
    share = (at - left).astype(np.float32)[None, :, None]
    wide = table.shape[1]
    return np.ascontiguousarray(tall[:, left % wide] * (1 - share) + tall[:, (left + 1) % wide] * share)


@functools.lru_cache(maxsize=16)
def own_tables(key: str) -> SkyTables:
    """The tables of a sky of `SKIES`; those of the even one for a key that there is not."""
    sky = SKIES.get(key, SKIES["even"])[2]
    return _tables_by(sky)


@functools.lru_cache(maxsize=32)
def day_tables(hour: float, haze: float) -> SkyTables:
    """The tables of the sky at an hour of the day."""
    return _tables_by(lambda ways: day_sky(ways, hour, haze))


def _tables_by(sky: Sky) -> SkyTables:
    # Each row of the table is the mean of nine places: a sun between two rows would be missed.
    fine = sky(directions(3 * TALL)).reshape(TALL, 3, 2 * TALL, 3, 3).mean(axis=(1, 3))
    return tables_of(fine.astype(np.float32))
