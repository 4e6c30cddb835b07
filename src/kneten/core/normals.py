"""Vertex normals: area-weighted over the faces around each vertex, summed in double precision.

Double precision is for symmetry, not for accuracy: mirrored vertices list their faces in another
order, and float32 sums would differ in the last bit.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, PART, U8, U32, in_parts, inlined, kernel
from kneten.core.topology import NO_CORNER, Topology

NONE = np.empty(0, np.uint32)

LOPSIDED = np.float32(0.15)
"""Share of a quad's area that either half should have at least, or else it may be folded within itself."""

STEEP = np.float32(0.18)
"""Square of the cosine from which on a face counts as steep: 65 degrees."""


@inlined
def _area(positions: F32, a: int, b: int, c: int, d: int) -> tuple[float, float, float]:
    """Twice the area vector of a face with the last corner `d`, which is `NO_CORNER` for a triangle.

    A quad's comes from its diagonals, in single precision: turned or mirrored, it has the same
    diagonals. A triangle has other edges at each corner, and needs double precision to be symmetric.
    """
    x = 0.0
    y = 0.0
    z = 0.0
    if d != NO_CORNER:
        ux = positions[c, 0] - positions[a, 0]
        uy = positions[c, 1] - positions[a, 1]
        uz = positions[c, 2] - positions[a, 2]
        wx = positions[d, 0] - positions[b, 0]
        wy = positions[d, 1] - positions[b, 1]
        wz = positions[d, 2] - positions[b, 2]
        x = np.float64(uy * wz - uz * wy)
        y = np.float64(uz * wx - ux * wz)
        z = np.float64(ux * wy - uy * wx)
    else:
        ax = np.float64(positions[a, 0])
        ay = np.float64(positions[a, 1])
        az = np.float64(positions[a, 2])
        px = positions[b, 0] - ax
        py = positions[b, 1] - ay
        pz = positions[b, 2] - az
        qx = positions[c, 0] - ax
        qy = positions[c, 1] - ay
        qz = positions[c, 2] - az
        x = py * qz - pz * qy
        y = pz * qx - px * qz
        z = px * qy - py * qx
    return x, y, z


@kernel
def _all_normals(positions: F32, faces: U32, start: U32, ring: U32, first: int, last: int, out: F32) -> None:
    for v in range(first, last):
        x = 0.0
        y = 0.0
        z = 0.0
        for k in range(start[v, 0], start[v, 1]):
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


@kernel
def _quad_areas(positions: F32, faces: U32, first: int, last: int, out: F32) -> None:
    for f in range(first, last):
        out[f, 0], out[f, 1], out[f, 2] = _area(positions, faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3])


@kernel
def _from_areas(areas: F32, start: U32, ring: U32, first: int, last: int, out: F32) -> None:
    for v in range(first, last):
        x = 0.0
        y = 0.0
        z = 0.0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            x += areas[f, 0]
            y += areas[f, 1]
            z += areas[f, 2]
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-30:
            scale = 1.0 / length
            out[v, 0] = x * scale
            out[v, 1] = y * scale
            out[v, 2] = z * scale


def compute_normals(positions: F32, topology: Topology) -> F32:
    """Unit normals of all vertices, (n, 3) float32."""
    out = np.zeros_like(positions)
    faces, start, ring = topology.walk
    if len(faces) > PART and topology.n_triangles == 2 * len(faces):
        return normals_of_quads(positions, topology, out)
    in_parts(
        len(positions), lambda first, last: _all_normals(positions, faces, start, ring, first, last, out)
    )
    return out


def normals_of_quads(positions: F32, topology: Topology, out: F32) -> F32:
    """The same, (n, 3), for a mesh of quads only, to the bit, in two thirds of the time and with 12 bytes more for each face.

    Their areas are single numbers already, so that working them out once for all corners changes nothing.
    """
    faces, start, ring = topology.walk
    areas = np.empty((len(faces), 3), np.float32)
    in_parts(len(faces), lambda first, last: _quad_areas(positions, faces, first, last, areas))
    in_parts(len(positions), lambda first, last: _from_areas(areas, start, ring, first, last, out))
    return out


@kernel
def normals_of_some(positions: F32, triangles: U32, sums: F64, normals: F32) -> None:
    """Normals from a few triangles over the same vertices, for these vertices only.

    Parameters
    ----------
    sums : (n, 3) float64
        Scratch for all vertices; only what triangles name is touched.
    """
    for t in range(triangles.shape[0]):
        for c in range(3):
            for a in range(3):
                sums[triangles[t, c], a] = 0.0
    for t in range(triangles.shape[0]):
        x, y, z = _area(positions, triangles[t, 0], triangles[t, 1], triangles[t, 2], 0xFFFFFFFF)
        for c in range(3):
            v = triangles[t, c]
            sums[v, 0] += x
            sums[v, 1] += y
            sums[v, 2] += z
    for t in range(triangles.shape[0]):
        for c in range(3):
            v = triangles[t, c]
            length = np.sqrt(sums[v, 0] ** 2 + sums[v, 1] ** 2 + sums[v, 2] ** 2)
            if length > 1e-30:
                for a in range(3):
                    normals[v, a] = sums[v, a] / length


@kernel
def stamp_in_order(stamp: I32, base: int, vertices: I32) -> None:
    """Mark each vertex with its place in the list."""
    for i in range(vertices.shape[0]):
        stamp[vertices[i]] = base + i


@kernel
def sum_areas(
    positions: F32,
    normals: F32,
    faces: U32,
    begins: U32,
    ends: U32,
    stamp: I32,
    base: int,
    twin: tuple[int, int],
    rows: tuple[int, int],
    listed: U32,
    n_listed: int,
    sums: F64,
    extent: F32,
    left: U32,
    steep: U8,
) -> tuple[int, int]:
    """Give the area of every face with a moved corner to all its corners.

    The faces are met in the order they lie in memory, each once: walking the rings of the vertices
    instead would meet each four times and takes twice as long.

    Parameters
    ----------
    begins, ends : (p,) uint32
        Runs of faces, among them every face with a corner that the twin moved.
    stamp : (n,) int32
        A vertex's stamp is `base` plus its row in `listed` and `sums`.
    twin : pair of int
        First row and end of what a twin moved, in `listed`: its faces are gone through.
    rows : pair of int
        The rows that may be written to.
    listed : (k,) uint32
        All moved vertices.
    sums : (k, 4) float64
        Whole only in the rows of moved vertices.
    extent : (3,) float32
        Raised to the size of the largest face with a corner that was appended.
    left : (f,) uint32
        Receives the faces with a corner in a row that may not be written to, of which nothing is added. When it has no
        room, all rows may be written to, and corners that have none are appended to `listed`.
    steep : (1,) uint8
        Receives 1 when a face stands steeply to the normal, as it was, of one of two of its corners: then clay may have
        been folded, and is worth a closer look.

    Returns
    -------
    pair of int
        The new length of `listed`, -1 when it is too short; how many faces are left.
    """
    room = listed.shape[0] - 4
    low = np.uint32(twin[0])
    high = np.uint32(twin[1])
    lowest = np.uint32(rows[0])
    highest = np.uint32(rows[1])
    far = np.uint32(0x7FFFFFFF)
    rx = extent[0]
    ry = extent[1]
    rz = extent[2]
    n_left = 0
    parted = left.shape[0] > 0
    seen_steep = False
    for i in range(begins.shape[0]):
        for f in range(begins[i], ends[i]):
            a = faces[f, 0]
            b = faces[f, 1]
            c = faces[f, 2]
            d = faces[f, 3]
            quad = d != NO_CORNER
            last_corner = d if quad else a
            row_a = np.uint32(stamp[a] - base)
            row_b = np.uint32(stamp[b] - base)
            row_c = np.uint32(stamp[c] - base)
            row_d = np.uint32(stamp[last_corner] - base)
            least = min(min(row_a, row_b), min(row_c, row_d))
            # A face whose least row belongs to another twin's vertices is that twin's.
            if least < low or least >= high:
                continue
            most = max(max(row_a, row_b), max(row_c, row_d))
            if parted and (least < lowest or most >= highest):
                left[n_left] = f
                n_left += 1
                continue
            if most > far:
                if n_listed > room:
                    return -1, n_left
                if row_a > far:
                    row_a = np.uint32(n_listed)
                    stamp[a] = base + n_listed
                    listed[n_listed] = a
                    n_listed += 1
                if row_b > far:
                    row_b = np.uint32(n_listed)
                    stamp[b] = base + n_listed
                    listed[n_listed] = b
                    n_listed += 1
                if row_c > far:
                    row_c = np.uint32(n_listed)
                    stamp[c] = base + n_listed
                    listed[n_listed] = c
                    n_listed += 1
                if quad and row_d > far:
                    row_d = np.uint32(n_listed)
                    stamp[d] = base + n_listed
                    listed[n_listed] = d
                    n_listed += 1
                # What is appended has faces of its own beyond this one: about as large, and shaded anew as well.
                rx = max(
                    rx, max(abs(positions[a, 0] - positions[b, 0]), abs(positions[a, 0] - positions[c, 0]))
                )
                ry = max(
                    ry, max(abs(positions[a, 1] - positions[b, 1]), abs(positions[a, 1] - positions[c, 1]))
                )
                rz = max(
                    rz, max(abs(positions[a, 2] - positions[b, 2]), abs(positions[a, 2] - positions[c, 2]))
                )
            x, y, z = _area(positions, a, b, c, d)
            ax = normals[a, 0]
            ay = normals[a, 1]
            az = normals[a, 2]
            cx = normals[c, 0]
            cy = normals[c, 1]
            cz = normals[c, 2]
            fx = np.float32(x)
            fy = np.float32(y)
            fz = np.float32(z)
            # Each for itself: of two normals that face apart, the mean says nothing.
            at_a = fx * ax + fy * ay + fz * az
            at_c = fx * cx + fy * cy + fz * cz
            facing = min(at_a, at_c)
            if facing * abs(facing) < STEEP * (fx * fx + fy * fy + fz * fz):
                seen_steep = True
            mx = ax + cx
            my = ay + cy
            mz = az + cz
            facing = at_a + at_c
            if quad:
                # The half of a quad on one side of its diagonal: so one that is folded within itself is seen.
                ux = positions[b, 0] - positions[a, 0]
                uy = positions[b, 1] - positions[a, 1]
                uz = positions[b, 2] - positions[a, 2]
                wx = positions[c, 0] - positions[a, 0]
                wy = positions[c, 1] - positions[a, 1]
                wz = positions[c, 2] - positions[a, 2]
                half = (uy * wz - uz * wy) * mx + (uz * wx - ux * wz) * my + (ux * wy - uy * wx) * mz
                if half < LOPSIDED * facing or facing - half < LOPSIDED * facing:
                    seen_steep = True
            sums[row_a, 0] += x
            sums[row_a, 1] += y
            sums[row_a, 2] += z
            sums[row_b, 0] += x
            sums[row_b, 1] += y
            sums[row_b, 2] += z
            sums[row_c, 0] += x
            sums[row_c, 1] += y
            sums[row_c, 2] += z
            if quad:
                sums[row_d, 0] += x
                sums[row_d, 1] += y
                sums[row_d, 2] += z
    extent[0] = rx
    extent[1] = ry
    extent[2] = rz
    if seen_steep:
        steep[0] = 1
    return n_listed, n_left


@kernel
def box_of_rows(positions: F32, listed: U32, begins: I64, ends: I64, extent: F32, bounds: F32) -> None:
    """The box around runs of listed vertices, wider by `extent` (3,), into `bounds` (6,)."""
    x0 = y0 = z0 = np.float32(np.inf)
    x1 = y1 = z1 = np.float32(-np.inf)
    for i in range(begins.shape[0]):
        for k in range(begins[i], ends[i]):
            u = listed[k]
            px = positions[u, 0]
            py = positions[u, 1]
            pz = positions[u, 2]
            x0 = min(x0, px)
            y0 = min(y0, py)
            z0 = min(z0, pz)
            x1 = max(x1, px)
            y1 = max(y1, py)
            z1 = max(z1, pz)
    bounds[0] = x0 - extent[0]
    bounds[1] = y0 - extent[1]
    bounds[2] = z0 - extent[2]
    bounds[3] = x1 + extent[0]
    bounds[4] = y1 + extent[1]
    bounds[5] = z1 + extent[2]


@kernel
def turn_normals(
    positions: F32,
    normals: F32,
    faces: U32,
    start: U32,
    ring: U32,
    listed: U32,
    n_moved: int,
    sums: F64,
    first: int,
    last: int,
) -> None:
    """Renew the normals of `listed[first:last]`.

    The first `n_moved` rows of `sums` are whole; the few vertices around them are summed here.
    """
    for i in range(first, last):
        u = listed[i]
        x = sums[i, 0]
        y = sums[i, 1]
        z = sums[i, 2]
        if i >= n_moved:
            x = 0.0
            y = 0.0
            z = 0.0
            for k in range(start[u, 0], start[u, 1]):
                f = ring[k]
                ax, ay, az = _area(positions, faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3])
                x += ax
                y += ay
                z += az
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-30:
            scale = 1.0 / length
            normals[u, 0] = x * scale
            normals[u, 1] = y * scale
            normals[u, 2] = z * scale
