"""Pictures that stand in space: their own two lengths and depth, and places of the scene."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64

ORDER = {"front": (0, 1, 2), "side": (2, 1, 0), "top": (0, 2, 1)}
"""For each way a plane stands, the axes of the scene its u, its v and its depth run along."""


def to_scene(way: str, flat: F64, depth: float) -> F64:
    """Places (k, 2) of a plane in the scene, (k, 3)."""
    out = np.empty((len(flat), 3))
    u, v, d = ORDER[way]
    out[:, u], out[:, v], out[:, d] = flat[:, 0], flat[:, 1], depth
    return out


def to_plane(way: str, points: F64) -> F64:
    """Places (k, 3) of the scene, seen square onto a plane, (k, 2)."""
    u, v, _ = ORDER[way]
    return np.stack([points[:, u], points[:, v]], -1)


def hit(way: str, depth: float, origin: F64, ray: F64) -> F64 | None:
    """Where a ray meets a plane, (2,) of its own; None behind the eye, or along it."""
    axis = ORDER[way][2]
    if abs(float(ray[axis])) < 1e-9:
        return None
    far = (depth - float(origin[axis])) / float(ray[axis])
    return None if far <= 0 else np.asarray(to_plane(way, (origin + far * ray)[None])[0])


def turned(flat: F64, degrees: float) -> F64:
    """Places (k, 2) turned about the origin."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.asarray(flat @ np.array([[c, s], [-s, c]]))


@dataclass(frozen=True)
class Similar:
    """A turn, a change of size and a move of a plane: (u, v) goes to `grow` x turned(u, v) + `shift`."""

    degrees: float
    grow: float
    shift: F64

    def moved(self, flat: F64) -> F64:
        """Places (k, 2) after it."""
        return self.grow * turned(flat, self.degrees) + self.shift


def between(start: tuple[F64, F64], goal: tuple[F64, F64]) -> Similar:
    """What brings two places (2,) onto two others.

    Raises
    ------
    ValueError
        When two of them are the same.
    """
    a, b = start[1] - start[0], goal[1] - goal[0]
    if np.hypot(*a) < 1e-9 or np.hypot(*b) < 1e-9:
        raise ValueError("the two places must lie apart")
    degrees = float(np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)))
    grow = float(np.hypot(*b) / np.hypot(*a))
    return Similar(degrees, grow, goal[0] - grow * turned(start[0][None], degrees)[0])
