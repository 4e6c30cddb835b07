"""Normals that stop at edges: where faces meet sharply, each side keeps its own."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, kernel

LEANING = 0.9
"""A vertex whose normal leans more than 26 degrees off one of its faces may lie on an edge."""

TOGETHER = 0.766
"""Faces up to 40 degrees apart are one curved surface, as for `sharpen`."""


@kernel
def _face_normals(positions: F32, triangles: I32, areas: F64, units: F32) -> None:
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux = np.float64(positions[b, 0]) - positions[a, 0]
        uy = np.float64(positions[b, 1]) - positions[a, 1]
        uz = np.float64(positions[b, 2]) - positions[a, 2]
        wx = np.float64(positions[c, 0]) - positions[a, 0]
        wy = np.float64(positions[c, 1]) - positions[a, 1]
        wz = np.float64(positions[c, 2]) - positions[a, 2]
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        length = np.sqrt(x * x + y * y + z * z)
        areas[t] = length
        scale = 1.0 / max(length, 1e-30)
        units[t, 0] = x * scale
        units[t, 1] = y * scale
        units[t, 2] = z * scale


@kernel
def _mark_hard(normals: F32, triangles: I32, units: F32, hard: U8) -> int:
    n = 0
    for t in range(triangles.shape[0]):
        for k in range(3):
            v = triangles[t, k]
            dot = normals[v, 0] * units[t, 0] + normals[v, 1] * units[t, 1] + normals[v, 2] * units[t, 2]
            if dot < LEANING:
                hard[v] = 1
    for t in range(triangles.shape[0]):
        for k in range(3):
            n += hard[triangles[t, k]]
    return n


@kernel
def _around(triangles: I32, hard: U8, ends: I32, ring: I32) -> None:
    """List the triangles at each hard vertex: `ends` (n + 1,) closes its run of `ring`."""
    for t in range(triangles.shape[0]):
        for k in range(3):
            v = triangles[t, k]
            ends[v + 1] += hard[v]
    for v in range(hard.shape[0]):
        ends[v + 1] += ends[v]
    for t in range(triangles.shape[0]):
        for k in range(3):
            v = triangles[t, k]
            if hard[v] != 0:
                ring[ends[v]] = t
                ends[v] += 1


@kernel
def _own_normals(
    triangles: I32, areas: F64, units: F32, hard: U8, ends: I32, ring: I32, corners: I32, out: F32
) -> None:
    n = hard.shape[0]
    own = 0
    for t in range(triangles.shape[0]):
        for k in range(3):
            v = triangles[t, k]
            if hard[v] == 0:
                continue
            x = 0.0
            y = 0.0
            z = 0.0
            for r in range(0 if v == 0 else ends[v - 1], ends[v]):
                s = ring[r]
                dot = units[t, 0] * units[s, 0] + units[t, 1] * units[s, 1] + units[t, 2] * units[s, 2]
                if dot > TOGETHER or s == t:
                    x += areas[s] * units[s, 0]
                    y += areas[s] * units[s, 1]
                    z += areas[s] * units[s, 2]
            scale = 1.0 / max(np.sqrt(x * x + y * y + z * z), 1e-30)
            corners[t, k] = n + own
            out[n + own, 0] = x * scale
            out[n + own, 1] = y * scale
            out[n + own, 2] = z * scale
            own += 1


def corner_normals(positions: F32, normals: F32, triangles: I32) -> tuple[F32, I32]:
    """Normals for the corners of triangles (t, 3), each of the faces that go on smoothly from there.

    Parameters
    ----------
    normals : (n, 3) float32
        Of the vertices: they do where nothing is sharp.

    Returns
    -------
    normals : (n + k, 3) float32
        Those of the vertices, and after them those of single corners at edges.
    corners : (t, 3) int32
        The normal of each corner.
    """
    areas = np.empty(len(triangles))
    units = np.empty((len(triangles), 3), np.float32)
    _face_normals(positions, triangles, areas, units)
    hard = np.zeros(len(positions), np.uint8)
    count = _mark_hard(normals, triangles, units, hard)
    if not count:
        return normals, triangles
    # As `_around` fills a run, its end moves there from its beginning.
    ends = np.zeros(len(positions) + 1, np.int32)
    ring = np.empty(count, np.int32)
    _around(triangles, hard, ends, ring)
    corners = triangles.copy()
    out = np.concatenate([normals, np.empty((count, 3), np.float32)])
    _own_normals(triangles, areas, units, hard, ends, ring, corners, out)
    return out, corners
