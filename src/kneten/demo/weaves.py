"""Pictures of cloth, made by code, that go on at their edges."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image
from scipy.ndimage import gaussian_filter

from kneten.core.arrays import F64, U8

SIDE, THREADS = 256, 64
"""Pixels along a side, and threads over them."""


def checked_cloth(seed: int = 5) -> U8:
    """A coarse check of undyed and blue yarn, washed out, (256, 256, 4) sRGB."""
    rng = np.random.default_rng(seed)
    pace = SIDE // THREADS
    across, down = (np.repeat(_stripe(rng), pace, axis=0) for _ in range(2))
    i, j = np.mgrid[:SIDE, :SIDE]
    # One over, one under, the other way in the next row.
    over = ((i // pace + j // pace) % 2).astype(bool)[..., None]
    cloth = np.where(over, across[None, :, :], down[:, None, :])
    # Threads are round: dark where they dip under the next.
    round_one = np.where(over[..., 0], (j % pace + 0.5) / pace - 0.5, (i % pace + 0.5) / pace - 0.5)
    cloth *= (1.0 - 1.1 * round_one**2)[..., None]
    uneven = gaussian_filter(rng.normal(0, 1, (SIDE, SIDE)), 10, mode="wrap")
    cloth *= 1 + 0.06 * (uneven / uneven.std())[..., None]
    codes = np.full((SIDE, SIDE, 4), 255, np.uint8)
    codes[..., :3] = np.clip(np.rint(255 * cloth), 0, 255)
    return codes


def _stripe(rng: np.random.Generator) -> F64:
    """The colours of the threads of one direction, (64, 3): broad bands, a thin red line, no two threads alike."""
    plain, blue, red = (
        np.array([0.66, 0.61, 0.50]),
        np.array([0.27, 0.34, 0.42]),
        np.array([0.50, 0.24, 0.19]),
    )
    found = np.tile(plain, (THREADS, 1))
    found[8:28] = blue
    found[32:34] = red
    found[44:48] = blue
    return np.asarray(found * rng.normal(1.0, 0.05, (THREADS, 1)))


def as_png(pixels: U8) -> bytes:
    """A picture (h, w, 4) as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG", optimize=True)
    return out.getvalue()
