"""Sun and sky by the hour of a clear day: light from directions, by Preetham, Shirley and Smits (1999).

The day is one at the middle of spring, 48 degrees north: the sun comes up at the left a little before six, stands before the clay at
noon, and goes down at the right. Below the horizon dusk takes over, which that work does not cover.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64

LATITUDE, DECLINATION = np.radians(48.0), np.radians(8.0)

WAVES = np.array([0.640, 0.545, 0.460])
"""Micrometres of red, green and blue."""

HAZES = (2.2, 9.0)
"""How turbid the air is at haze 0 and at 1."""

SUN_WIDE = 0.53
"""Degrees."""

XYZ_TO_RGB = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])

LUMINANCE = np.array([0.2126, 0.7152, 0.0722])

NIGHT_ZENITH, NIGHT_HORIZON = np.array([0.010, 0.015, 0.034]), np.array([0.024, 0.031, 0.052])
DUSK_ZENITH, DUSK_HORIZON = np.array([0.030, 0.052, 0.130]), np.array([0.135, 0.135, 0.185])
DUSK_GLOW = np.array([0.62, 0.27, 0.11])

EARTH = 0.16
"""What the ground gives back of what falls on it."""


def sun_way(hour: float) -> F64:
    """The unit direction (3,) towards the sun; below the horizon its y is less than 0."""
    turn = (hour - 12.0) / 12.0 * np.pi
    high = np.sin(LATITUDE) * np.sin(DECLINATION) + np.cos(LATITUDE) * np.cos(DECLINATION) * np.cos(turn)
    right = np.cos(DECLINATION) * np.sin(turn)
    before = np.sin(LATITUDE) * np.cos(DECLINATION) * np.cos(turn) - np.cos(LATITUDE) * np.sin(DECLINATION)
    return np.array([right, high, before])


def turbidity(haze: float) -> float:
    """Of air so hazy, 0 to 1."""
    return HAZES[0] + (HAZES[1] - HAZES[0]) * haze


def sun_light(hour: float, haze: float) -> F64:
    """What of the sun arrives, (3,), as that of lamps is counted: red, green and blue; none when it is down."""
    high = float(sun_way(hour)[1])
    if high <= 0:
        return np.zeros(3)
    degrees = np.degrees(np.arcsin(high))
    mass = 1.0 / (high + 0.15 * (degrees + 3.885) ** -1.253)
    beta = 0.04608 * turbidity(haze) - 0.04586
    left = np.exp(-mass * (0.008735 * WAVES**-4.08 + beta * WAVES**-1.3))
    # Half the disc is up for a moment.
    up = np.clip(degrees / SUN_WIDE, 0.0, 1.0)
    return np.asarray(2.6 * left * up)


def day_sky(ways: F64, hour: float, haze: float) -> F64:
    """Light (k, 3) from unit directions (k, 3), without the sun itself."""
    sun = sun_way(hour)
    high = float(np.degrees(np.arcsin(np.clip(sun[1], -1, 1))))
    day = np.clip((high + 2.0) / 8.0, 0.0, 1.0)
    out = np.zeros((len(ways), 3))
    if day > 0:
        out += day * _clear(ways, sun, max(high, 2.0), turbidity(haze))
    if day < 1:
        out += (1 - day) * _dusk(ways, sun, float(np.clip(1 + (high + 1.5) / 10.0, 0.0, 1.0)))
    # The ground gives back what falls on it.
    above = ways[:, 1] > 0.02
    falls = (out * np.clip(ways[:, 1:2], 0, None))[above].mean(axis=0) * 2 if above.any() else np.zeros(3)
    falls = falls + sun_light(hour, haze) * max(float(sun[1]), 0.0)
    share = np.clip((ways[:, 1:2] + 0.03) / 0.06, 0.0, 1.0)
    return np.asarray(out * share + (1 - share) * EARTH * falls)


def _clear(ways: F64, sun: F64, high: float, turbid: float) -> F64:
    """The sky with the sun so many degrees up."""
    zenith = np.radians(90.0 - high)
    up = np.clip(ways[:, 1], 0.02, 1.0)
    towards = np.array([sun[0], max(float(sun[1]), np.sin(np.radians(2.0))), sun[2]])
    towards /= np.linalg.norm(towards)
    gamma = np.arccos(np.clip(ways @ towards, -1.0, 1.0))
    t = turbid
    chi = (4.0 / 9.0 - t / 120.0) * (np.pi - 2 * zenith)
    bright = (4.0453 * t - 4.9710) * np.tan(chi) - 0.2155 * t + 2.4192
    z = np.array([zenith**3, zenith**2, zenith, 1.0])
    x_of = np.array([t * t, t, 1.0]) @ np.array(
        [
            [0.00166, -0.00375, 0.00209, 0.0],
            [-0.02903, 0.06377, -0.03202, 0.00394],
            [0.11693, -0.21196, 0.06052, 0.25886],
        ]
    )
    y_of = np.array([t * t, t, 1.0]) @ np.array(
        [
            [0.00275, -0.00610, 0.00317, 0.0],
            [-0.04214, 0.08970, -0.04153, 0.00516],
            [0.15346, -0.26756, 0.06670, 0.26688],
        ]
    )
    terms = (
        (0.1787 * t - 1.4630, -0.3554 * t + 0.4275, -0.0227 * t + 5.3251, 0.1206 * t - 2.5771, -0.0670 * t + 0.3703),
        (-0.0193 * t - 0.2592, -0.0665 * t + 0.0008, -0.0004 * t + 0.2125, -0.0641 * t - 0.8989, -0.0033 * t + 0.0452),
        (-0.0167 * t - 0.2608, -0.0950 * t + 0.0092, -0.0079 * t + 0.2102, -0.0441 * t - 1.6537, -0.0109 * t + 0.0529),
    )  # fmt: skip

    def spread(k: int, value: float) -> F64:
        a, b, c, d, e = terms[k]

        def law(cosine: F64 | float, angle: F64 | float) -> F64:
            return np.asarray(
                (1 + a * np.exp(b / cosine)) * (1 + c * np.exp(d * angle) + e * np.cos(angle) ** 2)
            )

        return np.asarray(value * law(up, gamma) / law(1.0, zenith))

    y = np.maximum(spread(0, float(max(bright, 0.1))), 0.0)
    cx, cy = spread(1, float(x_of @ z)), np.maximum(spread(2, float(y_of @ z)), 0.05)
    xyz = np.stack([cx / cy * y, y, (1 - cx - cy) / cy * y], axis=1)
    # So much brighter is a clear noon, in thousands of candela, than an even sky that makes white clay white.
    return np.asarray(np.maximum(xyz @ XYZ_TO_RGB.T, 0.0) / 13.0)


def _dusk(ways: F64, sun: F64, left: float) -> F64:
    """The sky after the sun has gone, `left` of the dusk being there still: a glow where it went, the earth's shadow above."""
    height = np.clip(ways[:, 1:2], 0.0, 1.0)
    share = 1 - np.exp(-3.5 * height)
    night = NIGHT_HORIZON + (NIGHT_ZENITH - NIGHT_HORIZON) * share
    dusk = DUSK_HORIZON + (DUSK_ZENITH - DUSK_HORIZON) * share
    flat = np.array([sun[0], 0.0, sun[2]])
    flat /= max(float(np.linalg.norm(flat)), 1e-9)
    glow = np.exp(3.0 * (ways @ flat - 1.0))[:, None] * np.exp(-6.0 * height) * DUSK_GLOW
    return np.asarray(night + left * (dusk - night + glow))
