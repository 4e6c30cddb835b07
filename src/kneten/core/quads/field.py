"""Fields of crosses and of places over a ground of triangles: where quads point, and where their corners lie.

Both are smoothed vertex by vertex, first on a coarse graph of few vertices, then on finer ones (Jakob, Tarini, Panozzo and
Sorkine-Hornung 2015). A *cross* is a direction in the plane of a vertex that counts the same when it is turned by 90 degrees; a
*place* is a corner of a lattice along the cross that counts the same when it is shifted by whole edges.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix

from kneten.core.arrays import F64, I32, I64, U8, Progress, kernel
from kneten.core.quads.ground import vertex_normals
from kneten.core.quads.halves import Halves

FEWEST = 64
"""Vertices of the coarsest graph."""

TURNS = 8
"""Times that each graph is smoothed."""


@dataclass
class Graph:
    """Vertices with neighbours, on one step of a ladder of such.

    Attributes
    ----------
    points, normals : (n, 3) float64
    areas, sizes : (n,) float64
        What each stands for, and how long an edge of a quad is to be there.
    start : (n + 1,) int32
    to : (k,) int32
    weights : (k,) float64
        Neighbours, and how much each counts.
    held : (n,) uint8
        1 where the cross is fixed, on a line; 2 at a corner, where the place is, too.
    ways : (n, 3) float64
        Those crosses, with the lines.
    into : (n,) int32 or None
        The vertex of the next graph that each goes into.
    """

    points: F64
    normals: F64
    areas: F64
    sizes: F64
    start: I32
    to: I32
    weights: F64
    held: U8
    ways: F64
    into: I32 | None = None


@dataclass(frozen=True)
class Field:
    """What quads are read off.

    Attributes
    ----------
    crosses, places : (n, 3) float64
        At the vertices of the ground.
    """

    crosses: F64
    places: F64


def graph_of(work: Halves, sizes: F64) -> Graph:
    """The finest graph: the ground's own vertices, with edges as long as `sizes` (n,) wanted."""
    n = len(work.points)
    triangles = work.triangles
    normals = vertex_normals(work.points, triangles)
    a, b, c = (work.points[triangles[:, k]] for k in range(3))
    size = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6
    areas = np.bincount(triangles.reshape(-1), np.repeat(size, 3), n)
    once, one, two = work.edges()
    ones = np.ones(len(one))
    table = coo_matrix((np.concatenate([ones, ones]), (np.concatenate([one, two]), np.concatenate([two, one]))), (n, n)).tocsr()  # fmt: skip
    counts = work.line_counts()
    held = np.where(counts == 0, 0, np.where(counts == 2, 1, 2)).astype(np.uint8)
    ways = _line_ways(work, once, normals, held)
    return Graph(work.points, normals, np.maximum(areas, 1e-300), sizes, table.indptr, table.indices, table.data, held, ways)  # fmt: skip


SHARP_TURN = 0.5
"""A line that turns by more than 60 degrees has a corner there."""


def _line_ways(work: Halves, once: I32, normals: F64, held: U8) -> F64:
    """The direction of lines at vertices on them (n, 3); sharp turns become corners in `held`."""
    n = len(held)
    on = once[(work.mark[once] > 0) | (work.opp[once] < 0)]
    a, b = work.at[on], work.ends[on]
    way = work.points[b] - work.points[a]
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-300)
    ways = np.zeros((n, 3))
    ends, both = np.concatenate([a, b]), np.concatenate([way, -way])
    order = np.argsort(ends, kind="stable")
    ends, both = ends[order], both[order]
    first = np.flatnonzero(np.diff(np.concatenate([[-1], ends])))
    two = held[ends[first]] == 1
    i = first[two]
    # Away from the vertex on both sides: they point apart where the line goes straight on.
    straight = -(both[i] * both[i + 1]).sum(1)
    held[ends[i[straight < SHARP_TURN]]] = 2
    ways[ends[i]] = both[i] - both[i + 1]
    rest = first[~two]
    ways[ends[rest]] = both[rest]
    ways -= (ways * normals).sum(1, keepdims=True) * normals
    return np.asarray(ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-300))


@kernel
def _matched(order: I64, a: I32, b: I32, into: I32) -> int:
    """Join the ends of edges, the likest first, each vertex once; returns how many vertices that gives."""
    n = 0
    for k in range(order.shape[0]):
        i, j = a[order[k]], b[order[k]]
        if into[i] < 0 and into[j] < 0:
            into[i] = n
            into[j] = n
            n += 1
    for i in range(into.shape[0]):
        if into[i] < 0:
            into[i] = n
            n += 1
    return n


def coarser(graph: Graph) -> Graph:
    """The graph in which each vertex is two of this one's that are alike; it says in `into` which."""
    n = len(graph.points)
    rows = np.repeat(np.arange(n, dtype=np.int32), np.diff(graph.start))
    once = rows < graph.to
    a, b = rows[once], graph.to[once]
    ratio = graph.areas[a] / graph.areas[b]
    like = (graph.normals[a] * graph.normals[b]).sum(1) * np.minimum(ratio, 1 / ratio)
    graph.into = np.full(n, -1, np.int32)
    count = _matched(np.argsort(-like, kind="stable"), a, b, graph.into)
    pool = csr_matrix((np.ones(n), (graph.into, np.arange(n))), (count, n))
    areas = pool @ graph.areas

    def mean(values: F64) -> F64:
        return np.asarray((pool @ (values * graph.areas[:, None])) / areas[:, None])

    normals = mean(graph.normals)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    table = (pool @ csr_matrix((graph.weights, graph.to, graph.start), (n, n)) @ pool.T).tocsr()
    table.setdiag(0)
    table.eliminate_zeros()
    held = np.zeros(count, np.uint8)
    fixed = np.flatnonzero(graph.held)
    held[graph.into[fixed]] = 1
    ways = np.zeros((count, 3))
    ways[graph.into[fixed]] = graph.ways[fixed]
    ways -= (ways * normals).sum(1, keepdims=True) * normals
    ways /= np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-300)
    return Graph(
        mean(graph.points), normals, areas, mean(graph.sizes[:, None])[:, 0],
        table.indptr, table.indices, table.data, held, ways,
    )  # fmt: skip


def ladder(graph: Graph) -> list[Graph]:
    """A graph and coarser ones of it, the finest first."""
    graphs = [graph]
    while len(graphs[-1].points) > FEWEST:
        graphs.append(coarser(graphs[-1]))
        if len(graphs[-1].points) > 0.95 * len(graphs[-2].points):
            break
    return graphs


@kernel
def _smooth_crosses(
    normals: F64, start: I32, to: I32, weights: F64, held: U8, crosses: F64, turns: int
) -> None:
    q = np.empty(3)
    for _ in range(turns):
        for i in range(normals.shape[0]):
            if held[i] != 0:
                continue
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            q[0], q[1], q[2] = crosses[i, 0], crosses[i, 1], crosses[i, 2]
            total = 0.0
            for k in range(start[i], start[i + 1]):
                j = to[k]
                w = weights[k]
                # The pair of arms, one of each cross, that point alike best.
                tx, ty, tz = ny * q[2] - nz * q[1], nz * q[0] - nx * q[2], nx * q[1] - ny * q[0]
                jx, jy, jz = crosses[j, 0], crosses[j, 1], crosses[j, 2]
                ux = normals[j, 1] * jz - normals[j, 2] * jy
                uy = normals[j, 2] * jx - normals[j, 0] * jz
                uz = normals[j, 0] * jy - normals[j, 1] * jx
                qq = q[0] * jx + q[1] * jy + q[2] * jz
                qu = q[0] * ux + q[1] * uy + q[2] * uz
                tq = tx * jx + ty * jy + tz * jz
                tu = tx * ux + ty * uy + tz * uz
                best = max(max(abs(qq), abs(qu)), max(abs(tq), abs(tu)))
                ax, ay, az = q[0], q[1], q[2]
                bx, by, bz, sign = jx, jy, jz, qq
                if best == abs(qu):
                    bx, by, bz, sign = ux, uy, uz, qu
                elif best == abs(tq):
                    ax, ay, az, sign = tx, ty, tz, tq
                elif best == abs(tu):
                    ax, ay, az = tx, ty, tz
                    bx, by, bz, sign = ux, uy, uz, tu
                if sign < 0.0:
                    w = -w
                q[0] = ax * total + bx * w
                q[1] = ay * total + by * w
                q[2] = az * total + bz * w
                total += abs(w)
                off = q[0] * nx + q[1] * ny + q[2] * nz
                q[0] -= off * nx
                q[1] -= off * ny
                q[2] -= off * nz
                size = np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2])
                if size > 1e-12:
                    q[0] /= size
                    q[1] /= size
                    q[2] /= size
            if np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2]) > 0.5:
                crosses[i, 0], crosses[i, 1], crosses[i, 2] = q[0], q[1], q[2]


@kernel
def like_arms(na: F64, qa: F64, nb: F64, qb: F64, out: F64) -> None:
    """The arms of two crosses that point alike best, into the two rows of `out` (2, 3)."""
    best = -1.0
    for i in range(2):
        for j in range(2):
            ax, ay, az = qa[0], qa[1], qa[2]
            if i == 1:
                ax, ay, az = (
                    na[1] * qa[2] - na[2] * qa[1],
                    na[2] * qa[0] - na[0] * qa[2],
                    na[0] * qa[1] - na[1] * qa[0],
                )
            bx, by, bz = qb[0], qb[1], qb[2]
            if j == 1:
                bx, by, bz = (
                    nb[1] * qb[2] - nb[2] * qb[1],
                    nb[2] * qb[0] - nb[0] * qb[2],
                    nb[0] * qb[1] - nb[1] * qb[0],
                )
            dot = ax * bx + ay * by + az * bz
            if abs(dot) > best:
                best = abs(dot)
                s = 1.0 if dot > 0.0 else -1.0
                out[0, 0], out[0, 1], out[0, 2] = ax, ay, az
                out[1, 0], out[1, 1], out[1, 2] = s * bx, s * by, s * bz


@kernel
def _between(pa: F64, na: F64, pb: F64, nb: F64, out: F64) -> None:
    """The point in the planes of two vertices that is nearest to both."""
    aa, ab = 0.0, 0.0
    ba, bb, n = 0.0, 0.0, 0.0
    for k in range(3):
        aa += na[k] * pa[k]
        ab += na[k] * pb[k]
        ba += nb[k] * pa[k]
        bb += nb[k] * pb[k]
        n += na[k] * nb[k]
    scale = 1.0 / (1.0 - n * n + 1e-4)
    la = 2.0 * (ab - aa - n * (ba - bb)) * scale
    lb = 2.0 * (ba - bb - n * (ab - aa)) * scale
    for k in range(3):
        out[k] = 0.5 * (pa[k] + pb[k]) - 0.25 * (na[k] * la + nb[k] * lb)


@kernel
def like_places(
    pa: F64, na: F64, qa: F64, oa: F64, pb: F64, nb: F64, qb: F64, ob: F64, size: float, arms: F64, mid: F64, out: F64, steps: I64
) -> float:  # fmt: skip
    """Shift the places of two vertices by whole edges until they lie nearest to each other.

    Parameters
    ----------
    arms : (2, 3) float64
        The arms of their crosses that go together.
    out : (2, 3) float64
        Where the two places come to lie.
    steps : (2, 2) int64
        By how many edges along arm and across each was shifted.

    Returns
    -------
    float
        The squared distance then.
    """
    _between(pa, na, pb, nb, mid)
    inv = 1.0 / size
    across = np.empty((2, 3))
    for s in range(2):
        x, y, z = (na[0], na[1], na[2]) if s == 0 else (nb[0], nb[1], nb[2])
        across[s, 0] = y * arms[s, 2] - z * arms[s, 1]
        across[s, 1] = z * arms[s, 0] - x * arms[s, 2]
        across[s, 2] = x * arms[s, 1] - y * arms[s, 0]
    base = np.empty((2, 3))
    low = np.empty((2, 2), np.int64)
    for s in range(2):
        du, dv = 0.0, 0.0
        for k in range(3):
            d = mid[k] - (oa[k] if s == 0 else ob[k])
            du += d * arms[s, k]
            dv += d * across[s, k]
        low[s, 0] = np.int64(np.floor(du * inv))
        low[s, 1] = np.int64(np.floor(dv * inv))
        for k in range(3):
            o = oa[k] if s == 0 else ob[k]
            base[s, k] = o + size * (low[s, 0] * arms[s, k] + low[s, 1] * across[s, k])
    best = np.inf
    for i in range(4):
        for j in range(4):
            far = 0.0
            for k in range(3):
                a = base[0, k] + size * ((i & 1) * arms[0, k] + (i >> 1) * across[0, k])
                b = base[1, k] + size * ((j & 1) * arms[1, k] + (j >> 1) * across[1, k])
                far += (a - b) * (a - b)
            if far < best:
                best = far
                steps[0, 0], steps[0, 1] = low[0, 0] + (i & 1), low[0, 1] + (i >> 1)
                steps[1, 0], steps[1, 1] = low[1, 0] + (j & 1), low[1, 1] + (j >> 1)
                for k in range(3):
                    out[0, k] = base[0, k] + size * ((i & 1) * arms[0, k] + (i >> 1) * across[0, k])
                    out[1, k] = base[1, k] + size * ((j & 1) * arms[1, k] + (j >> 1) * across[1, k])
    return best


@kernel
def _nearest_corner(o: F64, p: F64, n: F64, q: F64, size: float) -> None:
    """Shift a place by whole edges until it is as near to its vertex as can be."""
    tx, ty, tz = n[1] * q[2] - n[2] * q[1], n[2] * q[0] - n[0] * q[2], n[0] * q[1] - n[1] * q[0]
    du = (p[0] - o[0]) * q[0] + (p[1] - o[1]) * q[1] + (p[2] - o[2]) * q[2]
    dv = (p[0] - o[0]) * tx + (p[1] - o[1]) * ty + (p[2] - o[2]) * tz
    u, v = size * np.round(du / size), size * np.round(dv / size)
    o[0] += u * q[0] + v * tx
    o[1] += u * q[1] + v * ty
    o[2] += u * q[2] + v * tz


@kernel
def _smooth_places(
    points: F64, normals: F64, crosses: F64, sizes: F64, start: I32, to: I32, weights: F64, held: U8, places: F64, turns: int
) -> None:  # fmt: skip
    arms, out, steps, mid = np.empty((2, 3)), np.empty((2, 3)), np.empty((2, 2), np.int64), np.empty(3)
    o = np.empty(3)
    for _ in range(turns):
        for i in range(points.shape[0]):
            if held[i] == 2:
                continue
            total = 0.0
            for k in range(3):
                o[k] = places[i, k]
            for e in range(start[i], start[i + 1]):
                j = to[e]
                w = weights[e]
                if held[i] == 1 and held[j] == 0:
                    # Lines settle among themselves, and all else by them.
                    w *= 0.05
                elif held[j] != 0:
                    w *= 4.0
                size = 0.5 * (sizes[i] + sizes[j])
                like_arms(normals[i], crosses[i], normals[j], crosses[j], arms)
                like_places(
                    points[i], normals[i], crosses[i], o, points[j], normals[j], crosses[j], places[j], size, arms, mid, out, steps
                )  # fmt: skip
                off = 0.0
                for k in range(3):
                    o[k] = (out[0, k] * total + out[1, k] * w) / (total + w)
                    off += (o[k] - points[i, k]) * normals[i, k]
                total += w
                for k in range(3):
                    o[k] -= off * normals[i, k]
            if held[i] == 1:
                along = 0.0
                for k in range(3):
                    along += (o[k] - points[i, k]) * crosses[i, k]
                for k in range(3):
                    o[k] = points[i, k] + along * crosses[i, k]
            _nearest_corner(o, points[i], normals[i], crosses[i], sizes[i])
            for k in range(3):
                places[i, k] = o[k]


def _begun(graph: Graph, random: np.random.Generator) -> F64:
    """Crosses (n, 3) at random, but where they are fixed."""
    way = random.standard_normal((len(graph.points), 3))
    return _in_plane(graph, way)


def _in_plane(graph: Graph, ways: F64) -> F64:
    way = ways - (ways * graph.normals).sum(1, keepdims=True) * graph.normals
    size = np.linalg.norm(way, axis=1, keepdims=True)
    # What points along the normal gets any direction across it.
    other = np.cross(
        graph.normals, np.where(np.abs(graph.normals[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]])
    )
    other /= np.maximum(np.linalg.norm(other, axis=1, keepdims=True), 1e-300)
    way = np.where(size > 1e-9, way / np.maximum(size, 1e-300), other)
    there = (graph.held != 0) & (np.abs(graph.ways).sum(1) > 0)
    way[there] = graph.ways[there]
    return np.ascontiguousarray(way)


def crosses_over(graphs: list[Graph], progress: Progress) -> F64:
    """Crosses (n, 3) at the vertices of the finest graph, smooth, along what is held."""
    random = np.random.default_rng(7)
    crosses = _begun(graphs[-1], random)
    for step in range(len(graphs) - 1, -1, -1):
        graph = graphs[step]
        progress.report(0.3 + 0.1 * (1 - step / len(graphs)), "Finding the flow")
        _smooth_crosses(graph.normals, graph.start, graph.to, graph.weights, graph.held, crosses, TURNS * 2)
        if step:
            crosses = _in_plane(graphs[step - 1], crosses[graphs[step - 1].into])
    return crosses


def crosses_on(graphs: list[Graph], crosses: F64) -> list[F64]:
    """Those crosses (n, 3) on each graph."""
    found = [crosses]
    for graph, next_ in itertools.pairwise(graphs):
        assert graph.into is not None
        # Of the two that went into a vertex, the one that stands for more.
        order = np.argsort(graph.areas, kind="stable")
        kept = np.zeros((len(next_.points), 3))
        kept[graph.into[order]] = found[-1][order]
        found.append(_in_plane(next_, kept))
    return found


def places_over(
    graphs: list[Graph], crosses: list[F64], scale: float, progress: Progress, share: tuple[float, float]
) -> F64:
    """Places (n, 3) at the vertices of the finest graph, for edges `scale` times as long as the graphs say."""
    places = graphs[-1].points.copy()
    for step in range(len(graphs) - 1, -1, -1):
        graph = graphs[step]
        progress.report(share[0] + (share[1] - share[0]) * (1 - step / len(graphs)), "Finding places")
        _smooth_places(
            graph.points, graph.normals, crosses[step], graph.sizes * scale, graph.start, graph.to, graph.weights,
            graph.held, places, TURNS,
        )  # fmt: skip
        if step:
            finer = graphs[step - 1]
            assert finer.into is not None
            places = places[finer.into]
            off = ((places - finer.points) * finer.normals).sum(1, keepdims=True)
            places = np.ascontiguousarray(places - off * finer.normals)
            fixed = finer.held == 2
            places[fixed] = finer.points[fixed]
    return places
