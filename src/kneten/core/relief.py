"""Differences from a surface, kept in frames that go along with it: turned clay turns its details.

A vertex's frame is made of the first of its faces: along that face's next edge, square to it within the face, and
out of the face. It is read off the smooth surface that subdividing the level below gives, so that it is as steady as
that surface, and it costs three places to read where a mean over all faces would cost sixteen. Displacements in
local frames of a coarser surface: Forsey and Bartels 1988; Zorin, Schröder, Sweldens 1997.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, I32, U32, in_parts, inlined, kernel
from kneten.core.topology import NO_CORNER, Topology


@inlined
def _frame(
    surface: F32, faces: U32, start: U32, ring: U32, v: int
) -> tuple[float, float, float, float, float, float, float, float, float]:
    """Along, aside and out, as nine numbers; the axes of space where there is no face or none with an area."""
    ax = 1.0
    ay = 0.0
    az = 0.0
    nx = 0.0
    ny = 0.0
    nz = 1.0
    if start[v, 1] > start[v, 0]:
        f = ring[start[v, 0]]
        last = 3 if faces[f, 3] != NO_CORNER else 2
        own = 0
        while faces[f, own] != v:
            own += 1
        after = faces[f, own + 1 if own < last else 0]
        before = faces[f, own - 1 if own > 0 else last]
        ux = np.float64(surface[after, 0]) - surface[v, 0]
        uy = np.float64(surface[after, 1]) - surface[v, 1]
        uz = np.float64(surface[after, 2]) - surface[v, 2]
        wx = np.float64(surface[before, 0]) - surface[v, 0]
        wy = np.float64(surface[before, 1]) - surface[v, 1]
        wz = np.float64(surface[before, 2]) - surface[v, 2]
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        area = np.sqrt(x * x + y * y + z * z)
        along = np.sqrt(ux * ux + uy * uy + uz * uz)
        if area > 1e-30 and along > 1e-30:
            nx = x / area
            ny = y / area
            nz = z / area
            ax = ux / along
            ay = uy / along
            az = uz / along
    return (
        ax,
        ay,
        az,
        ny * az - nz * ay,
        nz * ax - nx * az,
        nx * ay - ny * ax,
        nx,
        ny,
        nz,
    )


@kernel
def _add(
    surface: F32,
    faces: U32,
    start: U32,
    ring: U32,
    rows: I32,
    values: F32,
    scale: float,
    framed: bool,
    first: int,
    last: int,
    out: F32,
) -> None:
    """Add `values` (k, 3) times `scale` in the frames of `surface` to rows of `out`."""
    every = rows.shape[0] == 0
    for i in range(first, last):
        v = i if every else rows[i]
        p = values[i, 0] * scale
        q = values[i, 1] * scale
        r = values[i, 2] * scale
        if p == 0.0 and q == 0.0 and r == 0.0:
            continue
        if framed:
            ax, ay, az, bx, by, bz, nx, ny, nz = _frame(surface, faces, start, ring, v)
            out[v, 0] += p * ax + q * bx + r * nx
            out[v, 1] += p * ay + q * by + r * ny
            out[v, 2] += p * az + q * bz + r * nz
        else:
            out[v, 0] += p
            out[v, 1] += q
            out[v, 2] += r


@kernel
def _told(
    surface: F32,
    faces: U32,
    start: U32,
    ring: U32,
    rows: I32,
    moves: F32,
    framed: bool,
    first: int,
    last: int,
    out: F32,
) -> None:
    """Moves (k, 3) of vertices `rows`, in the frames of `surface`."""
    for i in range(first, last):
        x = moves[i, 0]
        y = moves[i, 1]
        z = moves[i, 2]
        if framed:
            ax, ay, az, bx, by, bz, nx, ny, nz = _frame(surface, faces, start, ring, rows[i])
            out[i, 0] = x * ax + y * ay + z * az
            out[i, 1] = x * bx + y * by + z * bz
            out[i, 2] = x * nx + y * ny + z * nz
        else:
            out[i, 0] = x
            out[i, 1] = y
            out[i, 2] = z


EVERY = np.empty(0, np.int32)
"""Rows of what has a value for every vertex."""


@dataclass(frozen=True)
class Ground:
    """What differences are told from: a surface and its frames; or, on the lowest level, space itself."""

    topology: Topology
    surface: F32
    framed: bool

    def told(self, rows: I32, moves: F32) -> F32:
        """Moves (k, 3) of vertices (k,) in their frames."""
        out = np.empty((len(rows), 3), np.float32)
        if len(rows):
            moves = np.ascontiguousarray(moves, np.float32)
            walk, surface, framed = self.topology.walk, self.surface, self.framed
            in_parts(
                len(rows), lambda first, last: _told(surface, *walk, rows, moves, framed, first, last, out)
            )
        return out

    def add(self, relief: Relief, scale: float, out: F32) -> None:
        """Move the vertices of `out` (n, 3) by a relief times a strength."""
        if scale and len(relief.values):
            walk, rows, values = self.topology.walk, relief.rows, relief.values

            def some(first: int, last: int) -> None:
                _add(self.surface, *walk, rows, values, scale, self.framed, first, last, out)

            in_parts(len(values), some)


@dataclass(frozen=True)
class Relief:
    """Differences of some vertices of a level.

    Attributes
    ----------
    rows : (k,) int32
        The vertices, ascending; empty when `values` has one for every vertex.
    values : (k, 3) float32
        In the frames of a `Ground`.
    """

    rows: I32
    values: F32

    @classmethod
    def none(cls) -> Relief:
        """No difference anywhere."""
        return cls(EVERY, np.empty((0, 3), np.float32))

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.rows.nbytes + self.values.nbytes)

    def __bool__(self) -> bool:
        """Whether there is any difference."""
        return len(self.values) > 0

    def dense(self, n: int) -> F32:
        """One move for each of `n` vertices, (n, 3)."""
        if len(self.values) == n and len(self.rows) != n:
            return self.values
        out = np.zeros((n, 3), np.float32)
        out[self.rows] = self.values
        return out

    def at(self, rows: I32) -> F32:
        """The values of some vertices (k,), zero where there are none."""
        if not self:
            return np.zeros((len(rows), 3), np.float32)
        if not len(self.rows):
            return self.values[rows]
        place = np.minimum(np.searchsorted(self.rows, rows), len(self.rows) - 1)
        return np.where((self.rows[place] == rows)[:, None], self.values[place], np.float32(0))

    def plus(self, other: Relief, scale: float, n: int) -> Relief:
        """The sum with another times a factor; (n,) vertices there are."""
        if not other:
            return self
        if not self and scale == 1.0:
            return other
        if (len(self.rows) or not self) and len(other.rows) and len(self.rows) + len(other.rows) < n // 4:
            rows = np.union1d(self.rows, other.rows).astype(np.int32)
            values = self.at(rows) + other.at(rows) * np.float32(scale)
            return packed_rows(rows, values, n)
        out = self.dense(n)
        out = out.copy() if out is self.values else out
        if len(other.rows):
            out[other.rows] += other.values * np.float32(scale)
        else:
            out += other.values * np.float32(scale)
        return packed(out)

    def times(self, factors: F32 | float) -> Relief:
        """Each value times a factor: one for all, or (n,) one for each vertex of the level."""
        if isinstance(factors, np.ndarray):
            held = factors if not len(self.rows) else factors[self.rows]
            return packed_rows(self.rows, self.values * held[:, None].astype(np.float32), len(factors))
        return Relief(self.rows, self.values * np.float32(factors))


def packed(values: F32) -> Relief:
    """A relief from moves of all vertices (n, 3); where most are zero, only the others are kept."""
    rows = np.flatnonzero(values.any(axis=1)).astype(np.int32)
    if 4 * len(rows) > 3 * len(values):
        return Relief(EVERY, np.ascontiguousarray(values, np.float32))
    return Relief(rows, np.ascontiguousarray(values[rows], np.float32))


def packed_rows(rows: I32, values: F32, n: int) -> Relief:
    """The same from some rows (k,), or all of `n`, and their moves (k, 3)."""
    if not len(rows):
        return packed(values)
    kept = values.any(axis=1)
    return Relief(np.ascontiguousarray(rows[kept]), np.ascontiguousarray(values[kept]))
