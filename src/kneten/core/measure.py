"""Places that stay on the clay, and lengths between them: through space and over the surface."""

from __future__ import annotations

import functools

import numpy as np
import potpourri3d
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate

MOST_EXACT = 120_000
"""Triangles that the way is straightened over."""


class Anchor:
    """A place of a triangle: its corners' vertices and their shares."""

    __slots__ = ("corners", "shares")

    def __init__(self, corners: tuple[int, int, int], shares: tuple[float, float, float]) -> None:
        self.corners = corners
        self.shares = shares

    def place(self, mesh: Mesh) -> F64:
        """Where it is now, (3,) in the mesh's space."""
        return np.asarray(np.array(self.shares) @ mesh.positions[list(self.corners)].astype(np.float64))


def anchored(mesh: Mesh, place: F64) -> Anchor:
    """The place of the surface nearest to a place (3,); exact among the faces around the nearest vertices."""
    far = ((mesh.positions - place.astype(np.float32)) ** 2).sum(axis=1)
    count = min(8, mesh.n_vertices)
    near = np.argpartition(far, count - 1)[:count]
    shape = mesh.topology
    faces = np.unique(np.concatenate([shape.ring_faces[shape.ring[v, 0] : shape.ring[v, 1]] for v in near]))
    best, found = np.inf, Anchor((0, 0, 0), (1.0, 0.0, 0.0))
    for corners in triangulate(shape.faces[faces]):
        points = mesh.positions[corners].astype(np.float64)
        shares = _nearest_shares(place, points)
        off = float(((shares @ points - place) ** 2).sum())
        if off < best:
            a, b, c = (int(v) for v in corners)
            s, t, u = (float(v) for v in shares)
            best, found = off, Anchor((a, b, c), (s, t, u))
    return found


def _nearest_shares(p: F64, corners: F64) -> F64:
    """Weights of a triangle's corners at its point nearest to `p`."""
    a, b, c = corners
    ab, ac, ap = b - a, c - a, p - a
    g = np.array([[ab @ ab, ab @ ac], [ab @ ac, ac @ ac]])
    det = float(np.linalg.det(g))
    if det > 1e-30:
        v, w = np.linalg.solve(g, [ab @ ap, ac @ ap])
        if v >= 0 and w >= 0 and v + w <= 1:
            return np.array([1 - v - w, v, w])
    best, found = np.inf, np.array([1.0, 0.0, 0.0])
    for i, j in ((0, 1), (1, 2), (2, 0)):
        way = corners[j] - corners[i]
        t = float(np.clip((p - corners[i]) @ way / max(float(way @ way), 1e-30), 0, 1))
        off = float(((corners[i] + t * way - p) ** 2).sum())
        if off < best:
            best, found = off, np.zeros(3)
            found[i], found[j] = 1 - t, t
    return found


LEAST_FLAT = 1e-12
"""Twice a triangle's area as a share of its longest side squared; thinner ones have none that numbers could tell."""


@functools.lru_cache(maxsize=2)
def _edges(topology: object) -> tuple[I32, AnyArray]:
    triangles = triangulate(topology.faces)  # type: ignore[attr-defined]
    pairs = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    return triangles, pairs


def surface_path(mesh: Mesh, start: Anchor, end: Anchor) -> F64:
    """The shortest way over the surface between two places, (k, 3) float64; empty when nothing joins them.

    A search along edges finds which part of the surface can matter: places whose ways along edges to both
    ends add up to little more than the shortest. There the way is straightened until nothing near it is
    shorter (Sharp and Crane 2020, by potpourri3d): exact, not a way along edges.
    """
    triangles, pairs = _edges(mesh.topology)
    positions = mesh.positions.astype(np.float64)
    a, b = start.place(mesh), end.place(mesh)
    # Clay far outside of any possible way is left out before the search.
    n = mesh.n_vertices
    long = np.linalg.norm(positions[pairs[:, 0]] - positions[pairs[:, 1]], axis=1)
    graph = coo_matrix((long, (pairs[:, 0], pairs[:, 1])), shape=(n, n)).tocsr()
    i, j = start.corners[int(np.argmax(start.shares))], end.corners[int(np.argmax(end.shares))]
    from_a = dijkstra(graph, directed=False, indices=i)
    if not np.isfinite(from_a[j]):
        return np.empty((0, 3))
    from_b = dijkstra(
        graph, directed=False, indices=j, limit=float(from_a[j]) * 1.42 + float(long.mean()) * 4
    )
    if set(start.corners) == set(end.corners):
        return np.stack([a, b])
    # Ways along edges are up to 1.41 times as long as straight ones, more in some directions than in
    # others: only what lies beyond that cannot matter.
    slack = 1.42
    while True:
        near = from_a + from_b <= from_a[j] * slack + float(long.mean()) * 4
        near[list(start.corners)] = near[list(end.corners)] = True
        chosen = triangles[near[triangles].all(axis=1)]
        if len(chosen) <= MOST_EXACT or slack <= 1.0001:
            break
        slack = 1 + (slack - 1) * 0.7
    try:
        return _exact(positions, chosen, start, end, a, b)
    except RuntimeError:
        # Clay that touches itself in an edge or a vertex: the way along its edges is what there is.
        return _along_edges(graph, positions, i, j, a, b)


def _along_edges(graph: AnyArray, positions: F64, i: int, j: int, a: F64, b: F64) -> F64:
    _, before = dijkstra(graph, directed=False, indices=i, return_predecessors=True)
    way = [j]
    while way[-1] != i and before[way[-1]] >= 0:
        way.append(int(before[way[-1]]))
    return np.concatenate([a[None], positions[way[::-1]], b[None]])


def _split(faces: AnyArray, within: list[int], own: int) -> AnyArray:
    """Triangles around a new vertex: within one of them (three corners), or on an edge of some (two)."""
    holds = np.isin(faces, within).sum(axis=1) == len(within)
    pieces = [faces[~holds]]
    for triangle in faces[holds]:
        for k in range(3):
            i, j, far = triangle[k], triangle[(k + 1) % 3], triangle[(k + 2) % 3]
            # Of an edge that the vertex lies on, only the two halves remain.
            if len(within) == 3 or far in within:
                pieces.append(np.array([[i, j, own]]))
    return np.concatenate(pieces)


def _exact(positions: F64, triangles: I32, start: Anchor, end: Anchor, a: F64, b: F64) -> F64:
    """The exact way over some triangles; both ends become vertices of the triangles they lie in."""
    keep, local = np.unique(triangles, return_inverse=True)
    faces = local.reshape(-1, 3).astype(np.int64)
    points = [positions[keep]]
    ends = []
    total = len(keep)
    for anchor, place in ((start, a), (end, b)):
        within = [
            int(np.searchsorted(keep, c))
            for c, s in zip(anchor.corners, anchor.shares, strict=True)
            if s > 1e-6
        ]
        if len(within) == 1:
            ends.append(within[0])
            continue
        points.append(place[None])
        faces = _split(faces, within, total)
        ends.append(total)
        total += 1
    whole = np.concatenate(points)
    faces_all = faces
    if ends[0] == ends[1]:
        return np.stack([a, b])
    # Faces without area kill the process there, with all work in it.
    faces_all = faces_all[_flatness(whole[faces_all]) > LEAST_FLAT]
    used, faces_all = np.unique(faces_all, return_inverse=True)
    if not np.isin(ends, used).all():
        raise RuntimeError("an end lies on clay without area")
    solver = potpourri3d.EdgeFlipGeodesicSolver(whole[used], faces_all.reshape(-1, 3))
    first, last = (int(np.searchsorted(used, k)) for k in ends)
    path = np.asarray(solver.find_geodesic_path(first, last), np.float64)
    return path if np.linalg.norm(path[0] - a) <= np.linalg.norm(path[-1] - a) else path[::-1]


def _flatness(corners: F64) -> F64:
    """Twice the area of triangles (k, 3, 3) as a share of their longest side squared, (k,)."""
    sides = ((corners - np.roll(corners, 1, axis=1)) ** 2).sum(axis=2).max(axis=1)
    doubled = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    return np.divide(doubled, sides, out=np.zeros(len(corners)), where=sides > 0)


def length(path: F64) -> float:
    """Of a polyline (k, 3)."""
    return float(np.linalg.norm(np.diff(path, axis=0), axis=1).sum())


def at_share(path: F64, share: float) -> F64:
    """The place, (3,), a share of the length along a polyline (k, 3)."""
    steps = np.linalg.norm(np.diff(path, axis=0), axis=1)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    return np.array([np.interp(share * along[-1], along, path[:, k]) for k in range(3)])


CANONS: dict[str, tuple[float, ...]] = {
    "Child, five heads": tuple(k / 5 for k in range(6)),
    "Common, seven and a half heads": tuple(min(k / 7.5, 1.0) for k in range(9)),
    "Ideal, eight heads": tuple(k / 8 for k in range(9)),
    "Heroic, nine heads": tuple(k / 9 for k in range(10)),
    "Ogre, four and a half heads": tuple(min(k / 4.5, 1.0) for k in range(6)),
    "Face, thirds": (0.0, 1 / 3, 2 / 3, 1.0),
}
"""Marks as shares of the height, from the top down."""
