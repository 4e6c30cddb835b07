"""Where planes cut clay: layers as a printer lays them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.printing.forms import frame_of
from kneten.core.remesh import triangulate


@dataclass(frozen=True, eq=False)
class Section:
    """The outlines of clay in a plane.

    Attributes
    ----------
    loops : list of (k, 3) float64
        Closed; the clay is to the left, seen against the normal.
    flat : list of (k, 2) float64
        The same in the plane's own axes.
    axes : (2, 3) float64
        These.
    area : float
        Square millimetres.
    """

    loops: list[F64]
    flat: list[F64]
    axes: F64
    area: float


def section(mesh: Mesh, place: AnyArray, normal: AnyArray) -> Section:
    """What a plane through a place (3,), square to a normal (3,), cuts out of closed clay; loops that do not close are left out."""
    return _cut(mesh.positions, triangulate(mesh.topology.faces), place, normal)


class Layers:
    """Clay that is cut at many heights: triangles that do not reach a height are not looked at."""

    def __init__(self, mesh: Mesh) -> None:
        self._positions = mesh.positions
        self._triangles = triangulate(mesh.topology.faces)
        heights = mesh.positions[:, 1][self._triangles]
        self._low, self._high = heights.min(axis=1), heights.max(axis=1)

    def at(self, height: float) -> Section:
        """What lies at a height."""
        some = self._triangles[(self._low <= height) & (self._high >= height)]
        used, number = np.unique(some, return_inverse=True)
        triangles = number.reshape(-1, 3).astype(np.int32)
        return _cut(self._positions[used], triangles, np.array([0.0, height, 0.0]), np.array([0.0, 1.0, 0.0]))


def _cut(positions: F32, triangles: I32, place: AnyArray, normal: AnyArray) -> Section:
    side, up, front = frame_of(normal)
    # Seen against the normal, x to the right and y up make a frame of the right hand.
    axes = np.stack([side, -front]) if np.dot(np.cross(side, -front), up) > 0 else np.stack([side, front])
    deep = (positions.astype(np.float64) - np.asarray(place, np.float64)) @ up
    above = deep >= 0
    at = above[triangles]
    crossed = np.flatnonzero(at.any(axis=1) & ~at.all(axis=1))
    tri, at = triangles[crossed].astype(np.int64), at[crossed]
    if not len(tri):
        return Section([], [], axes, 0.0)
    # Of each triangle one corner is alone on its side.
    alone = np.where(at.sum(axis=1) == 1, at.argmax(axis=1), (~at).argmax(axis=1))
    rows = np.arange(len(tri))
    o, a, b = tri[rows, alone], tri[rows, (alone + 1) % 3], tri[rows, (alone + 2) % 3]
    lifted = above[o]
    n = len(positions)

    def key(one: AnyArray, other: AnyArray) -> AnyArray:
        return np.asarray(np.minimum(one, other) * n + np.maximum(one, other))

    begins = np.where(lifted, key(o, a), key(o, b))
    ends = np.where(lifted, key(o, b), key(o, a))
    names, number = np.unique(np.concatenate([begins, ends]), return_inverse=True)
    follows = np.full(len(names), -1, np.int64)
    follows[number[: len(begins)]] = number[len(begins) :]
    low, high = names // n, names % n
    share = deep[low] / np.where(deep[low] == deep[high], 1.0, deep[low] - deep[high])
    p = positions.astype(np.float64)
    points = p[low] + share[:, None] * (p[high] - p[low])
    loops = [points[one] for one in _walked(follows)]
    flat = [one @ axes.T for one in loops]
    return Section(loops, flat, axes, abs(sum(area_of(one) for one in flat)))


def _walked(follows: AnyArray) -> list[AnyArray]:
    """The circles of a list that says what follows each place."""
    after = follows.tolist()
    seen = [False] * len(after)
    found = []
    for start in range(len(after)):
        if seen[start]:
            continue
        way, at = [], start
        while at >= 0 and not seen[at]:
            seen[at] = True
            way.append(at)
            at = after[at]
        if at == start and len(way) > 2:
            found.append(np.array(way))
    return found


def area_of(flat: F64) -> float:
    """The area within a polygon (k, 2), above 0 where it goes round to the left."""
    x, y = flat[:, 0], flat[:, 1]
    return float(0.5 * (x * np.roll(y, -1) - np.roll(x, -1) * y).sum())


def layer_heights(points: AnyArray, thick: float) -> F64:
    """The heights (k,) of the middles of layers of a thickness, from the lowest of places (n, 3) upwards."""
    low, high = float(points[:, 1].min()), float(points[:, 1].max())
    count = max(int(np.ceil((high - low) / thick - 1e-6)), 1)
    return np.asarray(low + (np.arange(count) + 0.5) * thick, np.float64)
