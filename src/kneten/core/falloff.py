"""How a brush's force falls from its middle to its rim, and other drawn curves."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from scipy.interpolate import PchipInterpolator

from kneten.core.arrays import F32

SAMPLES = 257
"""Table length; linear look-up between 257 samples is within 1e-4 of the curve."""

Points = tuple[tuple[float, float], ...]

PRESETS: dict[str, Points] = {
    "soft": ((0.0, 1.0), (0.25, 0.845), (0.5, 0.5), (0.75, 0.155), (1.0, 0.0)),
    "dome": ((0.0, 1.0), (0.4, 0.92), (0.7, 0.7), (0.9, 0.38), (1.0, 0.0)),
    "flat": ((0.0, 1.0), (0.65, 1.0), (0.82, 0.72), (0.93, 0.2), (1.0, 0.0)),
    "sharp": ((0.0, 1.0), (0.1, 0.58), (0.25, 0.23), (0.5, 0.05), (1.0, 0.0)),
    "linear": ((0.0, 1.0), (0.5, 0.5), (1.0, 0.0)),
}

PRESSURE_LINEAR: Points = ((0.0, 0.0), (1.0, 1.0))


def clean_points(points: Sequence[Sequence[float]]) -> Points:
    """Sort, clamp to the unit square and thin points so that a curve can pass through them.

    Raises
    ------
    ValueError
        With fewer than two distinct places along the curve.
    """
    kept: list[tuple[float, float]] = []
    for x, y in sorted((float(p[0]), float(p[1])) for p in points):
        x, y = min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0)
        if not kept or x - kept[-1][0] > 1e-3:
            kept.append((x, y))
    if len(kept) < 2:
        raise ValueError("a curve needs at least two points at different places")
    return tuple(kept)


@lru_cache(maxsize=64)
def curve_table(points: Points) -> F32:
    """Sample a smooth curve without overshoot through the points, (257,) float32 over 0..1."""
    cleaned = clean_points(points)
    x = np.array([p[0] for p in cleaned])
    y = np.array([p[1] for p in cleaned])
    at = np.clip(np.linspace(0.0, 1.0, SAMPLES), x[0], x[-1])
    values = y[0] + (y[1] - y[0]) * (at - x[0]) / (x[1] - x[0])
    if len(x) > 2:
        values = PchipInterpolator(x, y)(at)
    table: F32 = np.clip(values, 0.0, 1.0).astype(np.float32)
    table.flags.writeable = False
    return table


def curve_at(points: Points, t: float) -> float:
    """The curve's value at `t` in 0..1."""
    # Asked for several times in one event of a stroke: the table's steps are even, nothing is searched for.
    table = curve_table(points)
    at = min(max(t, 0.0), 1.0) * (SAMPLES - 1)
    k = min(int(at), SAMPLES - 2)
    low, high = float(table[k]), float(table[k + 1])
    return low + (high - low) * (at - k)
