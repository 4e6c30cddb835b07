"""Patch boxes, kept around each patch's vertices and the faces it owns, in two levels."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, PART, U32, AnyArray, in_parts, kernel
from kneten.core.topology import CLUSTER, PATCH, PATCH_BITS, Topology


@kernel
def _patch_box(positions: F32, faces: I32, patch_faces: I32, p: int, boxes: F32) -> None:
    for a in range(3):
        boxes[p, a] = np.inf
        boxes[p, 3 + a] = -np.inf
    for v in range(p * PATCH, min((p + 1) * PATCH, positions.shape[0])):
        for a in range(3):
            boxes[p, a] = min(boxes[p, a], positions[v, a])
            boxes[p, 3 + a] = max(boxes[p, 3 + a], positions[v, a])
    for f in range(patch_faces[p], patch_faces[p + 1]):
        for c in range(4):
            v = faces[f, c]
            if v >= 0:
                for a in range(3):
                    boxes[p, a] = min(boxes[p, a], positions[v, a])
                    boxes[p, 3 + a] = max(boxes[p, 3 + a], positions[v, a])


@kernel
def fit_boxes(positions: F32, faces: I32, patch_faces: I32, which: I32, boxes: F32) -> None:
    """Compute the boxes of the patches in `which` anew."""
    for i in range(which.shape[0]):
        _patch_box(positions, faces, patch_faces, which[i], boxes)


@kernel
def fit_clusters(boxes: F32, which: I32, clusters: F32) -> None:
    """Compute the cluster boxes that hold the patches in `which` anew."""
    before = -1
    for i in range(which.shape[0]):
        cluster = which[i] // CLUSTER
        if cluster == before:
            continue
        before = cluster
        for a in range(3):
            clusters[cluster, a] = np.inf
            clusters[cluster, 3 + a] = -np.inf
        for p in range(cluster * CLUSTER, min((cluster + 1) * CLUSTER, boxes.shape[0])):
            for a in range(3):
                clusters[cluster, a] = min(clusters[cluster, a], boxes[p, a])
                clusters[cluster, 3 + a] = max(clusters[cluster, 3 + a], boxes[p, 3 + a])


@kernel
def loosen_boxes(boxes: F32, which: I32, move: float) -> None:
    """Let the boxes of these patches hold all they held, moved by up to `move`."""
    for i in range(which.shape[0]):
        for a in range(3):
            boxes[which[i], a] -= move
            boxes[which[i], 3 + a] += move


def fit_all(positions: F32, topology: Topology, which: I32, boxes: F32) -> None:
    """Fit the boxes (patches, 6) of some patches (p,), on all processors where they are many."""

    def fit(first: int, last: int) -> None:
        fit_boxes(positions, topology.faces, topology.patch_faces, which[first:last], boxes)

    in_parts(len(which), fit, PART // PATCH)


def all_boxes(positions: F32, topology: Topology) -> tuple[F32, F32]:
    """Boxes of all patches, (patches, 6), and of all clusters, (clusters, 6): low xyz, high xyz."""
    boxes = np.empty((topology.n_patches, 6), np.float32)
    clusters = np.empty(((topology.n_patches + CLUSTER - 1) // CLUSTER, 6), np.float32)
    which = np.arange(topology.n_patches, dtype=np.int32)
    fit_all(positions, topology, which, boxes)
    fit_clusters(boxes, which, clusters)
    return boxes, clusters


@kernel
def box_distance2(box: F32, x: float, y: float, z: float) -> float:
    """Square of the distance of a point from a box; 0 inside."""
    dx = max(max(box[0] - x, x - box[3]), 0.0)
    dy = max(max(box[1] - y, y - box[4]), 0.0)
    dz = max(max(box[2] - z, z - box[5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@kernel
def patches_near(boxes: F32, clusters: F32, x: float, y: float, z: float, radius: float, out: I32) -> int:
    """Write the patches that the ball touches to `out` (as long as there are patches); count them."""
    limit = radius * radius
    n = 0
    for cluster in range(clusters.shape[0]):
        if box_distance2(clusters[cluster], x, y, z) > limit:
            continue
        for p in range(cluster * CLUSTER, min((cluster + 1) * CLUSTER, boxes.shape[0])):
            if box_distance2(boxes[p], x, y, z) <= limit:
                out[n] = p
                n += 1
    return n


def runs_of(topology: Topology, near: I32) -> tuple[U32, U32]:
    """Where the faces that patches (p,) own begin and end, (p,) each."""
    bounds = topology.patch_faces.view(np.uint32)
    return bounds[near], bounds[near + 1]


def halves(near: I32, vertices: AnyArray, ends: list[int]) -> list[int]:
    """Where in a list of patches (p,) those begin that hold the parts of a list of vertices (k,), which end at `ends`.

    A part's vertices lie in its patches but for a few, if the vertices are listed patch by patch.
    """
    cuts = [0]
    for end in ends[1:-1]:
        found = np.flatnonzero(near == int(vertices[end]) >> PATCH_BITS)
        cuts.append(max(cuts[-1], int(found[0]) if len(found) else 0))
    return [*cuts, len(near)]
