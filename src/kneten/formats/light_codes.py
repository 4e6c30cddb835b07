"""Colours as files have them: linear light, or codes of sRGB (IEC 61966-2-1)."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, U8


def to_srgb(linear: F64) -> U8:
    """Linear light 0..1, (n, 3), as sRGB bytes (IEC 61966-2-1)."""
    x = np.clip(linear, 0, 1)
    curve = np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)
    return np.rint(curve * 255).astype(np.uint8)


def to_linear(srgb: U8) -> F64:
    """SRGB bytes, (n, 3), as linear light 0..1."""
    x = srgb / 255.0
    return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)
