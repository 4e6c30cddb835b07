"""Clay taken apart: by label, by connection; and the holes that leaves, filled."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import Delaunay, cKDTree

from kneten.core.arrays import F64, I32, AnyArray, Progress
from kneten.core.masks import blurred
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.values import VALUES, of_round_faces, put_together, rows_of, staying, taken_round

EVENING = 3
"""Rounds over which the border between labels is straightened."""


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
        labels = _evened(mesh, labels)
        corner = labels[np.maximum(faces, 0)].astype(np.int64)
        # Two corners that agree decide; otherwise the first.
        of_face = np.where(
            (corner[:, 1] == corner[:, 2]) & (corner[:, 0] != corner[:, 1]), corner[:, 1], corner[:, 0]
        )
    kinds = np.unique(of_face)
    found = {}
    for count, kind in enumerate(kinds):
        progress.report(count / len(kinds), "Taking apart")
        found[int(kind)] = filled(_without_ears(picked(mesh, of_face == kind)))
    return found


def _without_ears(mesh: Mesh) -> Mesh:
    """Open clay without corners that only one face holds: a skin over the hole would lie on that face a second time."""
    while True:
        shape = mesh.topology
        alone = (shape.ring[:, 1] - shape.ring[:, 0] == 1) & (shape.border > 0)
        faces = shape.faces
        ears = alone[np.maximum(faces, 0)] & (faces >= 0)
        many = ears.sum(axis=1)
        if not many.any():
            return mesh
        cut = (many == 1) & (faces[:, 3] >= 0)
        kept = faces.copy()
        corners = np.where(faces >= 0, np.arange(4), -1)
        for corner in range(4):
            some = cut & ears[:, corner]
            left = [(corner + 1) % 4, (corner + 2) % 4, (corner + 3) % 4]
            kept[some, :3] = faces[some][:, left]
            kept[some, 3] = -1
            corners[some] = [*left, -1]
        # Of a triangle, and of a face that stands out like a tooth, nothing is left.
        there = (many == 0) | cut
        if not there.any():
            return mesh
        used = np.unique(kept[there])
        used = used[used >= 0]
        names = np.full(mesh.n_vertices + 1, -1, np.int32)
        names[used] = np.arange(len(used))
        values = staying(mesh.values())
        values |= taken_round(of_round_faces(values), corners, (faces >= 0).sum(axis=1))
        values = rows_of(values, used, there)
        mesh = Mesh.from_faces(mesh.positions[used], names[kept[there]], **values)


def _evened(mesh: Mesh, labels: AnyArray) -> AnyArray:
    """Labels (n,) whose borders run straight: where they wander, pieces would hang together by single corners."""
    kinds = np.unique(labels)
    best = np.full(len(labels), -1.0, np.float32)
    out = labels.copy()
    for kind in kinds:
        share = blurred(mesh, (labels == kind).astype(np.float32), EVENING)
        out[share > best] = kind
        best = np.maximum(best, share)
    return out


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
            near.append(loop[cKDTree(rim).query(new)[1]])
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
    for _ in range(4):
        if triangles is not None:
            break
        # A side that is missing has new points too near to it.
        fewer = _clear_of_sides(flat, inner)
        if len(fewer) == len(inner):
            break
        inner, triangles = fewer, _within(flat, fewer)
    if triangles is None:
        return _shrunk(rim)
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


def _clear_of_sides(flat: F64, inner: F64) -> F64:
    """New points that lie in none of the circles over a polygon's sides: those would cut the sides."""
    other = np.roll(flat, -1, 0)
    held = cKDTree(inner) if len(inner) else None
    if held is None:
        return inner
    near = held.query_ball_point((flat + other) / 2, np.linalg.norm(other - flat, axis=1) / 2)
    gone = np.zeros(len(inner), bool)
    gone[np.array([i for rows in near for i in rows], np.int64)] = True
    return inner[~gone]


def inside(polygon: F64, points: F64) -> AnyArray:
    """Whether points (n, 2) lie within a polygon (k, 2), by the even-odd rule."""
    a, b = polygon, np.roll(polygon, -1, 0)
    # Upwards, each side meets only the points between its ends' heights.
    order = np.argsort(points[:, 1], kind="stable")
    x, y = points[order, 0], points[order, 1]
    first = np.searchsorted(y, np.minimum(a[:, 1], b[:, 1]), side="left")
    last = np.searchsorted(y, np.maximum(a[:, 1], b[:, 1]), side="left")
    found = np.zeros(len(points), bool)
    for k in np.flatnonzero(first < last):
        (ax, ay), (bx, by), rows = a[k], b[k], slice(first[k], last[k])
        found[rows] ^= x[rows] < (bx - ax) * (y[rows] - ay) / (by - ay) + ax
    out = np.empty(len(points), bool)
    out[order] = found
    return out


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


def _shrunk(rim: F64) -> tuple[F64, I32]:
    """Rings that shrink to the middle, with fewer vertices the shorter they are: for rims that do not lie flat."""
    k = len(rim)
    middle = rim.mean(axis=0)
    edge = float(np.linalg.norm(rim - np.roll(rim, -1, 0), axis=1).mean())
    far = float(np.linalg.norm(rim - middle, axis=1).mean())
    rings = int(np.clip(round(far / max(edge, 1e-12)), 1, 200))
    points, triangles = [rim], []
    before, first, share = k, 0, 1.0
    while before > 1:
        share = max(share - 1 / rings, share / 2)
        # No ring has less than half of the last one's vertices: none gets many triangles.
        count = max(round(k * share), (before + 1) // 2, 3) if before > 6 else 1
        at = np.arange(count) * (k / count)
        low = at.astype(int)
        between = rim[low % k] + (rim[(low + 1) % k] - rim[low % k]) * (at - low)[:, None]
        points.append(middle + (between - middle) * share if count > 1 else middle[None])
        triangles.append(_zipped(before, count, first, first + before))
        first, before = first + before, count
    found = np.concatenate(points)
    made = np.concatenate(triangles).astype(np.int32)
    _relax(found, made, k)
    return found, made


def _zipped(many: int, few: int, outer: int, inner: int) -> AnyArray:
    """Triangles (t, 3) between two rings by their vertices' shares of the way round; one vertex closes the hole."""
    if few == 1:
        here = np.arange(many)
        return np.stack([outer + (here + 1) % many, outer + here, np.full(many, inner)], -1)
    out = []
    i = j = 0
    while i < many or j < few:
        # Whichever ring's next vertex comes first goes on.
        if j >= few or (i < many and (i + 1) / many <= (j + 1) / few):
            out.append((outer + (i + 1) % many, outer + i, inner + j % few))
            i += 1
        else:
            out.append((inner + (j + 1) % few, outer + i % many, inner + j))
            j += 1
    return np.array(out)


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
