"""Clay taken apart: by label, by connection; and the holes that leaves, filled."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import Delaunay, cKDTree

from kneten.core.arrays import F64, I32, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.values import VALUES, put_together, rows_of, staying


def connected(mesh: Mesh) -> I32:
    """For each vertex, (n,), the number of the connected piece it belongs to, largest piece first."""
    triangles = triangulate(mesh.topology.faces)
    rows = np.concatenate([triangles[:, 0], triangles[:, 1]])
    columns = np.concatenate([triangles[:, 1], triangles[:, 2]])
    n = mesh.n_vertices
    count, labels = connected_components(
        coo_matrix((np.ones(len(rows), np.uint8), (rows, columns)), shape=(n, n)), directed=False
    )
    rank = np.empty(count, np.int32)
    rank[np.argsort(-np.bincount(labels), kind="stable")] = np.arange(count)
    return np.asarray(rank[labels])


def taken_apart(mesh: Mesh, labels: AnyArray, progress: Progress, by_face: bool = False) -> dict[int, Mesh]:
    """One closed mesh for each label (n,) of the vertices; a face goes where most of its corners belong.

    With `by_face` the labels (f,) are those of the faces.
    """
    faces = mesh.topology.faces
    of_face = labels
    if not by_face:
        corner = labels[np.maximum(faces, 0)].astype(np.int64)
        # Two corners that agree decide; otherwise the first.
        of_face = np.where(
            (corner[:, 1] == corner[:, 2]) & (corner[:, 0] != corner[:, 1]), corner[:, 1], corner[:, 0]
        )
    kinds = np.unique(of_face)
    found = {}
    for count, kind in enumerate(kinds):
        progress.report(count / len(kinds), "Taking apart")
        found[int(kind)] = filled(picked(mesh, of_face == kind))
    return found


def picked(mesh: Mesh, which: AnyArray) -> Mesh:
    """The faces (f,) bool of a mesh alone, open where they were connected to others."""
    faces = mesh.topology.faces[which]
    used = np.zeros(mesh.n_vertices + 1, bool)
    used[faces.reshape(-1)] = True
    used[-1] = False
    keep = np.flatnonzero(used[:-1])
    new = np.full(mesh.n_vertices + 1, -1, np.int32)
    new[keep] = np.arange(len(keep))
    return Mesh.from_faces(
        mesh.positions[keep],
        new[faces],
        **rows_of(staying(mesh.values()), keep, which),
    )


def concatenated(meshes: Sequence[Mesh]) -> Mesh:
    """Several meshes of one space as one, not connected."""
    first = 0
    faces, positions = [], []
    for mesh in meshes:
        own = mesh.topology.faces
        faces.append(np.where(own >= 0, own + np.int32(first), np.int32(-1)))
        positions.append(mesh.positions)
        first += mesh.n_vertices
    return Mesh.from_faces(np.concatenate(positions), np.concatenate(faces), **put_together(meshes, VALUES))


def border_loops(mesh: Mesh) -> list[I32]:
    """The open edges as closed loops of vertices, (k,) each, in the direction of the faces beside them."""
    if not mesh.topology.has_border:
        return []
    faces = mesh.topology.faces
    near = faces[(mesh.topology.border[np.maximum(faces, 0)] & (faces >= 0)).any(axis=1)]
    edges = []
    for row in near:
        ring = row[row >= 0]
        edges += list(zip(ring.tolist(), np.roll(ring, -1).tolist(), strict=True))
    there = set(edges)
    open_at = mesh.topology.border
    follow: dict[int, list[int]] = {}
    for a, b in edges:
        if (b, a) not in there and open_at[a] and open_at[b]:
            follow.setdefault(a, []).append(b)
    loops = []
    while follow:
        start = next(iter(follow))
        loop = [start]
        at = start
        while True:
            nexts = follow.get(at)
            if not nexts:
                break
            at, empty = nexts.pop(), len(nexts) == 0
            if empty:
                del follow[loop[-1]]
            if at == start:
                break
            if at in loop:
                # A vertex met twice: the loop behind it is one of its own.
                first = loop.index(at)
                loops.append(np.array(loop[first:], np.int32))
                loop = loop[: first + 1]
                continue
            loop.append(at)
        if len(loop) > 2:
            loops.append(np.array(loop, np.int32))
    return loops


def filled(mesh: Mesh, at: AnyArray | None = None) -> Mesh:
    """The clay with every hole closed by a smooth skin as dense as the clay around it; only holes `at` some vertices (k,)."""
    loops = border_loops(mesh)
    if at is not None:
        loops = [loop for loop in loops if np.isin(loop, at).any()]
    if not loops:
        return mesh
    positions = [mesh.positions.astype(np.float64)]
    faces = [mesh.topology.faces]
    near = [np.arange(mesh.n_vertices, dtype=np.int32)]
    total = mesh.n_vertices
    for loop in loops:
        rim = positions[0][loop]
        points, triangles = patch_over(rim)
        # The patch runs against the rim's direction, so that both sides face outwards.
        index = np.concatenate([loop, np.arange(total, total + len(points) - len(loop))]).astype(np.int32)
        placed = index[triangles]
        faces.append(np.concatenate([placed, np.full((len(placed), 1), -1, np.int32)], 1))
        new = points[len(loop) :]
        positions.append(new)
        if len(new):
            far = np.linalg.norm(new[:, None] - rim[None], axis=2)
            near.append(loop[np.argmin(far, axis=1)])
        total += len(new)
    source = np.concatenate(near)

    # What is new has what the rim beside it has; of what faces have, nothing.
    values = {}
    for name, value in staying(mesh.values()).items():
        if VALUES[name].by_face:
            new = VALUES[name].none(sum(len(rows) for rows in faces[1:]))
            values[name] = np.concatenate([value, new])
        else:
            values[name] = value[source]
    return Mesh.from_faces(np.concatenate(positions).astype(np.float32), np.concatenate(faces), **values)


def patch_over(rim: F64) -> tuple[F64, I32]:
    """A skin over a closed loop.

    Parameters
    ----------
    rim : (k, 3) float64

    Returns
    -------
    points : (k + m, 3) float64
        The rim, then new vertices.
    triangles : (t, 3) int32
        They run round against the rim.
    """
    k = len(rim)
    if k == 3:
        return rim, np.array([[0, 2, 1]], np.int32)
    middle = rim.mean(axis=0)
    _, _, axes = np.linalg.svd(rim - middle, full_matrices=False)
    flat = (rim - middle) @ axes[:2].T
    area = 0.5 * float((flat[:, 0] * np.roll(flat[:, 1], -1) - flat[:, 1] * np.roll(flat[:, 0], -1)).sum())
    edge = float(np.linalg.norm(rim - np.roll(rim, -1, 0), axis=1).mean())
    inner = _grid_inside(flat, edge)
    triangles = _within(flat, inner)
    if triangles is None:
        return _fan(rim)
    # Triangles come counter-clockwise in the plane.
    if area > 0:
        triangles = triangles[:, ::-1]
    points = np.concatenate([rim, np.zeros((len(inner), 3))])
    if len(inner):
        points[k:] = middle + inner @ axes[:2]
        _relax(points, triangles, k)
    return points, triangles.astype(np.int32)


def _grid_inside(flat: F64, edge: float) -> F64:
    """Points of a triangular grid within a polygon, not too near to its sides."""
    low, high = flat.min(axis=0), flat.max(axis=0)
    rows = np.arange(low[1] + edge * 0.5, high[1], edge * 0.866)
    if len(rows) * (high[0] - low[0]) / edge > 400_000:
        edge *= float(np.sqrt(len(rows) * (high[0] - low[0]) / edge / 400_000))
        rows = np.arange(low[1] + edge * 0.5, high[1], edge * 0.866)
    points = []
    for number, y in enumerate(rows):
        x = np.arange(low[0] + edge * (0.5 if number % 2 else 1.0), high[0], edge)
        points.append(np.stack([x, np.full(len(x), y)], -1))
    if not points:
        return np.empty((0, 2))
    grid = np.concatenate(points)
    grid = grid[inside(flat, grid)]
    if len(grid):
        grid = grid[cKDTree(flat).query(grid)[0] > edge * 0.6]
    return np.asarray(grid)


def inside(polygon: F64, points: F64) -> AnyArray:
    """Whether points (n, 2) lie within a polygon (k, 2), by the even-odd rule."""
    a, b = polygon, np.roll(polygon, -1, 0)
    inside = np.zeros(len(points), bool)
    for (ax, ay), (bx, by) in zip(a, b, strict=True):
        crosses = (ay > points[:, 1]) != (by > points[:, 1])
        if ay != by:
            inside ^= crosses & (points[:, 0] < (bx - ax) * (points[:, 1] - ay) / (by - ay) + ax)
    return inside


def _within(flat: F64, inner: F64) -> I32 | None:
    """Delaunay triangles inside a polygon; None when a side of it is missing among them."""
    points = np.concatenate([flat, inner])
    try:
        triangles = Delaunay(points).simplices
    except Exception:
        return None
    triangles = triangles[inside(flat, points[triangles].mean(axis=1))]
    a, b, c = (points[triangles[:, k]] for k in range(3))
    turn = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    triangles = np.where((turn < 0)[:, None], triangles[:, ::-1], triangles)
    k = len(flat)
    # Closed and two-manifold only if each side is met once, and every other edge from both sides.
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    keys = np.sort(edges, axis=1)
    unique, counts = np.unique(keys, axis=0, return_counts=True)
    sides = np.sort(np.stack([np.arange(k), (np.arange(k) + 1) % k], -1), axis=1)
    single = {tuple(e) for e in unique[counts == 1].tolist()}
    if single != {tuple(e) for e in sides.tolist()} or (counts > 2).any():
        return None
    used = np.zeros(len(points), bool)
    used[triangles.reshape(-1)] = True
    return triangles if used.all() else None


def _fan(rim: F64) -> tuple[F64, I32]:
    """Rings that shrink to the middle: for rims that do not lie flat."""
    k = len(rim)
    middle = rim.mean(axis=0)
    edge = float(np.linalg.norm(rim - np.roll(rim, -1, 0), axis=1).mean())
    far = float(np.linalg.norm(rim - middle, axis=1).mean())
    rings = int(np.clip(round(far / max(edge, 1e-12)), 1, 200))
    points = [rim + (middle - rim) * (ring / rings) for ring in range(rings)]
    triangles = []
    j = np.arange(k)
    for ring in range(rings - 1):
        a, b = ring * k + j, ring * k + (j + 1) % k
        triangles += [np.stack([b, a, a + k], -1), np.stack([b, a + k, b + k], -1)]
    last = (rings - 1) * k
    triangles.append(np.stack([last + (j + 1) % k, last + j, np.full(k, rings * k)], -1))
    return np.concatenate([*points, middle[None]]), np.concatenate(triangles).astype(np.int32)


def _relax(points: F64, triangles: AnyArray, fixed: int) -> None:
    """New vertices to where a stretched skin would have them: the mean of their neighbours."""
    n = len(points)
    rows = triangles[:, [0, 1, 2, 1, 2, 0]].reshape(-1)
    columns = triangles[:, [1, 2, 0, 0, 1, 2]].reshape(-1)
    near = coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(n, n)).tocsr()
    near.data[:] = 1.0
    share = np.maximum(np.asarray(near.sum(axis=1)).ravel(), 1)[:, None]
    for _ in range(60):
        points[fixed:] = ((near @ points) / share)[fixed:]
