"""Colours as numbers: sRGB codes, light, and OKLab, in which equal steps look equal.

Light is what colours are mixed in: red laid half over green gives a yellow as bright as both, not a mud between them.
OKLab (Ottosson, "A perceptual color space for image processing", 2020) is what lightness, colourfulness and hue are
told in. sRGB is that of IEC 61966-2-1.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from kneten.core.arrays import F32, F64, U8, AnyArray, inlined

_CODES = np.arange(256) / 255

DECODED: F32 = np.where(_CODES <= 0.04045, _CODES / 12.92, ((_CODES + 0.055) / 1.055) ** 2.4).astype(
    np.float32
)
"""The light of each code, 0 to 1."""

STEPS = 4096
"""Steps of light in the table of codes: read between them it is off by less than a hundredth of a code."""

_LIGHT = np.arange(STEPS + 2) / STEPS
ENCODED: F32 = np.where(
    _LIGHT <= 0.0031308, 255 * 12.92 * _LIGHT, 255 * (1.055 * np.maximum(_LIGHT, 1e-9) ** (1 / 2.4) - 0.055)
).astype(np.float32)
"""The code of each step of light, 0 to 255, not rounded."""

ZERO, ONE, TOP = np.float32(0.0), np.float32(1.0), np.float32(STEPS)


@inlined
def code_of(light: np.float32) -> np.float32:
    """The code of an amount of light, 0 to 255, not rounded."""
    at = min(max(light, ZERO), ONE) * TOP
    k = int(at)
    return ENCODED[k] + (at - np.float32(k)) * (ENCODED[k + 1] - ENCODED[k])


@inlined
def light_of(code: np.float32) -> np.float32:
    """The light of a code between whole ones, 0 to 255."""
    at = min(max(code, ZERO), np.float32(255.0))
    k = min(int(at), 254)
    return DECODED[k] + (at - np.float32(k)) * (DECODED[k + 1] - DECODED[k])


@inlined
def lab_of(r: np.float32, g: np.float32, b: np.float32) -> tuple[np.float32, np.float32, np.float32]:
    """Lightness, and the two axes of hue, of light."""
    third = np.float32(1.0 / 3.0)
    u = (np.float32(0.4122214708) * r + np.float32(0.5363325363) * g + np.float32(0.0514459929) * b) ** third
    v = (np.float32(0.2119034982) * r + np.float32(0.6806995451) * g + np.float32(0.1073969566) * b) ** third
    w = (np.float32(0.0883024619) * r + np.float32(0.2817188376) * g + np.float32(0.6299787005) * b) ** third
    return (
        np.float32(0.2104542553) * u + np.float32(0.7936177850) * v - np.float32(0.0040720468) * w,
        np.float32(1.9779984951) * u - np.float32(2.4285922050) * v + np.float32(0.4505937099) * w,
        np.float32(0.0259040371) * u + np.float32(0.7827717662) * v - np.float32(0.8086757660) * w,
    )


@inlined
def light_of_lab(
    lightness: np.float32, a: np.float32, b: np.float32
) -> tuple[np.float32, np.float32, np.float32]:
    """Light, which may lie outside 0 to 1 where no screen can show it."""
    u = lightness + np.float32(0.3963377774) * a + np.float32(0.2158037573) * b
    v = lightness - np.float32(0.1055613458) * a - np.float32(0.0638541728) * b
    w = lightness - np.float32(0.0894841775) * a - np.float32(1.2914855480) * b
    u, v, w = u * u * u, v * v * v, w * w * w
    return (
        np.float32(4.0767416621) * u - np.float32(3.3077115913) * v + np.float32(0.2309699292) * w,
        np.float32(-1.2684380046) * u + np.float32(2.6097574011) * v - np.float32(0.3413193965) * w,
        np.float32(-0.0041960863) * u - np.float32(0.7034186147) * v + np.float32(1.7076147010) * w,
    )


_TO_CONES = np.array([
    [0.4122214708, 0.5363325363, 0.0514459929],
    [0.2119034982, 0.6806995451, 0.1073969566],
    [0.0883024619, 0.2817188376, 0.6299787005],
])  # fmt: skip
_TO_LAB = np.array([
    [0.2104542553, 0.7936177850, -0.0040720468],
    [1.9779984951, -2.4285922050, 0.4505937099],
    [0.0259040371, 0.7827717662, -0.8086757660],
])  # fmt: skip


def lightness_colour_hue(codes: ArrayLike) -> F64:
    """Lightness 0 to 1, colourfulness 0 to about 0.33, and hue in degrees, (n, 3) or (3,), of sRGB codes (n, 3) or (3,)."""
    at = np.asarray(codes, np.float64) / 255
    light = np.where(at <= 0.04045, at / 12.92, ((at + 0.055) / 1.055) ** 2.4)
    lab = np.cbrt(light @ _TO_CONES.T) @ _TO_LAB.T
    hue = np.degrees(np.arctan2(lab[..., 2], lab[..., 1])) % 360
    return np.stack([lab[..., 0], np.hypot(lab[..., 1], lab[..., 2]), hue], axis=-1)


def _codes_of_lab(lab: F64) -> F64:
    light = (lab @ np.linalg.inv(_TO_LAB).T) ** 3 @ np.linalg.inv(_TO_CONES).T
    held = np.maximum(light, 0)
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * held ** (1 / 2.4) - 0.055) * 255


def codes_of(lightness: ArrayLike, colour: ArrayLike, hue: ArrayLike) -> U8:
    """The sRGB codes (n, 3) of lightness, colourfulness and hue in degrees, (n,) each, or of single ones.

    What no screen can show is made less colourful until it can: its lightness and hue stay.
    """
    lightness, colour, hue = np.broadcast_arrays(lightness, colour, np.radians(hue))
    low, high = np.zeros(lightness.shape), np.ones(lightness.shape)

    def codes(share: F64) -> F64:
        a, b = colour * share * np.cos(hue), colour * share * np.sin(hue)
        return _codes_of_lab(np.stack([np.asarray(lightness, np.float64), a, b], axis=-1))

    def fit(found: F64) -> AnyArray:
        return np.asarray(((found > -0.5) & (found < 255.5)).all(axis=-1))

    whole = codes(high)
    fits = fit(whole)
    for _ in range(14):
        middle = (low + high) / 2
        inside = fit(codes(middle))
        low, high = np.where(inside, middle, low), np.where(inside, high, middle)
    found = np.where(fits[..., None], whole, codes(low))
    return np.rint(np.clip(found, 0, 255)).astype(np.uint8)
