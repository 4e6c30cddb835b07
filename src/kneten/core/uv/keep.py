"""UVs of clay whose faces were made anew, read off the old ones island by island."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.uv.islands import Islands

PULL = 0.25
"""How far into its face a corner is looked for, in edges of the old clay: on a seam that tells its side."""

ALIKE = 0.02
"""How far corners of one vertex may lie apart, in sizes of the whole layout, and still be one point."""


def read_off(
    positions: F32,
    triangles: I32,
    uv: F32,
    island: I32,
    places: AnyArray,
    faces: I32,
    of_face: I32,
    progress: Progress,
) -> F32:
    """Where corners of new triangles lie in the picture plane.

    Each is looked for among the old triangles of its face's island, a little within its face, and told by the plane of the
    one that is found, so that borders of islands stay borders.

    Parameters
    ----------
    positions : (n, 3) float32
    triangles : (t, 3) int32
    uv : (t, 3, 2) float32
    island : (t,) int32
    places : (m, 3)
        New vertices.
    faces : (f, 3) int32
    of_face : (f,) int32
        The island of each new face; -1 where it has none.

    Returns
    -------
    (f, 8) float32
    """
    corners = places.astype(np.float64)[faces]
    middle = corners.mean(axis=1, keepdims=True)
    a, b, c = (positions[triangles[:, k]].astype(np.float64) for k in range(3))
    edge = float(np.linalg.norm(b - a, axis=1).mean()) if len(a) else 1.0
    way = middle - corners
    length = np.maximum(np.linalg.norm(way, axis=2, keepdims=True), 1e-12)
    pulled = (corners + way * np.minimum(0.3, PULL * edge / length)).astype(np.float32)
    out = np.zeros((len(faces), 4, 2), np.float32)
    kinds = np.unique(of_face[of_face >= 0])
    for count, kind in enumerate(kinds.tolist()):
        progress.report(count / max(len(kinds), 1), "Keeping UVs")
        old, new = np.flatnonzero(island == kind), np.flatnonzero(of_face == kind)
        some = np.full((len(old), 4), -1, np.int32)
        some[:, :3] = triangles[old]
        tree = FaceTree.over(positions, some)
        spots = np.ascontiguousarray(pulled[new].reshape(-1, 3))
        found, _ = tree.nearest(spots, np.full(len(spots), np.inf, np.float32), Progress())
        at = old[np.maximum(found.faces, 0)]
        out[new, :3] = _in_plane(corners[new].reshape(-1, 3), a[at], b[at], c[at], uv[at]).reshape(-1, 3, 2)
    _welded(out, faces, of_face)
    return out.reshape(len(faces), 8)


def _in_plane(points: F64, a: F64, b: F64, c: F64, uv: F32) -> F64:
    """Where points (k, 3) lie in the picture, by the planes of triangles."""
    u, v, p = b - a, c - a, points - a
    uu, uv_, vv = (np.einsum("ij,ij->i", x, y) for x, y in ((u, u), (u, v), (v, v)))
    pu, pv = np.einsum("ij,ij->i", p, u), np.einsum("ij,ij->i", p, v)
    under = uu * vv - uv_ * uv_
    good = under > 1e-12 * np.maximum(uu * vv, 1e-30)
    s = np.where(good, (vv * pu - uv_ * pv) / np.where(good, under, 1.0), 1 / 3).clip(-1.0, 2.0)
    t = np.where(good, (uu * pv - uv_ * pu) / np.where(good, under, 1.0), 1 / 3).clip(-1.0, 2.0)
    told = uv.astype(np.float64)
    return np.asarray(told[:, 0] * (1 - s - t)[:, None] + told[:, 1] * s[:, None] + told[:, 2] * t[:, None])


def _welded(out: F32, faces: I32, of_face: I32) -> None:
    """Corners of one vertex that lie nearly together are brought together: a slit within an island has two groups of them."""
    has = np.flatnonzero(of_face >= 0)
    if not len(has):
        return
    vertex, island = faces[has].ravel().astype(np.int64), np.repeat(of_face[has], 3).astype(np.int64)
    table = out[has, :3].reshape(-1, 2).astype(np.float64)
    tolerance = ALIKE * float(np.ptp(table, axis=0).max())
    key = vertex * (int(island.max()) + 1) + island
    _, group = np.unique(key, return_inverse=True)
    for _ in range(6):
        n = int(group.max()) + 1
        size = np.bincount(group, minlength=n)
        mean = np.stack([np.bincount(group, table[:, k], n) / size for k in range(2)], axis=1)
        off = np.linalg.norm(table - mean[group], axis=1)
        worst = np.zeros(n)
        np.maximum.at(worst, group, off)
        wide = worst > tolerance
        if not wide.any():
            break
        # Those on the far side of the mean, seen from the one that is off most, are a group of their own.
        lead = np.full(n, -1)
        lead[group[off >= worst[group]]] = np.flatnonzero(off >= worst[group])
        toward = table[lead] - mean
        other = wide[group] & (np.einsum("ij,ij->i", table - mean[group], toward[group]) > 0)
        _, group = np.unique(group * 2 + other, return_inverse=True)
    out[has, :3] = mean[group].reshape(-1, 3, 2).astype(np.float32)


def corner_uv(islands: Islands, uv: F32, triangles: I32, source: I32) -> F32:
    """UVs of triangles (t, 3) that faces were cut into, (t, 3, 2); `source` (t,) is the face of each."""
    own = islands.faces[source]
    at = np.stack([np.argmax(own == triangles[:, k : k + 1], axis=1) for k in range(3)], axis=1)
    return uv.reshape(-1, 4, 2)[source[:, None], at]
