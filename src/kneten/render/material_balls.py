"""Small pictures of materials: balls under the sky that `shade.frag` has, worked out without OpenGL."""

from __future__ import annotations

import functools

import numpy as np

from kneten.core.arrays import F64, U8
from kneten.core.paint.ink import OPAQUE, Colour, Material

LAMP = np.array([-0.55, 0.5, 0.669])
SUN = np.array([2.35, 2.2, 1.95])
WRAP = np.array([0.62, 0.27, 0.17])


def _sky(height: F64, blur: F64 | float) -> F64:
    """The light of the sky, (..., 3), from heights (...) of -1 to 1, seen blurred."""

    def smooth(low: F64 | float, high: F64 | float, x: F64) -> F64:
        t = np.clip((x - low) / (np.asarray(high) - low), 0.0, 1.0)
        return np.asarray(t * t * (3 - 2 * t))[..., None]

    zenith, horizon = np.array([0.36, 0.47, 0.62]), np.array([0.84, 0.82, 0.78])
    earth = np.array([0.17, 0.14, 0.115])
    above = horizon + (zenith - horizon) * smooth(-0.1 - blur, 0.7 + 0.6 * blur, height)
    return np.asarray(earth + (above - earth) * smooth(-0.06 - 0.9 * blur, 0.06 + 0.9 * blur, height))


@functools.lru_cache(maxsize=256)
def ball_picture(colour: Colour, material: Material, size: int = 72, opacity: int = OPAQUE) -> U8:
    """A ball of a material, (size, size, 4) uint8: sRGB and opacity."""
    y, x = (np.mgrid[0:size, 0:size] + 0.5) * (2 / size) - 1
    radius = np.hypot(x, y) / 0.97
    z = np.sqrt(np.maximum(1 - radius * radius, 1e-4))
    n = np.stack([x / 0.97, -y / 0.97, z], axis=-1)
    rough, metal, deep, wet = (code / 255 for code in material)
    rough, deep = max(rough, 0.05), deep * (1 - metal)
    clay = (np.array(colour) / 255) ** 2 * (1 - 0.30 * wet * rough * (1 - metal))
    f0, base = 0.04 + (clay - 0.04) * metal, clay * (1 - metal)
    lamp = LAMP / np.linalg.norm(LAMP)
    half = lamp + np.array([0.0, 0.0, 1.0])
    half /= np.linalg.norm(half)
    facing, nv = n @ lamp, np.clip(z, 0.02, 1)
    nl, nh = np.clip(facing, 0, 1), np.clip(n @ half, 0, 1)
    wrap = deep * WRAP
    graze = (1 - half[2]) ** 5
    fresnel = f0 + (1 - f0) * graze
    a = rough * rough
    facets = a * a / (np.pi * (nh * nh * (a * a - 1) + 1) ** 2)
    k = (rough + 1) ** 2 / 8
    hidden = 1 / ((nv * (1 - k) + k) * (np.maximum(nl, 0.001) * (1 - k) + k))
    lit = SUN * base * (1 - fresnel) / np.pi * 1.6 * np.clip((facing[..., None] + wrap) / (1 + wrap), 0, 1)
    lit += base * _sky(n[..., 1], 1.0) * 0.52
    shine = SUN * (nl * facets * hidden * 0.25)[..., None] * fresnel
    up = 2 * nv * n[..., 1]
    c = rough * np.array([-1.0, -0.0275, -0.572, 0.022]) + np.array([1.0, 0.0425, 1.04, -0.04])
    b = np.minimum(c[0] ** 2, np.exp2(-9.28 * nv)) * c[0] + c[1]
    fit = np.stack([-1.04 * b + c[2], 1.04 * b + c[3]], axis=-1)
    shine = shine + _sky(up, rough) * (f0 * fit[..., :1] + fit[..., 1:])
    coat = (wet * (0.04 + 0.96 * (1 - nv) ** 5))[..., None]
    tight = 0.018**2
    glint = np.minimum(tight / (np.pi * (nh * nh * (tight - 1) + 1) ** 2), 60.0)
    lit, shine = lit * (1 - coat), shine * (1 - coat) + _sky(up, 0.05) * coat
    shine += SUN * (nl * wet * (0.04 + 0.96 * graze) * glint * 0.25)[..., None]
    hides = 1 - (1 - opacity / 255) ** (1 / (0.2 + 0.8 * nv))
    covers = 1 - (1 - hides) * (1 - np.clip(shine.max(axis=-1), 0, 1))
    lit = (lit * hides[..., None] + shine) / np.maximum(covers, 1e-3)[..., None]
    lit = lit * (1 + 0.10 * lit) / (1 + 0.62 * lit) * 1.18
    out = np.empty((size, size, 4), np.uint8)
    out[..., :3] = np.rint(255 * np.sqrt(np.clip(lit, 0, 1)))
    out[..., 3] = np.rint(255 * covers * np.clip((1 - radius) * size / 2 + 0.5, 0, 1))
    out.flags.writeable = False
    return out
