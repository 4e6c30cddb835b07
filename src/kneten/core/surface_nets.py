"""The surface of a well-composed grid: one vertex to each cell it passes, a quad around each crossed edge.

Surface nets (Gibson 1998). On a well-composed grid (`voxels.open_corners`) the result is two-manifold.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32, U8, kernel


@kernel
def number_cells(flags: U8, cell_of: I32) -> int:
    """Number the cells that hold a piece of surface; how many there are."""
    n = 0
    for i in range(flags.shape[0] - 1):
        for j in range(flags.shape[1] - 1):
            for k in range(flags.shape[2] - 1):
                total = 0
                for corner in range(8):
                    total += flags[i + (corner & 1), j + ((corner >> 1) & 1), k + (corner >> 2)]
                if 0 < total < 8:
                    cell_of[i, j, k] = n
                    n += 1
    return n


@kernel
def _quads(flags: U8, cell_of: I32, quads: I32, centres: F64, twins: I32, axes: U8) -> int:
    """One quad around each grid edge that the surface crosses; cell middles; mirrored cells."""
    n = 0
    ni, nj, nk = flags.shape
    for i in range(ni - 1):
        for j in range(nj - 1):
            for k in range(nk - 1):
                here = cell_of[i, j, k]
                if here >= 0:
                    centres[here, 0] = i + 0.5
                    centres[here, 1] = j + 0.5
                    centres[here, 2] = k + 0.5
                    for a in range(3):
                        if axes[a]:
                            x = ni - 2 - i if a == 0 else i
                            y = nj - 2 - j if a == 1 else j
                            z = nk - 2 - k if a == 2 else k
                            twins[a, here] = cell_of[x, y, z]
                inside = flags[i, j, k]
                if flags[i + 1, j, k] != inside:
                    a0 = cell_of[i, j - 1, k - 1]
                    a1 = cell_of[i, j, k - 1]
                    a2 = cell_of[i, j, k]
                    a3 = cell_of[i, j - 1, k]
                    _put(quads, n, a0, a1, a2, a3, inside)
                    n += 1
                if flags[i, j + 1, k] != inside:
                    a0 = cell_of[i - 1, j, k - 1]
                    a1 = cell_of[i - 1, j, k]
                    a2 = cell_of[i, j, k]
                    a3 = cell_of[i, j, k - 1]
                    _put(quads, n, a0, a1, a2, a3, inside)
                    n += 1
                if flags[i, j, k + 1] != inside:
                    a0 = cell_of[i - 1, j - 1, k]
                    a1 = cell_of[i, j - 1, k]
                    a2 = cell_of[i, j, k]
                    a3 = cell_of[i - 1, j, k]
                    _put(quads, n, a0, a1, a2, a3, inside)
                    n += 1
    return n


@kernel
def _put(quads: I32, n: int, a: int, b: int, c: int, d: int, inside: int) -> None:
    quads[n, 0] = a
    quads[n, 2] = c
    if inside:
        quads[n, 1] = b
        quads[n, 3] = d
    else:
        quads[n, 1] = d
        quads[n, 3] = b


@kernel
def _count_crossings(flags: U8) -> int:
    n = 0
    for i in range(flags.shape[0] - 1):
        for j in range(flags.shape[1] - 1):
            for k in range(flags.shape[2] - 1):
                here = flags[i, j, k]
                n += here != flags[i + 1, j, k]
                n += here != flags[i, j + 1, k]
                n += here != flags[i, j, k + 1]
    return n


def follow_cells(flags: U8, cell_of: I32, n: int, mirror: tuple[bool, bool, bool]) -> tuple[F64, I32, I32]:
    """Vertices and quads of numbered cells.

    Returns
    -------
    centres : (n, 3) float64
        The cells' middles, in grid steps.
    quads : (f, 4) int32
    twins : (3, n) int32
        The vertex across the grid's middle along each mirrored axis, -1 along the others.
    """
    quads = np.empty((_count_crossings(flags), 4), np.int32)
    centres = np.empty((n, 3))
    twins = np.full((3, n), -1, np.int32)
    _quads(flags, cell_of, quads, centres, twins, np.array(mirror, np.uint8))
    return centres, quads, twins


def follow_grid(flags: U8, mirror: tuple[bool, bool, bool]) -> tuple[F64, I32, I32] | None:
    """The same from the grid (x, y, z) alone; None when nothing is inside."""
    cell_of = np.full(flags.shape, -1, np.int32)
    n = number_cells(flags, cell_of)
    return follow_cells(flags, cell_of, n, mirror) if n else None


@kernel
def relaxed(points: F64, quads: I32) -> F64:
    """Each vertex moved half-way to the mean of its neighbours."""
    total = np.zeros(points.shape)
    count = np.zeros(points.shape[0], np.int32)
    for q in range(quads.shape[0]):
        for c in range(4):
            v = quads[q, c]
            for step in (1, 3):
                u = quads[q, (c + step) & 3]
                for a in range(3):
                    total[v, a] += points[u, a]
                count[v] += 1
    out = points.copy()
    for v in range(points.shape[0]):
        if count[v]:
            for a in range(3):
                out[v, a] = 0.5 * points[v, a] + 0.5 * total[v, a] / count[v]
    return out


def symmetrise(places: F64, twins: I32, mirror: tuple[bool, bool, bool]) -> None:
    """Give the vertices (n, 3) on the low side of each kept plane the mirrored place of their twin."""
    for axis in range(3):
        if mirror[axis]:
            own = np.arange(len(places))
            on_seam = twins[axis] == own
            places[on_seam, axis] = 0.0
            low_side = own[places[:, axis] < 0]
            mirrored = places[twins[axis][low_side]]
            mirrored[:, axis] *= -1
            places[low_side] = mirrored
