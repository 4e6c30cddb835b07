"""Seams: where the clay is cut to be laid flat. Along paths and loops of edges, borders, sharp edges, or found by itself.

Found by itself: a closed shell is opened along a path, and then again from where it is stretched most to the cut that is there
(Gu, Gortler and Hoppe: Geometry images, 2002), along hollows and what is hidden. What is stretched still, or comes to lie on itself, is parted.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import breadth_first_order, dijkstra, maximum_flow

from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.covered import covered
from kneten.core.mesh import Mesh
from kneten.core.regions import middles
from kneten.core.uv.islands import Edges, islands_of
from kneten.core.uv.measure import Laid, laid_over, measured, over_itself
from kneten.core.uv.unwrap import opened, unwrapped

HIDDEN = 0.8
"""How much cheaper a path is where the clay is wholly covered by itself, as a share."""

ROUNDS = 24
"""Cuts that are tried to be added at most."""

WORST = 0.995
"""Share of the surface that must be stretched less than is allowed."""

LEAST_FACES = 8

TAKEN_OFF = 4
"""Times that what lies over its own island is taken off it."""

KEPT = 0.35
"""Share of the way between an island's two ends up to which a face is that end's, when it is parted."""


def lengths(mesh: Mesh, edges: Edges) -> F64:
    """How long the edges are, (m,)."""
    p = mesh.positions.astype(np.float64)
    return np.asarray(np.linalg.norm(p[edges.ends[:, 0]] - p[edges.ends[:, 1]], axis=1))


def graph_of(mesh: Mesh, edges: Edges, cost: F64) -> csr_matrix:
    """The vertices, joined by edges of a cost (m,) each."""
    n = mesh.n_vertices
    return coo_matrix((cost + 1e-12, tuple(edges.ends.T)), shape=(n, n)).tocsr()


def way_between(mesh: Mesh, edges: Edges, a: int, b: int) -> AnyArray:
    """The numbers (k,) of the edges on the shortest way between two vertices; none where there is no way."""
    graph = graph_of(mesh, edges, lengths(mesh, edges))
    _, up = dijkstra(graph, directed=False, indices=a, return_predecessors=True)
    return _way_back(edges, up, b)


def _way_back(edges: Edges, up: AnyArray, end: int) -> AnyArray:
    way = [end]
    while up[way[-1]] >= 0:
        way.append(int(up[way[-1]]))
    return named(edges, np.stack([way[:-1], way[1:]], axis=1).reshape(-1, 2))


def named(edges: Edges, pairs: AnyArray) -> AnyArray:
    """The numbers (k,) of edges by the vertices (k, 2) at their ends, which must be there."""
    n = int(edges.ends.max(initial=0)) + 1
    keys = edges.ends.min(axis=1).astype(np.int64) * n + edges.ends.max(axis=1)
    order = np.argsort(keys)
    wanted = pairs.min(axis=1).astype(np.int64) * n + pairs.max(axis=1)
    return np.asarray(order[np.searchsorted(keys[order], wanted)])


def loop_of(mesh: Mesh, edges: Edges, edge: int) -> AnyArray:
    """The numbers (k,) of the edges that go straight on from one, both ways, where four meet; along a border where it is open."""
    shape = mesh.topology
    around: dict[int, list[int]] = {}

    def at(v: int) -> list[int]:
        if v not in around:
            rows = shape.ring_faces[slice(*shape.ring[v])]
            near = np.unique(edges.of_face[rows][shape.faces[rows] >= 0])
            around[v] = [int(e) for e in near if v in edges.ends[e]]
        return around[v]

    found = [edge]
    seen = {edge}
    for start in (0, 1):
        e, v = edge, int(edges.ends[edge, start])
        while True:
            others = at(v)
            own = set(edges.sides[e].tolist())
            if edges.sides[e, 1] < 0:
                on = [o for o in others if o != e and edges.sides[o, 1] < 0]
                follow = on[0] if len(on) == 1 else -1
            elif len(others) == 4 and not shape.border[v]:
                on = [o for o in others if not own & set(edges.sides[o].tolist())]
                follow = on[0] if len(on) == 1 else -1
            else:
                follow = -1
            if follow < 0 or follow in seen:
                break
            seen.add(follow)
            found.append(follow)
            e = follow
            v = int(edges.ends[e, 0] if edges.ends[e, 1] == v else edges.ends[e, 1])
    return np.array(found)


def region_borders(mesh: Mesh, edges: Edges) -> AnyArray:
    """Which edges lie between two regions, (m,) bool."""
    if mesh.regions is None:
        return np.zeros(len(edges.ends), bool)
    a, b = edges.sides.T
    return np.asarray(edges.inner & (mesh.regions[a] != mesh.regions[np.maximum(b, 0)]))


def face_normals(mesh: Mesh) -> F64:
    """The way each face looks, (f, 3), of length one."""
    faces = mesh.topology.faces
    p = mesh.positions.astype(np.float64)
    last = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 0])
    out = np.cross(p[faces[:, 2]] - p[faces[:, 0]], p[last] - p[faces[:, 1]])
    return np.asarray(out / np.maximum(np.linalg.norm(out, axis=1), 1e-30)[:, None])


def sharp(mesh: Mesh, edges: Edges, degrees: float) -> AnyArray:
    """Which edges turn by so much or more, (m,) bool."""
    n = face_normals(mesh)
    cosine = np.einsum("md,md->m", n[edges.sides[:, 0]], n[np.maximum(edges.sides[:, 1], 0)])
    return np.asarray(edges.inner & (cosine <= np.cos(np.radians(degrees)) + 1e-6))


def path_costs(mesh: Mesh, edges: Edges, progress: Progress) -> F64:
    """What a seam costs along each edge, (m,): its length, less where the clay covers itself or is hollow."""
    dark = covered(mesh, progress)[edges.ends].mean(axis=1)
    n = face_normals(mesh)
    p = mesh.positions.astype(np.float64)
    a, b = edges.sides[:, 0], np.maximum(edges.sides[:, 1], 0)
    turned = n[a] - n[b]
    across = p[edges.ends].mean(axis=1) - middles(mesh)[b]
    # Hollow: the face on the other side rises over this one's plane.
    hollow = np.clip(np.einsum("md,md->m", -turned, across) / np.maximum(np.linalg.norm(across, axis=1), 1e-30), 0, 1)  # fmt: skip
    return np.asarray(lengths(mesh, edges) * (1 - HIDDEN * np.clip(dark + hollow, 0, 1)))


def found_seams(mesh: Mesh, edges: Edges, start: AnyArray, allowed: float, progress: Progress) -> AnyArray:
    """Seams that leave no more stretch than is allowed.

    Parameters
    ----------
    start : (m,) bool
        Seams that are there already.
    allowed : float
        By what factor lengths may differ from the usual.

    Returns
    -------
    (m,) bool
        Those at the start and more.

    Raises
    ------
    Cancelled
        Through `progress`.
    """
    progress.report(0.0, "Looking where seams are hidden")
    cost = path_costs(mesh, edges, progress)
    seams, _ = opened(mesh, edges, start, cost)
    settled = np.zeros(mesh.topology.n_faces, bool)
    kept = np.zeros((mesh.topology.n_faces, 8), np.float32)
    tried: set[int] = set()
    for k in range(ROUNDS):
        progress.report(0.1 + 0.9 * k / ROUNDS, "Looking for seams")
        islands = islands_of(mesh.topology, edges, seams)
        flat = unwrapped(mesh, seams, Progress(), edges, only=~settled)
        trial = mesh.with_positions(mesh.positions)
        trial.uv = flat.uv
        laid, changed = measured(trial), False
        for number, rows in enumerate(islands.members()):
            if settled[rows].all():
                continue
            added = _one_more(trial, edges, seams, cost, laid, rows, allowed, tried)
            if added is None or number > 512:
                settled[rows] = True
                kept[rows] = flat.uv[rows]
            else:
                seams, changed = seams | added, True
        if not changed:
            break
    if not settled.all():
        kept[~settled] = unwrapped(mesh, seams, Progress(), edges, only=~settled).uv[~settled]
    return taken_off(mesh, edges, seams, kept)


def taken_off(mesh: Mesh, edges: Edges, seams: AnyArray, uv: F32) -> AnyArray:
    """Seams (m,) with what still lies over its own island taken off it; `uv` (f, 8) is how all lies with those that there are."""
    faces, uv = mesh.topology.faces, uv.copy()
    looked = np.zeros(len(faces), bool)
    for _ in range(TAKEN_OFF):
        over, anew = np.zeros(len(faces), bool), np.zeros(len(faces), bool)
        for rows in islands_of(mesh.topology, edges, seams).members():
            if looked[rows].all() or len(rows) < LEAST_FACES:
                continue
            over[rows] = over_itself(uv[rows], faces[rows])
            anew[rows] = over[rows].any()
        if not over.any():
            break
        seams = seams | (edges.inner & (over[edges.sides[:, 0]] != over[np.maximum(edges.sides[:, 1], 0)]))
        looked = ~anew
        uv[anew] = unwrapped(mesh, seams, Progress(), edges, only=anew).uv[anew]
    return seams


def _one_more(
    mesh: Mesh,
    edges: Edges,
    seams: AnyArray,
    cost: F64,
    laid: Laid,
    rows: AnyArray,
    allowed: float,
    tried: set[int],
) -> AnyArray | None:
    """Edges (m,) to cut of an island that is stretched too much; None where it is not, or cannot be helped."""
    if len(rows) < LEAST_FACES:
        return None
    own = np.zeros(mesh.topology.n_faces, bool)
    own[rows] = True
    area, off = laid.area[rows], np.abs(np.log(np.maximum(laid.size[rows], 1e-6)))
    off = np.maximum(off, np.log(np.maximum(laid.skew[rows], 1)) / 2)
    order = np.argsort(off)
    share = np.cumsum(area[order]) / max(area.sum(), 1e-30)
    worst = off[order[min(int(np.searchsorted(share, WORST)), len(order) - 1)]]
    assert mesh.uv is not None
    if laid_over(mesh.uv[rows], mesh.topology.faces[rows]):
        return _parted(mesh, edges, seams, cost, own)
    if worst <= np.log(allowed):
        return None
    # From where it is worst, by the mean around it, to the cut that is nearest.
    at = np.zeros(mesh.n_vertices)
    weight = np.zeros(mesh.n_vertices)
    for c in range(4):
        v = mesh.topology.faces[rows, c]
        has = v >= 0
        np.add.at(at, v[has], off[has])
        np.add.at(weight, v[has], 1)
    mean = np.where(weight > 0, at / np.maximum(weight, 1), -1)
    rim = np.zeros(mesh.n_vertices, bool)
    rim[edges.ends[(seams | ~edges.inner) & own[edges.sides[:, 0]]].reshape(-1)] = True
    rim[edges.ends[(seams | ~edges.inner) & own[np.maximum(edges.sides[:, 1], 0)]].reshape(-1)] = True
    for v in np.argsort(-np.where(rim, -1, mean))[:8].tolist():
        if rim[v] or mean[v] <= 0 or v in tried:
            continue
        tried.add(v)
        inner = own[edges.sides[:, 0]] & own[np.maximum(edges.sides[:, 1], 0)] & edges.inner
        graph = graph_of(mesh, edges, np.where(inner, cost, 1e12))
        far, up = dijkstra(graph, directed=False, indices=v, return_predecessors=True)
        end = int(np.argmin(np.where(rim, far, np.inf)))
        way = _way_back(edges, up, end)
        if len(way) >= 2:
            out = np.zeros(len(seams), bool)
            out[way] = True
            return out
        break
    return _parted(mesh, edges, seams, cost, own)


def _parted(mesh: Mesh, edges: Edges, seams: AnyArray, cost: F64, own: AnyArray) -> AnyArray | None:
    """Edges (m,) that part an island in two about alike: what is nearer to each of two faces far apart."""
    a, b = edges.sides[:, 0], np.maximum(edges.sides[:, 1], 0)
    inner = edges.inner & ~seams & own[a] & own[b]
    n = face_normals(mesh)
    at = middles(mesh)
    bend = 1 - np.einsum("md,md->m", n[a], n[b])
    long = np.linalg.norm(at[a] - at[b], axis=1)
    # Faces across a hollow or hidden edge are far from each other: the border between the halves will lie there.
    hidden = 1 - cost / np.maximum(lengths(mesh, edges), 1e-30)
    far = long * (1 + 4 * bend + 4 * hidden)
    rows = np.flatnonzero(own)
    graph = coo_matrix((far[inner] + 1e-12, (a[inner], b[inner])), shape=(len(own),) * 2).tocsr()
    one = int(rows[0])
    for _ in range(2):
        reach = dijkstra(graph, directed=False, indices=one)
        other, one = one, int(rows[np.argmax(np.where(np.isfinite(reach[rows]), reach[rows], -1))])
    two = other
    near = dijkstra(graph, directed=False, indices=[one, two])
    # The border lies where it is shortest, in the middle: a cut through the faces that are neither's for sure.
    reached = np.isfinite(near[0])
    ahead = np.where(reached, near[0], 0) / np.maximum(np.where(reached, near[0] + near[1], 1), 1e-30)
    where = np.flatnonzero(inner)
    n_faces = len(own)
    ends = np.concatenate([np.stack([a[where], b[where]]), np.stack([b[where], a[where]])], axis=1)
    tight = np.maximum(np.rint(np.tile(cost[where] / max(float(cost[where].mean()), 1e-30), 2) * 100), 1)
    first, last = rows[ahead[rows] < KEPT], rows[ahead[rows] > 1 - KEPT]
    sure = np.full(len(first) + len(last), 2**28)
    begin = np.concatenate([ends[0], np.full(len(first), n_faces), last])
    end = np.concatenate([ends[1], first, np.full(len(last), n_faces + 1)])
    flow = coo_matrix((np.concatenate([tight, sure]).astype(np.int32), (begin, end)), shape=(n_faces + 2,) * 2).tocsr()  # fmt: skip
    left = flow - maximum_flow(flow, n_faces, n_faces + 1).flow
    left.data[left.data <= 0] = 0
    left.eliminate_zeros()
    side = np.zeros(n_faces + 2, bool)
    side[breadth_first_order(left, n_faces, return_predecessors=False)] = True
    out = inner & (side[a] != side[b])
    return out if out.any() else None
