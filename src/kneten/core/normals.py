"""Vertex normals: area-weighted over the faces around each vertex, summed in double precision.

Double precision is for symmetry, not for accuracy: mirrored vertices list their faces in another
order, and float32 sums would differ in the last bit.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, kernel
from kneten.core.topology import PATCH_BITS, Topology


@kernel
def vertex_normal(positions: F32, faces: I32, start: I32, ring: I32, v: int, out: F32) -> None:
    """Write the unit normal of vertex `v` to `out[v]`; a vertex without area keeps its old one."""
    nx = 0.0
    ny = 0.0
    nz = 0.0
    for k in range(start[v], start[v + 1]):
        f = ring[k]
        # A quad's area vector is half the cross product of its diagonals, whatever its bend.
        a = faces[f, 0]
        b = faces[f, 1]
        c = faces[f, 2]
        d = faces[f, 3]
        if d < 0:
            ux = np.float64(positions[b, 0]) - positions[a, 0]
            uy = np.float64(positions[b, 1]) - positions[a, 1]
            uz = np.float64(positions[b, 2]) - positions[a, 2]
            wx = np.float64(positions[c, 0]) - positions[a, 0]
            wy = np.float64(positions[c, 1]) - positions[a, 1]
            wz = np.float64(positions[c, 2]) - positions[a, 2]
        else:
            ux = np.float64(positions[c, 0]) - positions[a, 0]
            uy = np.float64(positions[c, 1]) - positions[a, 1]
            uz = np.float64(positions[c, 2]) - positions[a, 2]
            wx = np.float64(positions[d, 0]) - positions[b, 0]
            wy = np.float64(positions[d, 1]) - positions[b, 1]
            wz = np.float64(positions[d, 2]) - positions[b, 2]
        nx += uy * wz - uz * wy
        ny += uz * wx - ux * wz
        nz += ux * wy - uy * wx
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    if length > 1e-30:
        out[v, 0] = nx / length
        out[v, 1] = ny / length
        out[v, 2] = nz / length


@kernel
def _all_normals(positions: F32, faces: I32, start: I32, ring: I32, out: F32) -> None:
    for v in range(positions.shape[0]):
        vertex_normal(positions, faces, start, ring, v, out)


def compute_normals(positions: F32, topology: Topology) -> F32:
    """Unit normals of all vertices, (n, 3) float32."""
    out = np.zeros_like(positions)
    _all_normals(positions, topology.faces, topology.ring_start, topology.ring_faces, out)
    return out


@kernel
def refresh_ring(
    positions: F32,
    normals: F32,
    faces: I32,
    start: I32,
    ring: I32,
    boxes: F32,
    stamp: I32,
    stamp_id: int,
    touched: I32,
    first: int,
    last: int,
    listed: I32,
    n_listed: int,
    bounds: F32,
) -> int:
    """Renew normals and boxes after `touched[first:last]` moved.

    Every vertex of a face that holds a touched vertex is appended to `listed` once and gets its
    normal anew. `boxes` of the patches that own those faces grow. `bounds` (6,) receives the box
    around all of them. Returns the new length of `listed`, or -1 when `listed` is too short.
    """
    begin = n_listed
    for i in range(first, last):
        t = touched[i]
        owner_before = -1
        for k in range(start[t], start[t + 1]):
            f = ring[k]
            least = t
            for c in range(4):
                u = faces[f, c]
                if u < 0:
                    continue
                least = min(least, u)
                if stamp[u] != stamp_id:
                    stamp[u] = stamp_id
                    if n_listed >= listed.shape[0]:
                        return -1
                    listed[n_listed] = u
                    n_listed += 1
            owner = least >> PATCH_BITS
            if owner != owner_before:
                owner_before = owner
                for a in range(3):
                    boxes[owner, a] = min(boxes[owner, a], positions[t, a])
                    boxes[owner, 3 + a] = max(boxes[owner, 3 + a], positions[t, a])
        own = t >> PATCH_BITS
        for a in range(3):
            boxes[own, a] = min(boxes[own, a], positions[t, a])
            boxes[own, 3 + a] = max(boxes[own, 3 + a], positions[t, a])
    for a in range(3):
        bounds[a] = np.inf
        bounds[3 + a] = -np.inf
    for i in range(begin, n_listed):
        u = listed[i]
        vertex_normal(positions, faces, start, ring, u, normals)
        for a in range(3):
            bounds[a] = min(bounds[a], positions[u, a])
            bounds[3 + a] = max(bounds[3 + a], positions[u, a])
    return n_listed
