"""Deformers: whole bodies bent, twisted, tapered, stretched, sheared, swollen, flattened, roughened.

All are functions of a place within a box around what is deformed: `t` runs along the chosen axis from 0 at the box's
low end to 1 at its high end, the middle of the box stays where it is.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, U32, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import NO_CORNER

KINDS: dict[str, tuple[str, str, str, float, float]] = {
    "bend": ("Bend", "Bends it along the axis, its length kept", "°", -360.0, 360.0),
    "twist": ("Twist", "Turns one end against the other", "°", -720.0, 720.0),
    "taper": ("Taper", "Makes one end wider, the other narrower", "%", -95.0, 200.0),
    "stretch": ("Stretch", "Draws it out or presses it together, its volume kept", "%", -80.0, 300.0),
    "shear": ("Shear", "Leans it over", "%", -200.0, 200.0),
    "inflate": ("Inflate", "Moves every point along its normal", "mm", -50.0, 50.0),
    "flatten": ("Flatten", "Presses it towards its middle plane across the axis", "%", -100.0, 100.0),
    "noise": ("Noise", "Roughens it by lumps of a size", "mm", -50.0, 50.0),
    "relax": ("Relax", "Evens the surface out", "rounds", 0.0, 60.0),
}
"""Name, what it does, unit of the amount, least and greatest amount."""

ORDER = {key: number for number, key in enumerate(KINDS)}


@kernel
def _corner(x: int, y: int, z: int) -> float:
    """A number -1..1 for each corner of a lattice, the same on every machine."""
    h = (x * 374761393 + y * 668265263 + z * 2147483647 + 1013904223) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 1274126177) & 0xFFFFFFFF
    h = (h ^ (h >> 16)) & 0xFFFFFF
    return h / 8388607.5 - 1.0


@kernel
def _lumps(x: float, y: float, z: float) -> float:
    """Smooth noise of three octaves."""
    total = 0.0
    high = 1.0
    for octave in range(3):
        i = int(np.floor(x))
        j = int(np.floor(y))
        k = int(np.floor(z))
        u = x - i
        v = y - j
        w = z - k
        u = u * u * (3.0 - 2.0 * u)
        v = v * v * (3.0 - 2.0 * v)
        w = w * w * (3.0 - 2.0 * w)
        part = 0.0
        for c in range(8):
            a = c & 1
            b = (c >> 1) & 1
            d = (c >> 2) & 1
            share = (u if a else 1.0 - u) * (v if b else 1.0 - v) * (w if d else 1.0 - w)
            part += share * _corner(i + a + octave * 57, j + b, k + d)
        total += part * high
        high *= 0.5
        x *= 2.0
        y *= 2.0
        z *= 2.0
    return total


@kernel
def _deform(
    points: F64,
    normals: F64,
    free: F32,
    kind: int,
    axis: int,
    amount: float,
    size: float,
    low: F64,
    high: F64,
    out: F64,
) -> None:
    one = (axis + 1) % 3
    two = (axis + 2) % 3
    length = max(high[axis] - low[axis], 1e-12)
    middle = (low + high) * 0.5
    p = np.empty(3)
    for i in range(points.shape[0]):
        for a in range(3):
            p[a] = points[i, a] - middle[a]
        s = p[axis]
        if kind == 0:
            angle = amount * np.pi / 180.0
            if abs(angle) > 1e-9:
                radius = length / angle
                turn = s / radius
                far = radius - p[one]
                p[axis] = far * np.sin(turn)
                p[one] = radius - far * np.cos(turn)
        elif kind == 1:
            angle = amount * np.pi / 180.0 * s / length
            c = np.cos(angle)
            d = np.sin(angle)
            x = p[one]
            y = p[two]
            p[one] = c * x - d * y
            p[two] = d * x + c * y
        elif kind == 2:
            grow = max(1.0 + amount / 100.0 * (s / length + 0.5), 0.02)
            p[one] *= grow
            p[two] *= grow
        elif kind == 3:
            factor = 1.0 + amount / 100.0
            thin = 1.0 / np.sqrt(factor)
            p[axis] = s * factor
            p[one] *= thin
            p[two] *= thin
        elif kind == 4:
            p[one] += s * amount / 100.0
        elif kind == 5:
            for a in range(3):
                p[a] += normals[i, a] * amount
        elif kind == 6:
            p[axis] = s * (1.0 - amount / 100.0)
        elif kind == 7:
            lift = amount * _lumps(points[i, 0] / size, points[i, 1] / size, points[i, 2] / size)
            for a in range(3):
                p[a] += normals[i, a] * lift
        share = np.float64(free[i])
        for a in range(3):
            out[i, a] = points[i, a] + share * (p[a] + middle[a] - points[i, a])


def deformed(
    points: F64,
    normals: F64,
    free: F32,
    kind: str,
    axis: int,
    amount: float,
    size: float,
    low: F64,
    high: F64,
) -> F64:
    """Where a deformer brings points.

    Parameters
    ----------
    points, normals : (n, 3) float64
        In one space for all that is deformed together.
    free : (n,) float32
        1 where the clay may move fully, 0 where it stays.
    kind : str
        A key of `KINDS` other than "relax".
    amount : float
        In the kind's unit.
    size : float
        Of the lumps of noise.
    low, high : (3,) float64
        The box.
    """
    out = np.empty_like(points)
    _deform(points, normals, free, ORDER[kind], axis, amount, max(size, 1e-6), low, high, out)
    return out


@kernel
def _relax(positions: F64, faces: U32, start: U32, ring: U32, free: F32, out: F64) -> None:
    for v in range(positions.shape[0]):
        sx = 0.0
        sy = 0.0
        sz = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            size = 3 if faces[f, 3] == NO_CORNER else 4
            for c in range(size):
                u = faces[f, c]
                if u != v:
                    sx += positions[u, 0]
                    sy += positions[u, 1]
                    sz += positions[u, 2]
                    count += 1
        share = 0.6 * free[v] if count > 0 else 0.0
        count = max(count, 1)
        out[v, 0] = positions[v, 0] + share * (sx / count - positions[v, 0])
        out[v, 1] = positions[v, 1] + share * (sy / count - positions[v, 1])
        out[v, 2] = positions[v, 2] + share * (sz / count - positions[v, 2])


def relaxed(mesh: Mesh, free: F32, rounds: int) -> F64:
    """The surface evened out, a ring of vertices further with each round."""
    positions = mesh.positions.astype(np.float64)
    other = np.empty_like(positions)
    for _ in range(rounds):
        _relax(positions, *mesh.topology.walk, free, other)
        positions, other = other, positions
    return positions
