"""Which patches a picture, or a rectangle of it, can show; and a coarser stand-in for fast turning."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, kernel
from kneten.core.topology import CLUSTER, Topology

MERGE = 2
"""Unseen patches between two seen ones that are drawn along rather than starting a new draw call."""


@kernel
def _outside(box: F32, planes: F64) -> bool:
    for k in range(planes.shape[0]):
        far = planes[k, 3]
        for a in range(3):
            far += planes[k, a] * (box[3 + a] if planes[k, a] > 0.0 else box[a])
        if far < 0.0:
            return True
    return False


@kernel
def fit_cones(positions: F32, faces: I32, patch_faces: I32, which: I32, cones: F32) -> None:
    """Around each patch's face normals, the narrowest cone about their mean: axis and sine, (p, 4).

    A sine of 2 marks a patch that turns too much to be hidden by its direction alone.
    """
    for i in range(which.shape[0]):
        p = which[i]
        sx = 0.0
        sy = 0.0
        sz = 0.0
        for step in range(2):
            least = 1.0
            for f in range(patch_faces[p], patch_faces[p + 1]):
                a = faces[f, 0]
                b = faces[f, 1]
                c = faces[f, 2]
                for half in range(2):
                    if half == 1:
                        b = faces[f, 2]
                        c = faces[f, 3]
                        if c < 0:
                            break
                    ux = positions[b, 0] - positions[a, 0]
                    uy = positions[b, 1] - positions[a, 1]
                    uz = positions[b, 2] - positions[a, 2]
                    wx = positions[c, 0] - positions[a, 0]
                    wy = positions[c, 1] - positions[a, 1]
                    wz = positions[c, 2] - positions[a, 2]
                    nx = uy * wz - uz * wy
                    ny = uz * wx - ux * wz
                    nz = ux * wy - uy * wx
                    if step == 0:
                        sx += nx
                        sy += ny
                        sz += nz
                    else:
                        length = np.sqrt(nx * nx + ny * ny + nz * nz)
                        if length > 0.0:
                            least = min(least, (nx * sx + ny * sy + nz * sz) / length)
            if step == 0:
                length = np.sqrt(sx * sx + sy * sy + sz * sz)
                if length == 0.0:
                    least = -1.0
                    break
                sx /= length
                sy /= length
                sz /= length
        cones[p, 0] = sx
        cones[p, 1] = sy
        cones[p, 2] = sz
        cones[p, 3] = np.sqrt(max(1.0 - least * least, 0.0)) if least > 0.1 else 2.0


@kernel
def _faces_away(box: F32, cone: F32, eye: F64) -> bool:
    """Whether all faces of a patch are seen from behind; `eye` is a point (w = 1) or direction to it."""
    if cone[3] > 1.0:
        return False
    x = (box[0] + box[3]) * 0.5
    y = (box[1] + box[4]) * 0.5
    z = (box[2] + box[5]) * 0.5
    spread = 0.0
    vx = -eye[0]
    vy = -eye[1]
    vz = -eye[2]
    if eye[3] > 0.5:
        vx += x
        vy += y
        vz += z
        radius2 = (box[3] - x) ** 2 + (box[4] - y) ** 2 + (box[5] - z) ** 2
        spread = np.sqrt(radius2 / max(vx * vx + vy * vy + vz * vz, 1e-30))
        if spread > 0.9:
            return False
    length = np.sqrt(vx * vx + vy * vy + vz * vz)
    along = (vx * cone[0] + vy * cone[1] + vz * cone[2]) / length
    # Angles add: the cone's, and how much the line of sight turns across the box.
    angle = np.arcsin(min(cone[3], 1.0)) + np.arcsin(spread)
    return angle < 1.5 and along > np.sin(angle)


@kernel
def _seen_runs(boxes: F32, clusters: F32, cones: F32, planes: F64, eye: F64, closed: bool, runs: I32) -> int:
    n = 0
    for cluster in range(clusters.shape[0]):
        if _outside(clusters[cluster], planes):
            continue
        for p in range(cluster * CLUSTER, min((cluster + 1) * CLUSTER, boxes.shape[0])):
            if _outside(boxes[p], planes):
                continue
            if closed and _faces_away(boxes[p], cones[p], eye):
                continue
            if n > 0 and p - runs[n - 1, 1] <= MERGE:
                runs[n - 1, 1] = p + 1
            else:
                runs[n, 0] = p
                runs[n, 1] = p + 1
                n += 1
    return n


def seen_runs(boxes: F32, clusters: F32, cones: F32, planes: F64, eye: F64, closed: bool) -> I32:
    """Runs of patches, (k, 2) first and last + 1, that may be seen.

    Left out is what lies behind one of the (m, 4) planes and, on closed clay, what faces away from
    `eye`: (4,), a point with 1 at the end or a direction towards the eye with 0.
    """
    runs = np.empty((len(boxes), 2), np.int32)
    n = _seen_runs(boxes, clusters, cones, planes, eye, closed, runs)
    return runs[:n]


def clip_planes(matrix: F64, left: float, right: float, low: float, high: float) -> F64:
    """Planes around what a clip-space rectangle (-1..1) shows, inwards, (6, 4), for a (4, 4) matrix."""
    x, y, z, w = matrix
    return np.array([x - left * w, right * w - x, y - low * w, high * w - y, z + w, w - z])


@kernel
def _patch_triangles(faces: I32, patch_faces: I32, starts: I32, triangles: I32) -> None:
    n = 0
    for p in range(patch_faces.shape[0] - 1):
        starts[p] = n
        for f in range(patch_faces[p], patch_faces[p + 1]):
            for k in range(3):
                triangles[n, k] = faces[f, k]
            n += 1
            if faces[f, 3] >= 0:
                triangles[n, 0] = faces[f, 0]
                triangles[n, 1] = faces[f, 2]
                triangles[n, 2] = faces[f, 3]
                n += 1
    starts[patch_faces.shape[0] - 1] = n


def patch_triangles(topology: Topology) -> tuple[I32, I32]:
    """All triangles in patch order, (t, 3), and where each patch's begin, (patches + 1,)."""
    triangles = np.empty((topology.n_triangles, 3), np.int32)
    starts = np.empty(topology.n_patches + 1, np.int32)
    _patch_triangles(topology.faces, topology.patch_faces, starts, triangles)
    return triangles, starts


@kernel
def _patch_edges(faces: I32, patch_faces: I32, border: U8, starts: I32, edges: I32) -> int:
    n = 0
    for p in range(patch_faces.shape[0] - 1):
        starts[p] = n
        for f in range(patch_faces[p], patch_faces[p + 1]):
            size = 3 if faces[f, 3] < 0 else 4
            if faces[f, 0] == faces[f, 1]:
                continue  # An empty place of loose clay.
            for c in range(size):
                a = faces[f, c]
                b = faces[f, (c + 1) % size]
                # Two faces go along an inner edge in opposite directions: one of them draws it.
                if a < b or (border[a] != 0 and border[b] != 0):
                    edges[n, 0] = a
                    edges[n, 1] = b
                    n += 1
    starts[patch_faces.shape[0] - 1] = n
    return n


def patch_edges(topology: Topology) -> tuple[I32, I32]:
    """The faces' own edges in patch order, (e, 2), and where each patch's begin, (patches + 1,)."""
    faces = topology.faces
    corners = 4 * len(faces) - int(np.count_nonzero(faces[:, 3] < 0))
    edges = np.empty((corners, 2), np.int32)
    starts = np.empty(topology.n_patches + 1, np.int32)
    n = _patch_edges(faces, topology.patch_faces, topology.border, starts, edges)
    return edges[:n].copy(), starts
