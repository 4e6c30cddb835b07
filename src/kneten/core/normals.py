"""Vertex normals: area-weighted over the faces around each vertex, summed in double precision.

Double precision is for symmetry, not for accuracy: mirrored vertices list their faces in another
order, and float32 sums would differ in the last bit.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U32, inlined, kernel
from kneten.core.topology import NO_CORNER, Topology


@inlined
def _area(positions: F32, a: int, b: int, c: int, d: int) -> tuple[float, float, float]:
    """Area vector of a face (twice for a triangle's, as the crossed diagonals give it)."""
    i = a
    j = b
    k = a
    m = c
    if d >= 0:
        j = c
        k = b
        m = d
    ux = np.float64(positions[j, 0]) - positions[i, 0]
    uy = np.float64(positions[j, 1]) - positions[i, 1]
    uz = np.float64(positions[j, 2]) - positions[i, 2]
    wx = np.float64(positions[m, 0]) - positions[k, 0]
    wy = np.float64(positions[m, 1]) - positions[k, 1]
    wz = np.float64(positions[m, 2]) - positions[k, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@kernel
def _all_normals(positions: F32, faces: I32, start: I32, ring: I32, out: F32) -> None:
    for v in range(positions.shape[0]):
        x = 0.0
        y = 0.0
        z = 0.0
        for k in range(start[v], start[v + 1]):
            f = ring[k]
            ax, ay, az = _area(positions, faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3])
            x += ax
            y += ay
            z += az
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-30:
            scale = 1.0 / length
            out[v, 0] = x * scale
            out[v, 1] = y * scale
            out[v, 2] = z * scale


def compute_normals(positions: F32, topology: Topology) -> F32:
    """Unit normals of all vertices, (n, 3) float32."""
    out = np.zeros_like(positions)
    _all_normals(positions, topology.faces, topology.ring_start, topology.ring_faces, out)
    return out


@kernel
def refresh_ring(
    positions: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    touched: U32,
    first: int,
    last: int,
    listed: U32,
    n_listed: int,
    bounds: F32,
) -> int:
    """List every vertex of a face that holds a touched vertex.

    A vertex's stamp becomes `base` plus its place in `listed`, so that `refresh_normals` finds its row
    of sums without a table as long as the mesh. `bounds` (6,) receives the box around the vertices listed by this call. Returns the new
    length of `listed`, or -1 when it is too short.
    """
    begin = n_listed
    room = listed.shape[0]
    for i in range(first, last):
        t = touched[i]
        for k in range(start[t], start[t + 1]):
            f = ring[k]
            for c in range(4):
                u = faces[f, c]
                if u == NO_CORNER:
                    continue
                if stamp[u] < base:
                    if n_listed >= room:
                        return -1
                    stamp[u] = base + n_listed
                    listed[n_listed] = u
                    n_listed += 1
    x0 = y0 = z0 = np.float32(np.inf)
    x1 = y1 = z1 = np.float32(-np.inf)
    for i in range(begin, n_listed):
        u = listed[i]
        x = positions[u, 0]
        y = positions[u, 1]
        z = positions[u, 2]
        x0 = min(x0, x)
        y0 = min(y0, y)
        z0 = min(z0, z)
        x1 = max(x1, x)
        y1 = max(y1, y)
        z1 = max(z1, z)
    bounds[0] = x0
    bounds[1] = y0
    bounds[2] = z0
    bounds[3] = x1
    bounds[4] = y1
    bounds[5] = z1
    return n_listed


@kernel
def refresh_normals(
    positions: F32,
    normals: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    listed: U32,
    sums: F64,
) -> None:
    """Renew the normals of the listed vertices; each face around them is measured once.

    A face is measured when met from the first of its corners that is listed, and given to all of them. `sums` is room
    for (k, 3) float64.
    """
    sums[: listed.shape[0]] = 0.0
    for i in range(listed.shape[0]):
        u = listed[i]
        for k in range(start[u], start[u + 1]):
            f = ring[k]
            a = faces[f, 0]
            b = faces[f, 1]
            c = faces[f, 2]
            d = faces[f, 3]
            in_a = stamp[a] - base
            in_b = stamp[b] - base
            in_c = stamp[c] - base
            if u != a and (in_a >= 0 or (u != b and (in_b >= 0 or (u != c and in_c >= 0)))):
                continue
            i0 = a
            i1 = b
            i2 = a
            i3 = c
            if d != NO_CORNER:
                i1 = c
                i2 = b
                i3 = d
            ux = np.float64(positions[i1, 0]) - positions[i0, 0]
            uy = np.float64(positions[i1, 1]) - positions[i0, 1]
            uz = np.float64(positions[i1, 2]) - positions[i0, 2]
            wx = np.float64(positions[i3, 0]) - positions[i2, 0]
            wy = np.float64(positions[i3, 1]) - positions[i2, 1]
            wz = np.float64(positions[i3, 2]) - positions[i2, 2]
            x = uy * wz - uz * wy
            y = uz * wx - ux * wz
            z = ux * wy - uy * wx
            if in_a >= 0:
                sums[in_a, 0] += x
                sums[in_a, 1] += y
                sums[in_a, 2] += z
            if in_b >= 0:
                sums[in_b, 0] += x
                sums[in_b, 1] += y
                sums[in_b, 2] += z
            if in_c >= 0:
                sums[in_c, 0] += x
                sums[in_c, 1] += y
                sums[in_c, 2] += z
            if d != NO_CORNER:
                in_d = stamp[d] - base
                if in_d >= 0:
                    sums[in_d, 0] += x
                    sums[in_d, 1] += y
                    sums[in_d, 2] += z
    for i in range(listed.shape[0]):
        u = listed[i]
        x = sums[i, 0]
        y = sums[i, 1]
        z = sums[i, 2]
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-30:
            scale = 1.0 / length
            normals[u, 0] = x * scale
            normals[u, 1] = y * scale
            normals[u, 2] = z * scale
