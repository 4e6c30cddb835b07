"""Sharp edges brought back after remeshing: vertices near a crease move onto it.

Around such a vertex the old surface is read at its own place and its neighbours': points with the normals of the faces
there. Where these normals spread, the vertex moves to the place nearest to all of those planes, which lies on the crease
or in the corner that they form (Kobbelt, Botsch, Schwanecke, Seidel 2001; Ju, Losasso, Schaefer, Warren 2002).
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress, kernel
from kneten.core.face_tree import FaceTree, Found

CREASE = 35.0
"""Degrees from which on faces that meet are an edge, not a curve."""

FLAT = 0.08
"""Least share of the greatest eigenvalue that counts as a direction of its own: smaller ones are noise."""

REACH = 1.2
"""Grid steps that a vertex may be moved."""


@kernel
def _ring_points(quads: I32, own: I32, out: I32, count: I32) -> None:
    """The corners of the quads around some vertices: their numbers in `own`, -1 for others."""
    for q in range(quads.shape[0]):
        for c in range(4):
            i = own[quads[q, c]]
            if i < 0:
                continue
            for d in range(4):
                u = quads[q, d]
                known = False
                for k in range(count[i]):
                    known = known or out[i, k] == u
                if not known and count[i] < out.shape[1]:
                    out[i, count[i]] = u
                    count[i] += 1


@kernel
def _spread(normals: F64, quads: I32, out: F64) -> None:
    """For each vertex the least cosine between its normal and those of the quads' other corners."""
    for q in range(quads.shape[0]):
        for c in range(4):
            a = quads[q, c]
            for d in range(4):
                b = quads[q, d]
                dot = 0.0
                for k in range(3):
                    dot += normals[a, k] * normals[b, k]
                out[a] = min(out[a], dot)


def _face_normals(tree: FaceTree, found: Found) -> F64:
    a, b, c = (tree.positions[found.corners[:, k]].astype(np.float64) for k in range(3))
    normal = np.cross(b - a, c - a)
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30))


def sharpened(
    places: F64, quads: I32, positions: F32, triangles: I32, step: float, progress: Progress
) -> F64:
    """Places (n, 3) of new vertices with those near creases of the old surface on them.

    Parameters
    ----------
    quads : (q, 4) int32
    positions, triangles : (m, 3) float32, (t, 3) int32
        The old surface.
    step : float
        The grid's.
    """
    faces = np.full((len(triangles), 4), -1, np.int32)
    faces[:, :3] = triangles
    tree = FaceTree.over(positions, faces)
    at = places.astype(np.float32)
    found, _ = tree.nearest(at, np.full(len(at), 2 * step, np.float32), progress, share=(0.9, 0.94))
    normals = _face_normals(tree, found)
    normals[~found.there] = 0.0
    least = np.ones(len(places))
    _spread(normals, quads, least)
    rows = np.flatnonzero((least < np.cos(np.radians(CREASE))) & found.there)
    if not len(rows):
        return places
    own = np.full(len(places), -1, np.int32)
    own[rows] = np.arange(len(rows))
    ring, count = np.zeros((len(rows), 24), np.int32), np.zeros(len(rows), np.int32)
    _ring_points(quads, own, ring, count)
    out = places.copy()
    # Beside a crease the old surface is flat: rounding it, as elsewhere, would leave a bead along the edge.
    beside = np.zeros(len(places), bool)
    beside[quads[(own[quads] >= 0).any(axis=1)].reshape(-1)] = True
    beside &= (own < 0) & found.there
    out[beside] = found.of(positions)[beside]
    out[rows] = _meeting(found.of(positions).astype(np.float64), normals, places[rows], ring, count, step)
    return out


def _meeting(points: F64, normals: F64, start: F64, ring: I32, count: I32, step: float) -> F64:
    """Where the planes around each place meet: (k, 3)."""
    there = (np.arange(ring.shape[1]) < count[:, None]) & (normals[ring] != 0).any(axis=2)
    n = np.where(there[:, :, None], normals[ring], 0.0)
    p = points[ring]
    middle = (p * there[:, :, None]).sum(axis=1) / np.maximum(there.sum(axis=1), 1)[:, None]
    a = np.einsum("kri,krj->kij", n, n)
    b = np.einsum("kri,kr->ki", n, np.einsum("kri,kri->kr", n, p - middle[:, None]))
    values, vectors = np.linalg.eigh(a)
    kept: AnyArray = values > FLAT * values[:, 2:]
    inverse = np.where(kept, 1.0 / np.where(kept, values, 1.0), 0.0)
    way = np.einsum("kij,kj,klj,kl->ki", vectors, inverse, vectors, b)
    # Along the crease a vertex stays where it is: only the directions that planes tell of are theirs.
    along = start - middle
    free = along - np.einsum("kij,kj,klj,kl->ki", vectors, kept.astype(float), vectors, along)
    move = middle + way + free - start
    length = np.linalg.norm(move, axis=1, keepdims=True)
    return np.asarray(start + move * np.minimum(1.0, REACH * step / np.maximum(length, 1e-30)))
