"""Deformers: whole bodies bent, twisted, tapered, stretched, sheared, swollen, flattened, roughened.

All are functions of a place within a box around what is deformed: `t` runs along the chosen axis from 0 at the box's
low end to 1 at its high end, the middle of the box stays where it is.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, U32, inlined, kernel
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
    "project": ("Project", "Lays it onto the surface of another part", "%", -100.0, 100.0),
    "lattice": ("Lattice", "Twenty-seven points around it, to be dragged in the view", "", 0.0, 0.0),
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


@inlined
def _within(p: float, half: float, soft: float) -> float:
    """How far along a range from -half to half a place is; it runs out smoothly over the `soft` share of each half.

    Within the border the slope falls by a smooth step (1 - u² (3 - 2 u), whose integral is u - u³ + u⁴ / 2); the rest of
    it is steeper, so that the ends are reached all the same.
    """
    border = soft * half
    q = min(abs(p), half)
    if border > 0.0 and q > half - border:
        u = (q - (half - border)) / border
        q = half - border + border * (u - u * u * u + 0.5 * u * u * u * u)
    q *= half / (half - 0.5 * border)
    return q if p >= 0.0 else -q


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
    start: float,
    end: float,
    soft: float,
    out: F64,
) -> None:
    one = (axis + 1) % 3
    two = (axis + 2) % 3
    whole = max(high[axis] - low[axis], 1e-12)
    middle = (low + high) * 0.5
    middle[axis] = low[axis] + whole * 0.5 * (start + end)
    length = max(whole * (end - start), 1e-12)
    part = start > 0.0 or end < 1.0
    p = np.empty(3)
    for i in range(points.shape[0]):
        for a in range(3):
            p[a] = points[i, a] - middle[a]
        # Within the range it is deformed, what lies beyond goes along as it is.
        s = _within(p[axis], 0.5 * length, soft if part else 0.0)
        beyond = p[axis] - s
        inside = 1.0
        if part:
            inside = min(max((0.5 * length - abs(p[axis])) / max(0.5 * soft * length, 1e-12), 0.0), 1.0)
            inside = inside * inside * (3.0 - 2.0 * inside)
        if kind == 0:
            angle = amount * np.pi / 180.0
            if abs(angle) > 1e-9:
                radius = length / angle
                turn = s / radius
                far = radius - p[one]
                p[axis] = far * np.sin(turn) + beyond * np.cos(turn)
                p[one] = radius - far * np.cos(turn) + beyond * np.sin(turn)
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
            thin = 1.0 + inside * (1.0 / np.sqrt(factor) - 1.0)
            p[axis] = s * factor + beyond
            p[one] *= thin
            p[two] *= thin
        elif kind == 4:
            p[one] += s * amount / 100.0
        elif kind == 5:
            for a in range(3):
                p[a] += normals[i, a] * amount * inside
        elif kind == 6:
            p[axis] = s * (1.0 - amount / 100.0) + beyond
        elif kind == 7:
            lift = inside * amount * _lumps(points[i, 0] / size, points[i, 1] / size, points[i, 2] / size)
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
    start: float = 0.0,
    end: float = 1.0,
    soft: float = 0.5,
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
    start, end : float
        Shares of the box along the axis between which it is deformed; what lies beyond goes along stiffly.
    soft : float
        Share of each half of the range, 0..1, over which the deformer sets in: 0 leaves an edge at its ends.
    """
    out = np.empty_like(points)
    number, size = ORDER[kind], max(size, 1e-6)
    _deform(points, normals, free, number, axis, amount, size, low, high, start, end, soft, out)
    return out


LATTICE = 3
"""Points of a lattice along each axis."""


def lattice_points(low: F64, high: F64) -> F64:
    """The points of a lattice in a box at rest, (27, 3); the first axis is the slowest."""
    at = np.linspace(0.0, 1.0, LATTICE)
    shares = np.stack(np.meshgrid(at, at, at, indexing="ij"), axis=-1).reshape(-1, 3)
    return low + shares * (high - low)


@kernel
def _lattice(points: F64, free: F32, low: F64, high: F64, offsets: F64, out: F64) -> None:
    b = np.empty((3, 3))
    for i in range(points.shape[0]):
        for a in range(3):
            t = (points[i, a] - low[a]) / max(high[a] - low[a], 1e-12)
            b[a, 0] = (1.0 - t) * (1.0 - t)
            b[a, 1] = 2.0 * t * (1.0 - t)
            b[a, 2] = t * t
        for a in range(3):
            move = 0.0
            for k in range(27):
                move += b[0, k // 9] * b[1, (k // 3) % 3] * b[2, k % 3] * offsets[k, a]
            out[i, a] = points[i, a] + free[i] * move


def latticed(points: F64, free: F32, low: F64, high: F64, offsets: F64) -> F64:
    """Where a lattice brings points whose own points have been moved by `offsets` (27, 3).

    Free-form deformation with Bernstein polynomials (Sederberg and Parry 1986).
    """
    out = np.empty_like(points)
    _lattice(points, free, low, high, offsets, out)
    return out


def projected(points: F64, free: F32, nearest: F64, amount: float) -> F64:
    """Points laid onto the places nearest to them by a share (100 fully; below 0 away from them)."""
    return np.asarray(points + (nearest - points) * (amount / 100.0) * free[:, None])


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
    """Vertices (n, 3) of the surface evened out where `free` (n,) is 1, a ring of vertices further with each round."""
    positions = mesh.positions.astype(np.float64)
    other = np.empty_like(positions)
    for _ in range(rounds):
        _relax(positions, *mesh.topology.walk, free, other)
        positions, other = other, positions
    return positions
