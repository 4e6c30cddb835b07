"""Units and up axis: how a file measures space."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64

UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4}
"""Millimetres in each unit."""


@dataclass(frozen=True)
class Space:
    """How a file measures space.

    Attributes
    ----------
    unit : str
        mm, cm, m or in.
    up : str
        "y" or "z".
    """

    unit: str = "mm"
    up: str = "y"

    def into(self, points: F32) -> F32:
        """A file's positions (n, 3) in Kneten's millimetres with y up; exact when nothing differs."""
        factor = UNITS[self.unit]
        out: F64 = points.astype(np.float64) * factor
        if self.up == "z":
            out = np.stack([out[:, 0], out[:, 2], -out[:, 1]], axis=1)
        with np.errstate(over="ignore"):
            return out.astype(np.float32)

    def out_of(self, points: F64) -> F32:
        """Kneten's positions (n, 3) in a file's space."""
        return self.swapped(points / UNITS[self.unit]).astype(np.float32)

    def unswapped(self, ways: F64) -> F64:
        """Directions (n, 3) of a file's space in Kneten's, as long as they are."""
        if self.up == "z":
            ways = np.stack([ways[:, 0], ways[:, 2], -ways[:, 1]], axis=1)
        return np.asarray(ways, np.float64)

    def swapped(self, ways: F64) -> F64:
        """Directions (n, 3) of Kneten's in a file's space, as long as they are."""
        if self.up == "z":
            ways = np.stack([ways[:, 0], -ways[:, 2], ways[:, 1]], axis=1)
        return np.asarray(ways, np.float64)
