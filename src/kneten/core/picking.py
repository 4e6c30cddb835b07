"""Where a ray meets the clay."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import CLUSTER
from kneten.core.triangles import meet

NONE_HIDDEN = np.empty(0, np.uint8)


@dataclass(frozen=True)
class Hit:
    """A point on the surface.

    Attributes
    ----------
    point, normal : (3,) float64
        In the mesh's space; the normal is the face's.
    distance : float
        Along the ray, in lengths of its direction.
    face : int
        Internal index of the face.
    edge : float
        Mean edge length of that face.
    """

    point: F64
    normal: F64
    distance: float
    face: int
    edge: float


@kernel
def _enter_box(box: F32, origin: F64, inverse: F64, best: float) -> float:
    """Where the ray enters the box, or infinity when it misses or is beyond `best`."""
    low = 0.0
    high = best
    for a in range(3):
        t0 = (box[a] - origin[a]) * inverse[a]
        t1 = (box[3 + a] - origin[a]) * inverse[a]
        if t0 > t1:
            t0, t1 = t1, t0
        # Written so that a NaN (ray in the box's wall) leaves the limits as they are.
        if t0 > low:
            low = t0
        if t1 < high:
            high = t1
    # float32 boxes against float64 rays: a hair of slack keeps rays along edges.
    return low if low <= high * (1.0 + 1e-6) + 1e-12 else np.inf


@kernel
def _cast(
    positions: F32,
    faces: I32,
    patch_faces: I32,
    boxes: F32,
    clusters: F32,
    hidden: U8,
    origin: F64,
    way: F64,
    out: F64,
) -> int:
    inverse = np.empty(3)
    weights = np.empty(3)
    for a in range(3):
        inverse[a] = 1.0 / way[a] if way[a] != 0.0 else np.inf
    best = np.inf
    found = -1
    n = 0
    entry = np.empty(clusters.shape[0])
    order = np.empty(clusters.shape[0], np.int64)
    for cluster in range(clusters.shape[0]):
        t = _enter_box(clusters[cluster], origin, inverse, np.inf)
        if t < np.inf:
            entry[n] = t
            order[n] = cluster
            n += 1
    nearest_first = np.argsort(entry[:n])
    for i in range(n):
        if entry[nearest_first[i]] > best:
            break
        cluster = order[nearest_first[i]]
        for p in range(cluster * CLUSTER, min((cluster + 1) * CLUSTER, boxes.shape[0])):
            if _enter_box(boxes[p], origin, inverse, best) == np.inf:
                continue
            for f in range(patch_faces[p], patch_faces[p + 1]):
                if hidden.shape[0] > 0 and hidden[f] != 0:
                    continue
                t = meet(positions, faces[f, 0], faces[f, 1], faces[f, 2], origin, way, weights)
                if 0.0 < t < best:
                    best = t
                    found = f
                if faces[f, 3] >= 0:
                    t = meet(positions, faces[f, 0], faces[f, 2], faces[f, 3], origin, way, weights)
                    if 0.0 < t < best:
                        best = t
                        found = f
    out[0] = best
    return found


@kernel
def _facet(positions: F32, corners: I32, normal: F64) -> float:
    """The face's unit normal into `normal` (3,), and its mean edge length, negative where it has no normal."""
    count = 4 if corners[3] >= 0 else 3
    first = corners[0]
    second = corners[2] if count == 4 else corners[1]
    third, last = (corners[1], corners[3]) if count == 4 else (corners[0], corners[2])
    edge = 0.0
    for c in range(count):
        a, b = corners[c], corners[(c + 1) % count]
        square = 0.0
        for k in range(3):
            square += (np.float64(positions[b, k]) - np.float64(positions[a, k])) ** 2
        edge += np.sqrt(square) / count
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        ui = np.float64(positions[second, i]) - np.float64(positions[first, i])
        uj = np.float64(positions[second, j]) - np.float64(positions[first, j])
        vi = np.float64(positions[last, i]) - np.float64(positions[third, i])
        vj = np.float64(positions[last, j]) - np.float64(positions[third, j])
        normal[k] = ui * vj - uj * vi
    length = np.sqrt(normal[0] ** 2 + normal[1] ** 2 + normal[2] ** 2)
    if length == 0.0:
        return -edge
    for k in range(3):
        normal[k] /= length
    return edge


def pick(mesh: Mesh, origin: F64, way: F64) -> Hit | None:
    """The first shown point of the surface along a ray from `origin` in direction `way`, both (3,)."""
    out = np.empty(1)
    shape = mesh.topology
    face = _cast(
        mesh.positions,
        shape.faces,
        shape.patch_faces,
        mesh.boxes,
        mesh.clusters,
        NONE_HIDDEN if mesh.hidden is None else mesh.hidden,
        origin,
        way,
        out,
    )
    if face < 0:
        return None
    normal = np.empty(3)
    edge = _facet(mesh.positions, shape.faces[face], normal)
    if edge < 0.0:
        edge, normal = -edge, -way / np.linalg.norm(way)
    return Hit(origin + way * out[0], normal, float(out[0]), int(face), edge)
