"""Faces that go through other faces."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate

FINE = 2.0**-21
"""Share of the largest coordinate that an end of an edge must lie beyond a face: what single precision may be off by."""


@inlined
def _hits(p: F64, i: int, j: int, q: F64, k: int, least: float) -> bool:
    """Whether the segment from row `i` to row `j` of `p` goes through the triangle in rows `k..k + 3` of `q`."""
    ux = q[k + 1, 0] - q[k, 0]
    uy = q[k + 1, 1] - q[k, 1]
    uz = q[k + 1, 2] - q[k, 2]
    wx = q[k + 2, 0] - q[k, 0]
    wy = q[k + 2, 1] - q[k, 1]
    wz = q[k + 2, 2] - q[k, 2]
    dx = p[j, 0] - p[i, 0]
    dy = p[j, 1] - p[i, 1]
    dz = p[j, 2] - p[i, 2]
    hx = dy * wz - dz * wy
    hy = dz * wx - dx * wz
    hz = dx * wy - dy * wx
    a = ux * hx + uy * hy + uz * hz
    hit = False
    nx = uy * wz - uz * wy
    ny = uz * wx - ux * wz
    nz = ux * wy - uy * wx
    # How far it comes through, times the area: both ends must lie beyond, by more than rounding.
    room = least * np.sqrt(nx * nx + ny * ny + nz * nz)
    if abs(a) > 2.0 * room:
        sx = p[i, 0] - q[k, 0]
        sy = p[i, 1] - q[k, 1]
        sz = p[i, 2] - q[k, 2]
        s = (sx * hx + sy * hy + sz * hz) / a
        gx = sy * uz - sz * uy
        gy = sz * ux - sx * uz
        gz = sx * uy - sy * ux
        t = (dx * gx + dy * gy + dz * gz) / a
        r = (wx * gx + wy * gy + wz * gz) / a
        within = s > -1e-9 and t > -1e-9 and s + t < 1.0 + 1e-9
        hit = within and r * abs(a) > room and (1.0 - r) * abs(a) > room
    return hit


CROWDED = 256
"""Triangles in a cell from which on they are sorted before they are compared."""


@kernel
def _cells(low: I32, high: I32, mask: int, counts: I32, items: I32, fill: bool) -> None:
    """Count, or list, the triangles of each cell of a hashed grid."""
    for t in range(low.shape[0]):
        for x in range(low[t, 0], high[t, 0] + 1):
            for y in range(low[t, 1], high[t, 1] + 1):
                for z in range(low[t, 2], high[t, 2] + 1):
                    at = ((x * 73856093) ^ (y * 19349663) ^ (z * 83492791)) & mask
                    if fill:
                        counts[at] -= 1
                        items[counts[at]] = t
                    else:
                        counts[at] += 1


@kernel
def _crossed(
    positions: F32,
    triangles: I32,
    boxes: F32,
    starts: I32,
    items: I32,
    first: int,
    last: int,
    least: float,
    sorted_by: I32,
    out: U8,
) -> None:
    """Mark triangles that go through others of the same cell; what shares a corner is not looked at."""
    p = np.empty((6, 3))
    for cell in range(first, last):
        # Where a cell's triangles are sorted along an axis, those behind the end of one need not be looked at.
        along = sorted_by[cell]
        for i in range(starts[cell], starts[cell + 1]):
            s = items[i]
            for j in range(i + 1, starts[cell + 1]):
                t = items[j]
                if along >= 0 and boxes[t, along] > boxes[s, 3 + along]:
                    break
                if s == t or (out[s] != 0 and out[t] != 0):
                    continue
                apart = False
                for a in range(3):
                    apart = apart or boxes[s, a] > boxes[t, 3 + a] or boxes[t, a] > boxes[s, 3 + a]
                if apart:
                    continue
                shared = False
                for c in range(3):
                    for d in range(3):
                        shared = shared or triangles[s, c] == triangles[t, d]
                if shared:
                    continue
                for c in range(3):
                    for a in range(3):
                        p[c, a] = positions[triangles[s, c], a]
                        p[3 + c, a] = positions[triangles[t, c], a]
                hit = False
                for c in range(3):
                    hit = hit or _hits(p, c, (c + 1) % 3, p, 3, least)
                    hit = hit or _hits(p, 3 + c, 3 + (c + 1) % 3, p, 0, least)
                if hit:
                    out[s] = 1
                    out[t] = 1


def crossing(mesh: Mesh) -> AnyArray:
    """Faces (f,) bool that go through others."""
    return crossing_among(mesh.positions, mesh.topology.faces)


def crossing_among(positions: F32, faces: I32) -> AnyArray:
    """Which of some faces (f, 4) go through others of them, (f,) bool; triangles of a hashed grid's cell are compared."""
    found = np.zeros(len(faces), bool)
    triangles = triangulate(faces).astype(np.int32)
    quads = faces[:, 3] >= 0
    # `triangulate` gives the first halves of all faces, then the second halves of quads.
    owner = np.concatenate([np.arange(len(faces)), np.flatnonzero(quads)])
    # Dead faces of loose clay go through nothing, but lie by the thousand in one place.
    real = (triangles != np.roll(triangles, 1, axis=1)).all(axis=1)
    triangles, owner = triangles[real], owner[real]
    if not len(triangles):
        return found
    corners = positions[triangles]
    low, high = corners.min(axis=1), corners.max(axis=1)
    cell = 2.0 * float(np.mean(np.linalg.norm(high - low, axis=1))) + 1e-12
    origin = low.min(axis=0)
    # A triangle longer than that is looked at in at most so many cells to a side.
    cell = max(cell, float((high - low).max()) / 64)
    a = ((low - origin) / cell).astype(np.int32)
    b = ((high - origin) / cell).astype(np.int32)
    bits = int(np.ceil(np.log2(max(len(triangles), 2))))
    counts = np.zeros((1 << bits) + 1, np.int32)
    nothing = np.empty(0, np.int32)
    _cells(a, b, (1 << bits) - 1, counts, nothing, False)
    starts = np.cumsum(counts, dtype=np.int32)
    items = np.empty(starts[-1], np.int32)
    ends = starts.copy()
    _cells(a, b, (1 << bits) - 1, ends, items, True)
    least = FINE * float(np.abs(corners).max())
    # One long triangle makes large cells, and all of a fine part may lie in one of them: each with each would not end.
    sorted_by = np.full(1 << bits, -1, np.int32)
    for cell in np.flatnonzero(np.diff(ends) > CROWDED).tolist():
        held = items[ends[cell] : ends[cell + 1]]
        sorted_by[cell] = axis = int(np.argmax(np.ptp(low[held], axis=0)))
        items[ends[cell] : ends[cell + 1]] = held[np.argsort(low[held, axis], kind="stable")]
    out = np.zeros(len(triangles), np.uint8)
    boxes = np.concatenate([low, high], axis=1)
    _crossed(positions, triangles, boxes, ends, items, 0, 1 << bits, least, sorted_by, out)
    found[owner[out != 0]] = True
    return found
