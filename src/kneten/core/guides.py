"""Lines that lie on the clay and stay there: points held by triangles."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, kernel
from kneten.core.distance import around
from kneten.core.mesh import Mesh
from kneten.core.patches import box_distance2
from kneten.core.regions import face_pairs, pieces
from kneten.core.topology import CLUSTER, PATCH

DENSE = 0.4
"""Distance of the points in which a line is followed over faces, in mean edges: it steps over none."""


@dataclass(frozen=True, eq=False)
class OnClay:
    """Places of triangles.

    Attributes
    ----------
    corners : (k, 3) int32
        Vertices.
    shares : (k, 3) float32
        Their weights.
    faces : (k,) int32
    """

    corners: I32
    shares: F32
    faces: I32

    def places(self, mesh: Mesh) -> F64:
        """Where they are now, (k, 3) in the mesh's space."""
        return places(mesh, self.corners, self.shares)


def places(mesh: Mesh, corners: I32, shares: F32) -> F64:
    """Where places held by triangles are now, (k, 3) in the mesh's space."""
    at = mesh.positions[corners].astype(np.float64)
    return np.asarray(np.einsum("kc,kcx->kx", shares.astype(np.float64), at))


@kernel
def _nearest_vertices(
    points: F64, positions: F32, live: AnyArray, boxes: F32, clusters: F32, out: I32
) -> None:
    """The vertex nearest to each point, found by boxes: no tree over all of the clay has to be built."""
    for i in range(points.shape[0]):
        x = points[i, 0]
        y = points[i, 1]
        z = points[i, 2]
        best = np.inf
        found = out[i - 1] if i > 0 else -1
        if found >= 0:
            # Points of a line follow each other: the last one's vertex is a good beginning.
            best = (
                (positions[found, 0] - x) ** 2
                + (positions[found, 1] - y) ** 2
                + (positions[found, 2] - z) ** 2
            )
        for cluster in range(clusters.shape[0]):
            if box_distance2(clusters[cluster], x, y, z) > best:
                continue
            for p in range(cluster * CLUSTER, min((cluster + 1) * CLUSTER, boxes.shape[0])):
                if box_distance2(boxes[p], x, y, z) > best:
                    continue
                for v in range(p * PATCH, min((p + 1) * PATCH, positions.shape[0])):
                    far = (positions[v, 0] - x) ** 2 + (positions[v, 1] - y) ** 2 + (positions[v, 2] - z) ** 2
                    if far < best and live[v, 0] != live[v, 1]:
                        best = far
                        found = v
        out[i] = found


def held(mesh: Mesh, points: F64) -> OnClay:
    """The places of the surface nearest to points (k, 3), searched around the nearest vertices."""
    points = np.ascontiguousarray(points, np.float64)
    near = np.empty(len(points), np.int32)
    shape = mesh.topology
    _nearest_vertices(points, mesh.positions, shape.ring, mesh.boxes, mesh.clusters, near)
    return OnClay(*around(points, near, mesh))


def smoothed(points: F64, closed: bool, rounds: int = 6) -> F64:
    """A drawn line (k, 3) without its tremble; open ends stay."""
    out = points.copy()
    for _ in range(rounds):
        means = (np.roll(out, 1, axis=0) + np.roll(out, -1, axis=0)) / 2
        new = out + (means - out) * 0.5
        if not closed:
            new[0], new[-1] = out[0], out[-1]
        out = new
    return out


def resampled(points: F64, step: float, closed: bool) -> F64:
    """Points (m, 3) about `step` apart along a line (k, 3)."""
    line = np.concatenate([points, points[:1]]) if closed else points
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    count = max(round(along[-1] / max(step, 1e-12)), 2 if not closed else 3)
    at = np.linspace(0.0, along[-1], count + 1)[: count if closed else None]
    return np.stack([np.interp(at, along, line[:, k]) for k in range(3)], axis=-1)


def mirrored(points: F64, linear: F64, shift: F64) -> F64:
    """The like of a line (k, 3), by an affine map: (3, 3) times it, plus (3,)."""
    return np.asarray(points @ linear.T + shift)


def enclosed(mesh: Mesh, lines: list[F64]) -> AnyArray:
    """The faces (f,) bool inside closed lines: the smaller of what they part.

    The faces that the lines run over part the rest. Of these, those whose middle lies on the inner side belong
    to it.
    """
    shape = mesh.topology
    barrier = np.zeros(shape.n_faces, bool)
    edge = _mean_edge(mesh)
    for line in lines:
        barrier[held(mesh, resampled(line, edge * DENSE, True)).faces] = True
    pairs = face_pairs(mesh)
    free = ~barrier[pairs].any(axis=1)
    labels = pieces(mesh, pairs[free])
    # The largest piece is outside, whatever else there is beside the barrier's own faces is inside.
    if barrier.all():
        return np.zeros(shape.n_faces, bool)
    inner = (labels != np.bincount(labels[~barrier]).argmax()) & ~barrier
    if not inner.any():
        return inner
    # A face of the barrier goes to the side more of its neighbours are on.
    votes = np.zeros(shape.n_faces, np.int32)
    for a, b in (pairs.T, pairs.T[::-1]):
        np.add.at(votes, a, np.where(barrier[b], 0, np.where(inner[b], 1, -1)))
    return inner | (barrier & (votes > 0))


def _mean_edge(mesh: Mesh) -> float:
    faces = mesh.topology.faces[:: max(mesh.topology.n_faces // 2000, 1)]
    return float(np.linalg.norm(mesh.positions[faces[:, 0]] - mesh.positions[faces[:, 1]], axis=1).mean())
