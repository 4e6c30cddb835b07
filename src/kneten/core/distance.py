"""How far one surface lies from another, and the nearest points on it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F32, F64, I32, Progress, kernel
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.triangles import nearest_place, weights_at


def around(points: F64, near: I32, mesh: Mesh) -> tuple[I32, F32, I32]:
    """The places nearest to points (k, 3) on the faces around given vertices.

    Returns
    -------
    corners : (k, 3) int32
        The triangle of each, quads cut into two.
    shares : (k, 3) float32
        Weights of its corners.
    faces : (k,) int32
    """
    corners = np.empty((len(points), 3), np.int32)
    shares = np.empty((len(points), 3), np.float32)
    faces = np.empty(len(points), np.int32)
    shape = mesh.topology
    args = (mesh.positions, shape.faces, shape.ring, shape.ring_faces)
    _places_around(points, near, *args, corners, shares, faces)
    return corners, shares, faces


@kernel
def _places_around(
    points: F64,
    near: I32,
    positions: F32,
    faces: I32,
    start: I32,
    ring: I32,
    corners: I32,
    shares: F32,
    found: I32,
) -> None:
    at = np.empty((3, 3))
    spot = np.empty(3)
    for i in range(points.shape[0]):
        v = near[i]
        best = np.inf
        for r in range(start[v, 0], start[v, 1]):
            f = ring[r]
            for half in range(2):
                if half == 1 and faces[f, 3] < 0:
                    break
                a = faces[f, 0]
                b = faces[f, 1 + half]
                c = faces[f, 2 + half]
                for k in range(3):
                    at[0, k] = positions[a, k]
                    at[1, k] = positions[b, k]
                    at[2, k] = positions[c, k]
                far = nearest_place(points[i], at, spot)
                if far >= best:
                    continue
                best = far
                found[i] = f
                corners[i, 0] = a
                corners[i, 1] = b
                corners[i, 2] = c
                weights_at(at, spot, shares[i])


def nearest_points(points: F64, mesh: Mesh, progress: Progress) -> tuple[F64, I32]:
    """The nearest point on a mesh at rest to each of (k, 3) points, whatever the sizes of its faces.

    Returns
    -------
    points : (k, 3) float64
    vertices : (k,) int32
        The corner of the triangle it lies in that it is nearest to.
    """
    reaches = np.full(len(points), np.inf, np.float32)
    found, _ = FaceTree.of(mesh).nearest(np.ascontiguousarray(points, np.float32), reaches, progress)
    corners = mesh.positions[found.corners].astype(np.float64)
    places = np.einsum("kc,kcx->kx", found.shares.astype(np.float64), corners)
    most = np.argmax(found.shares, axis=1)
    return places, np.ascontiguousarray(found.corners[np.arange(len(points)), most])


def signed_distances(points: F64, mesh: Mesh, progress: Progress) -> F32:
    """How far points lie outside (above 0) or inside (below 0) of a mesh, (k,) float32."""
    nearest, vertices = nearest_points(points, mesh, progress)
    way = points - nearest
    side = np.einsum("ij,ij->i", way, mesh.normals[vertices].astype(np.float64))
    return (np.sqrt(np.einsum("ij,ij->i", way, way)) * np.where(side < 0, -1.0, 1.0)).astype(np.float32)


def outer_area(meshes: Sequence[Mesh], samples: int = 600) -> float:
    """The area of several meshes of one space that does not lie inside of another of them.

    From random places, the same every time: off by a few per cent.
    """
    random = np.random.default_rng(7)
    total = 0.0
    boxes = [mesh.bounds() for mesh in meshes]
    for i, mesh in enumerate(meshes):
        triangles = triangulate(mesh.topology.faces)
        a, b, c = (mesh.positions[triangles[:, k]].astype(np.float64) for k in range(3))
        areas = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
        whole = float(areas.sum())
        if whole <= 0:
            continue
        chosen = random.choice(len(areas), samples, p=areas / whole)
        spots = (a[chosen] + b[chosen] + c[chosen]) / 3
        hidden = np.zeros(samples, bool)
        for j, other in enumerate(meshes):
            low, high = boxes[j]
            within = ((spots > low) & (spots < high)).all(axis=1) & ~hidden
            if j != i and within.any():
                hidden[within] = signed_distances(spots[within], other, Progress()) < 0
        total += whole * float(1 - hidden.mean())
    return total
