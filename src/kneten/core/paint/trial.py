"""Colours to try paint tools on."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, U8

SKIN, BLUSH = np.array([196.0, 168.0, 138.0]), np.array([96.0, 118.0, 128.0])


def trial_colours(positions: F32) -> U8:
    """Two tones that meet in a wavering line across x = 0, (n, 4), for clay at (n, 3) about 30 mm in size."""
    x, y = positions[:, 0], positions[:, 1]
    share = (x + 2.0 * np.sin(y / 4.0) > 0).astype(np.float64)[:, None]
    out = np.full((len(positions), 4), 255, np.uint8)
    out[:, :3] = np.rint(SKIN + (BLUSH - SKIN) * share)
    return out
