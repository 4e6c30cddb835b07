"""Lines that lie on the clay and stay there: points held by triangles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, kernel
from kneten.core.distance import around
from kneten.core.mesh import Mesh
from kneten.core.patches import box_distance2
from kneten.core.regions import face_pairs, pieces
from kneten.core.remesh import triangulate
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


# -- going on with lines ---------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Continued:
    """A drawn line with the lines that it goes on with.

    Attributes
    ----------
    points : (k, 3) float64
    closed : bool
    used : tuple of int
        Which lines it takes the place of.
    """

    points: F64
    closed: bool
    used: tuple[int, ...]


def continued(drawn: F64, lines: Sequence[F64], reach: float) -> Continued:
    """A line (k, 3) joined to the open lines (m, 3) whose ends it begins or ends at, within a reach; closed where it comes back.

    Lines and reach in one space. Places count, not what is seen: so a line is gone on with from any side.
    """

    def at(point: F64, but: tuple[int, bool] | None = None) -> tuple[int, bool] | None:
        """The line with an end nearest to a point, and whether that is its last place."""
        ends = [
            (float(np.linalg.norm(line[-1 if last else 0] - point)), i, last)
            for i, line in enumerate(lines)
            for last in (False, True)
            if (i, last) != but
        ]
        found = min(ends, default=(np.inf, 0, False))
        return (found[1], found[2]) if found[0] < reach else None

    first = at(drawn[0])
    second = at(drawn[-1], first)
    points, used = drawn, []
    if first is not None:
        line, last = lines[first[0]], first[1]
        points = np.concatenate([line if last else line[::-1], points])
        used.append(first[0])
    if second is not None and second[0] not in used:
        line, last = lines[second[0]], second[1]
        points = np.concatenate([points, line[::-1] if last else line])
        used.append(second[0])
    long = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
    closed = bool(np.linalg.norm(points[0] - points[-1]) < reach and long > 4 * reach)
    return Continued(points, closed, tuple(used))


def round_about(mesh: Mesh, line: F64) -> F64 | None:
    """The way from a line's end back to its beginning round the other side of the clay, (k, 3); None where there is none.

    It runs in the plane that the line itself lies in best.
    """
    middle = line.mean(axis=0)
    normal = np.linalg.svd(line - middle, full_matrices=False)[2][2]
    loops = slices(mesh, middle, normal)
    best, found = np.inf, None
    for loop in loops:
        ends = [np.linalg.norm(loop - end, axis=1) for end in (line[-1], line[0])]
        off = float(ends[0].min() + ends[1].min())
        if off < best:
            best, found = off, (loop, int(np.argmin(ends[0])), int(np.argmin(ends[1])))
    if found is None:
        return None
    loop, start, end = found
    n = len(loop)
    ways = [
        loop[np.arange(start, start + (end - start) % n + 1) % n],
        loop[np.arange(start, start - (start - end) % n - 1, -1) % n],
    ]
    half = line[len(line) // 2]
    way = max(ways, key=lambda one: float(np.linalg.norm(one - half, axis=1).min()))
    if len(way) < 3:
        return None
    # The line's ends lie a little off the plane: the way begins and ends there.
    t = np.linspace(0.0, 1.0, len(way))[:, None]
    return np.asarray(way + (line[-1] - way[0]) * (1 - t) ** 4 + (line[0] - way[-1]) * t**4)


def slices(mesh: Mesh, point: F64, normal: F64) -> list[F64]:
    """The closed lines (k, 3) along which a plane cuts clay."""
    triangles = triangulate(mesh.topology.faces)
    far = (mesh.positions.astype(np.float64) - point) @ normal
    # No vertex lies in the plane: each triangle is cut through two of its edges, or not at all.
    tiny = 1e-9 * max(float(np.ptp(far)), 1e-30)
    far = np.where(np.abs(far) < tiny, tiny, far)
    above = far[triangles] > 0
    cut = np.flatnonzero(above.any(axis=1) & ~above.all(axis=1))
    follow: dict[tuple[int, int], tuple[int, int]] = {}
    for t, up in zip(triangles[cut].tolist(), above[cut].tolist(), strict=True):
        # Where the triangle's way leads down through the plane the line comes in, where up it goes out.
        down, rise = (0, 0), (0, 0)
        for k in range(3):
            a, b = t[k], t[(k + 1) % 3]
            if up[k] and not up[(k + 1) % 3]:
                down = (min(a, b), max(a, b))
            elif up[(k + 1) % 3] and not up[k]:
                rise = (min(a, b), max(a, b))
        follow[down] = rise
    loops = []
    while follow:
        start, at = follow.popitem()
        edges = [start]
        while at != start and at in follow:
            edges.append(at)
            at = follow.pop(at)
        if at == start and len(edges) > 2:
            a, b = np.array(edges).T
            share = (far[a] / (far[a] - far[b]))[:, None]
            loops.append(mesh.positions[a] * (1 - share) + mesh.positions[b] * share)
    return loops
